//! Slices, users of an error, and what is said of services.

use actix_web::{HttpRequest, HttpResponse, delete, get, put, web};
use chrono::Utc;
use outcrop_api::{
    EndpointWeight, ErrorQuery, NewSlice, PartItem, PartList, PartQuery, Problem, ServiceSettings, SliceItem,
    SliceList, UserItem, UserPage, UserQuery,
};
use outcrop_core::query::{Field, quoted};
use outcrop_core::telemetry::facts;
use outcrop_core::{query, source_link};
use outcrop_store::asking::parts;
use outcrop_store::errors::weights;
use outcrop_store::errors::weights::FACTORS;
use outcrop_store::people::settings;
use outcrop_store::people::settings::ServiceSetting;

use super::input::Body;
use super::query::{cursor, error_of, limit, read_cursor, scope, shared_predicate};
use super::viewer::{Seen, Viewer};
use crate::answers::unknown::unknown;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Values listed at once.
const VALUES: usize = 50;
/// Longest name of a slice or attribute, template or folder, in bytes.
const LONGEST: usize = 500;

/// What is said of parts by what agents say of themselves.
const CLAIM: &str = "as the senders claim it: a program can say anything of itself";

/// Lists the saved slices.
#[utoipa::path(operation_id = "list_slices", tag = "slices", responses((status = 200, body = SliceList)))]
#[get("/slices")]
pub(super) async fn list_slices(_viewer: Viewer, state: Seen) -> Result<web::Json<SliceList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { settings::slices(&database).await }).await?;
    let items = rows
        .into_iter()
        .map(|row| SliceItem {
            name: row.name,
            predicate: row.predicate,
            by: row.by,
            at: row.at,
        })
        .collect();
    Ok(web::Json(SliceList { items }))
}

/// Saves a slice, or changes the one of that name.
#[utoipa::path(operation_id = "save_slice", tag = "slices", params(("name" = String, Path, description = "Its \
    name")), request_body = NewSlice, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[put("/slices/{name}")]
pub(super) async fn save_slice(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<NewSlice>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let name = path.trim().to_owned();
    if name.is_empty() || name.len() > LONGEST {
        return Err(bad(format!("a slice needs a name of 1 to {LONGEST} bytes")));
    }
    let text = body.into_inner().predicate;
    let parsed = shared_predicate(&text)?;
    if parsed.tests().iter().any(|test| test.field == Field::Slice) {
        return Err(bad("a slice may not name another slice"));
    }
    let (database, by) = (state.database.clone(), viewer.email);
    state
        .on_main(async move { settings::save_slice(&database, &name, &text, &by).await })
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a slice.
#[utoipa::path(operation_id = "remove_slice", tag = "slices", params(("name" = String, Path, description = "Its \
    name")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/slices/{name}")]
pub(super) async fn remove_slice(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, name) = (state.database.clone(), path.clone());
    if state
        .on_main(async move { settings::remove_slice(&database, &name).await })
        .await?
    {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("there is no slice `{path}`")))
}

/// The values of a field over a window, with the errors, occurrences and users that fall to each.
#[utoipa::path(operation_id = "list_parts", tag = "slices", params(PartQuery), responses(
    (status = 200, body = PartList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/parts")]
pub(super) async fn list_parts(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<PartList>, ApiError> {
    let asked: PartQuery = parameters(request.query_string())?;
    let field = Field::of(asked.by.trim());
    let by = field.name().to_owned();
    if asked.by.trim().is_empty()
        || (field.is_of_error() && field != Field::Kind)
        || matches!(field, Field::State(_) | Field::Slice | Field::Trace)
    {
        return Err(bad(format!(
            "`{}` does not tell occurrences apart: give namespace, service, environment, version, endpoint, type, \
             kind, file, function, touches, group, customer, user or an attribute",
            asked.by
        )));
    }
    let window = ErrorQuery {
        service: asked.service,
        environment: asked.environment,
        version: asked.version,
        since: asked.since,
        from: asked.from,
        to: asked.to,
        predicate: asked.predicate,
        ..ErrorQuery::default()
    };
    let scope = scope(&window, &viewer, Utc::now())?;
    let database = state.database.clone();
    let rows_and_note = async move {
        let rows = parts::values(&database, &scope, &field, VALUES).await?;
        if !rows.is_empty() {
            let is_claimed = facts::names_of(field.name())
                .iter()
                .any(|name| facts::CLAIMED.contains(name));
            return Ok((rows, is_claimed.then(|| CLAIM.to_owned())));
        }
        let by = query::parse(&format!("{} is set", field.name())).ok();
        let note = unknown(&database, by.as_ref()).await?;
        Ok((
            rows,
            if note.is_some() {
                note
            } else {
                unknown(&database, scope.predicate.as_deref()).await?
            },
        ))
    };
    let (rows, note) = state.on_main(rows_and_note).await?;
    let items = rows
        .into_iter()
        .map(|row| PartItem {
            predicate: format!("{by} = {}", quoted(&row.value)),
            value: row.value,
            errors: row.errors,
            occurrences: row.occurrences,
            users: row.users,
        })
        .collect();
    Ok(web::Json(PartList { by, items, note }))
}

/// The users an error hit.
#[utoipa::path(operation_id = "list_users", tag = "errors", params(("ref" = String, Path, description = "The error's \
    reference"), UserQuery), responses(
    (status = 200, body = UserPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/users")]
pub(super) async fn users_of_error(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<UserPage>, ApiError> {
    let asked: UserQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let limit = limit(asked.limit)?;
    let after = asked.cursor.as_deref().map(read_position).transpose()?;
    let window = ErrorQuery {
        environment: asked.environment,
        since: asked.since,
        from: asked.from,
        to: asked.to,
        predicate: asked.predicate,
        ..ErrorQuery::default()
    };
    let scope = scope(&window, &viewer, Utc::now())?;
    let database = state.database.clone();
    let fetched = i64::try_from(limit).unwrap_or(i64::MAX).saturating_add(1);
    let rows = state
        .on_main(async move { parts::users(&database, reference, &scope, after, fetched).await })
        .await?;
    let next = (rows.len() > limit)
        .then(|| {
            rows.get(limit - 1)
                .map(|last| cursor(&format!("{}:{}", last.occurrences, last.user)))
        })
        .flatten();
    let items = rows
        .into_iter()
        .take(limit)
        .map(|row| UserItem {
            predicate: format!("user = {}", quoted(&row.user)),
            user: row.user,
            occurrences: row.occurrences,
            first_seen: row.first_seen,
            last_seen: row.last_seen,
            errors: row.errors,
        })
        .collect();
    Ok(web::Json(UserPage { items, next }))
}

fn read_position(text: &str) -> Result<(i64, String), ApiError> {
    let text = read_cursor(text)?;
    let parts = text
        .split_once(':')
        .and_then(|(count, user)| Some((count.parse().ok()?, user.to_owned())));
    parts.ok_or_else(|| bad("the cursor is none of this list; take it from `next` of the page before"))
}

/// What is said of a service; `all` is said of every service that has nothing of its own.
#[utoipa::path(operation_id = "show_service_settings", tag = "services", params(("service" = String, Path,
    description = "The service, or `all`")), responses((status = 200, body = ServiceSettings)))]
#[get("/services/{service}/settings")]
pub(super) async fn show_settings(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<ServiceSettings>, ApiError> {
    let (database, service) = (state.database.clone(), path.into_inner());
    let (found, weighed) = state
        .on_main(async move {
            let own = settings::own(&database, Some(service.as_str()).filter(|name| *name != ALL));
            futures_util::try_join!(own, weights::of_service(&database, &service))
        })
        .await?;
    let ServiceSetting {
        source_url,
        source_root,
        instance_group,
        customer,
        keep_addresses,
    } = found;
    let (of_service, of_endpoints): (Vec<_>, Vec<_>) =
        weighed.into_iter().partition(|(endpoint, _)| endpoint.is_empty());
    Ok(web::Json(ServiceSettings {
        source_url,
        source_root,
        instance_group,
        customer,
        keep_addresses,
        weight: of_service.first().map(|(_, factor)| *factor),
        endpoint_weights: of_endpoints
            .into_iter()
            .map(|(endpoint, factor)| EndpointWeight { endpoint, factor })
            .collect(),
    }))
}

/// Weights of a service's endpoints: a list for people to read.
const MOST_WEIGHTS: usize = 100;

/// The name that stands for every service.
const ALL: &str = "all";

/// Says something of a service, or of `all`. What is left out is said no more.
#[utoipa::path(operation_id = "set_service_settings", tag = "services", params(("service" = String, Path,
    description = "The service, or `all`")), request_body = ServiceSettings, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[put("/services/{service}/settings")]
pub(super) async fn set_settings(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<ServiceSettings>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let body = body.into_inner();
    let said = |text: Option<String>| text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
    let setting = ServiceSetting {
        source_url: said(body.source_url),
        source_root: said(body.source_root),
        instance_group: said(body.instance_group),
        customer: said(body.customer),
        keep_addresses: body.keep_addresses,
    };
    let all = [
        &setting.source_url,
        &setting.source_root,
        &setting.instance_group,
        &setting.customer,
    ];
    if all.into_iter().flatten().any(|text| text.len() > LONGEST) {
        return Err(bad(format!("nothing here may be longer than {LONGEST} bytes")));
    }
    if let Some(template) = &setting.source_url {
        source_link::check(template).map_err(bad)?;
    }
    for name in [&setting.instance_group, &setting.customer].into_iter().flatten() {
        if !matches!(Field::of(name), Field::Attribute(_)) || query::parse(&format!("{name} is set")).is_err() {
            return Err(bad(format!("`{name}` is no attribute's name, such as cloud.region")));
        }
    }
    let weighed = factors(body.weight, &body.endpoint_weights, &path)?;
    let (database, service) = (state.database.clone(), path.clone());
    let before = state
        .on_main(async move { settings::own(&database, Some(service.as_str()).filter(|name| *name != ALL)).await })
        .await?;
    if before.keep_addresses != setting.keep_addresses {
        // Whether people's addresses are stored is for those who answer for it.
        viewer.must_admin()?;
    }
    let (database, service) = (state.database.clone(), path.clone());
    let is_known = state
        .on_main(async move {
            let is_known =
                settings::set(&database, Some(service.as_str()).filter(|name| *name != ALL), &setting).await?;
            if is_known {
                weights::replace(&database, &service, &weighed).await?;
            }
            Ok(is_known)
        })
        .await?;
    if !is_known {
        return Err(ApiError::NotFound(format!("there is no service {path}")));
    }
    state.note_change(&viewer.email, "changed settings", &path).await?;
    // What comes in from now on is hidden, or kept, as was just said.
    state.read_rules().await;
    Ok(HttpResponse::NoContent().finish())
}

/// The weights of a service's settings by endpoint, the service's own under an empty one.
fn factors(weight: Option<f64>, endpoints: &[EndpointWeight], service: &str) -> Result<Vec<(String, f32)>, ApiError> {
    let own = weight.map(|factor| (String::new(), factor));
    let all: Vec<(String, f64)> = own
        .into_iter()
        .chain(endpoints.iter().map(|one| (one.endpoint.trim().to_owned(), one.factor)))
        .collect();
    if !all.is_empty() && service == ALL {
        return Err(bad(
            "a weight is set for one service, not for all: it would change nothing",
        ));
    }
    if all.len() > MOST_WEIGHTS {
        return Err(bad(format!("a service has at most {MOST_WEIGHTS} weights")));
    }
    let checked = all.into_iter().enumerate().map(|(at, (endpoint, factor))| {
        let is_named = !endpoint.is_empty() || (at == 0 && weight.is_some());
        if !is_named || endpoint.len() > LONGEST {
            return Err(bad(format!(
                "a weight of an endpoint names one, of at most {LONGEST} bytes"
            )));
        }
        #[expect(clippy::cast_possible_truncation, reason = "kept to three digits")]
        let factor = factor as f32;
        if FACTORS.contains(&factor) {
            Ok((endpoint, factor))
        } else {
            Err(bad(format!(
                "the weight is {factor}; it must be {} to {}",
                FACTORS.start(),
                FACTORS.end()
            )))
        }
    });
    checked.collect()
}
