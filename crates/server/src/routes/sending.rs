//! Sender keys, requests refused, and what is dropped as it comes in.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    DropItem, DropList, KeyList, MadeDrop, MadeKey, NewDrop, NewKey, Problem, RefusedItem, RefusedList, RefusedQuery,
    Rotation,
};
use outcrop_store::ids;
use outcrop_store::ids::number;
use outcrop_store::people::keys::Bounds;
use outcrop_store::people::{AccessError, drops, keys};

use super::input::Body;
use super::query::{error_of, shared_predicate};
use super::viewer::{Seen, Viewer};
use crate::access::Secret;
use crate::answers::key_item;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Overlap of a rotation where none is given and at most, in hours: a day is time to restart a
/// fleet, a month to forget it.
const OVERLAP_HOURS: (u32, u32) = (24, 720);
/// Minutes looked back for refused requests where none are given, and at most: they are kept for a day.
const REFUSED_MINUTES: (u32, u32) = (15, 1_440);
/// Refusals listed at once.
const REFUSED_LISTED: i64 = 100;
/// Services or environments of one key.
const MAX_BOUNDS: usize = 100;
/// Longest note and predicate of a drop rule, in bytes.
const LONGEST: usize = 2_000;

/// Lists the sender keys, without their secrets.
#[utoipa::path(operation_id = "list_keys", tag = "intake", responses((status = 200, body = KeyList)))]
#[get("/keys")]
pub(super) async fn list_keys(viewer: Viewer, state: Seen) -> Result<web::Json<KeyList>, ApiError> {
    viewer.must_engineer()?;
    let database = state.database.clone();
    let rows = state.on_main(async move { keys::list(&database).await }).await?;
    let items = rows.into_iter().map(key_item).collect();
    Ok(web::Json(KeyList { items }))
}

/// Makes a sender key; the secret is in this answer and nowhere else.
#[utoipa::path(operation_id = "make_key", tag = "intake", request_body = NewKey, responses(
    (status = 201, body = MadeKey),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/keys")]
pub(super) async fn make_key(viewer: Viewer, body: Body<NewKey>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let NewKey {
        name,
        services,
        environments,
        bytes_per_minute,
    } = body.into_inner();
    let name = name.trim().to_owned();
    if name.is_empty() || name.len() > outcrop_core::telemetry::names::MAX_NAME_BYTES {
        return Err(bad(
            "a key needs a name of 1 to 200 bytes, such as the service it is for",
        ));
    }
    if services.len() > MAX_BOUNDS || environments.len() > MAX_BOUNDS {
        return Err(bad(format!(
            "a key is bound to at most {MAX_BOUNDS} services and environments"
        )));
    }
    if bytes_per_minute.is_some_and(|bytes| bytes < 1) {
        return Err(bad("bytes_per_minute must be above 0; leave it out for no limit"));
    }
    let bounds = Bounds {
        services,
        environments,
        bytes_per_minute,
    };
    let secret = Secret::random("outcrop-key");
    let (database, digest, made) = (state.database.clone(), secret.digest(), name.clone());
    done(
        &state,
        async move { keys::add(&database, &made, &bounds, digest).await },
    )
    .await?;
    state.note_change(&viewer.email, "made sender key", &name).await?;
    Ok(HttpResponse::Created().json(MadeKey {
        name,
        key: secret.expose().to_owned(),
    }))
}

/// Gives a key another secret; the one before is taken for a while yet.
#[utoipa::path(operation_id = "rotate_key", tag = "intake", params(("name" = String, Path, description = "The key's \
    name")), request_body = Rotation, responses(
    (status = 200, body = MadeKey),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/keys/{name}/rotate")]
pub(super) async fn rotate_key(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<Rotation>,
    state: Seen,
) -> Result<web::Json<MadeKey>, ApiError> {
    viewer.must_admin()?;
    let hours = body.overlap_hours.unwrap_or(OVERLAP_HOURS.0);
    if hours > OVERLAP_HOURS.1 {
        return Err(bad(format!(
            "overlap_hours is {hours}; it must be 0 to {}",
            OVERLAP_HOURS.1
        )));
    }
    let name = path.into_inner();
    let secret = Secret::random("outcrop-key");
    let (database, digest, rotated) = (state.database.clone(), secret.digest(), name.clone());
    done(&state, async move {
        keys::rotate(&database, &rotated, digest, i64::from(hours) * 3_600).await
    })
    .await?;
    state.note_change(&viewer.email, "rotated sender key", &name).await?;
    Ok(web::Json(MadeKey {
        name,
        key: secret.expose().to_owned(),
    }))
}

/// Revokes a key with all its secrets: it is refused everywhere within two seconds.
#[utoipa::path(operation_id = "revoke_key", tag = "intake", params(("name" = String, Path, description = "The key's \
    name")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/keys/{name}")]
pub(super) async fn revoke_key(viewer: Viewer, path: web::Path<String>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, name) = (state.database.clone(), path.into_inner());
    let revoked = name.clone();
    done(&state, async move { keys::revoke(&database, &revoked).await }).await?;
    state.note_change(&viewer.email, "revoked sender key", &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

async fn done<F>(state: &State, work: F) -> Result<(), ApiError>
where
    F: Future<Output = Result<(), AccessError>> + Send + 'static,
{
    let outcome = super::people::outcome(state, work).await?;
    outcome.map_err(|error| match error {
        AccessError::Exists(name) => ApiError::Conflict(format!("there is a key `{name}` already; take another name")),
        AccessError::Missing(name) => ApiError::NotFound(format!("there is no key `{name}` in use")),
        AccessError::LastAdmin(_) => ApiError::Conflict(error.to_string()),
        AccessError::Store(error) => error.into(),
    })
}

/// Requests of senders that were refused whole in the last minutes, and why.
#[utoipa::path(operation_id = "list_refused", tag = "intake", params(RefusedQuery), responses(
    (status = 200, body = RefusedList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/refused")]
pub(super) async fn list_refused(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<RefusedList>, ApiError> {
    viewer.must_engineer()?;
    let asked: RefusedQuery = parameters(request.query_string())?;
    let minutes = asked.minutes.unwrap_or(REFUSED_MINUTES.0);
    if !(1..=REFUSED_MINUTES.1).contains(&minutes) {
        return Err(bad(format!(
            "minutes is {minutes}; it must be 1 to {}",
            REFUSED_MINUTES.1
        )));
    }
    let since = Utc::now() - TimeDelta::minutes(minutes.into());
    let database = state.database.clone();
    let rows = state
        .on_main(async move { keys::refused_since(&database, since, REFUSED_LISTED).await })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| RefusedItem {
            last_at: row.last_at,
            count: row.n,
            key: row.request.key,
            path: row.request.path,
            sender: row.request.sender,
            reason: row.request.reason,
        })
        .collect();
    Ok(web::Json(RefusedList { minutes, items }))
}

/// Lists what is dropped as it comes in, and how much it was.
#[utoipa::path(operation_id = "list_drops", tag = "intake", responses((status = 200, body = DropList)))]
#[get("/drops")]
pub(super) async fn list_drops(_viewer: Viewer, state: Seen) -> Result<web::Json<DropList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { drops::list(&database).await }).await?;
    let items = rows
        .into_iter()
        .map(|row| DropItem {
            id: row.id,
            predicate: row.predicate,
            error: row.error_id.map(|error| ids::reference(error).to_string()),
            title: row.title,
            note: row.note,
            made_by: row.made_by,
            made_at: row.made_at,
            ended_by: row.ended_by,
            ended_at: row.ended_at,
            dropped_24h: row.dropped_24h,
            dropped: row.dropped,
        })
        .collect();
    Ok(web::Json(DropList { items }))
}

/// Drops something from now on, before it counts. What came before stays.
#[utoipa::path(operation_id = "make_drop", tag = "intake", request_body = NewDrop, responses(
    (status = 201, body = MadeDrop),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/drops")]
pub(super) async fn make_drop(viewer: Viewer, body: Body<NewDrop>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let NewDrop {
        predicate: text,
        error,
        note,
    } = body.into_inner();
    if note.len() > LONGEST || text.as_ref().is_some_and(|text| text.len() > LONGEST) {
        return Err(bad(format!("a note and a predicate are at most {LONGEST} bytes long")));
    }
    let named = error.clone();
    let error = match (&text, &error) {
        (Some(text), None) => {
            let parsed = shared_predicate(text)?;
            parsed.for_single_occurrences().map_err(|mistake| {
                let (at, length) = super::predicate::place(text, &mistake);
                ApiError::Predicate {
                    message: mistake.message,
                    at,
                    length,
                }
            })?;
            None
        }
        (None, Some(error)) => Some(number(error_of(&state, error).await?)),
        _ => return Err(bad("give either `where`, a predicate, or `error`, a reference")),
    };
    let subject = text.clone().or(named).unwrap_or_default();
    let (database, by) = (state.database.clone(), viewer.email.clone());
    let made = state
        .on_main(async move { drops::make(&database, text.as_deref(), error, note.trim(), &by).await })
        .await?;
    let id = made.ok_or_else(|| {
        ApiError::Conflict(format!(
            "{} rules are in force, as many as there may be; end one first",
            drops::MAX_RULES
        ))
    })?;
    state
        .note_change(&viewer.email, "made discard rule", &format!("{id}: {subject}"))
        .await?;
    state.read_rules().await;
    Ok(HttpResponse::Created().json(MadeDrop { id }))
}

/// Ends a drop rule: what it dropped counts again from now on.
#[utoipa::path(operation_id = "end_drop", tag = "intake", params(("id" = i64, Path, description = "The rule's \
    number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/drops/{id}")]
pub(super) async fn end_drop(viewer: Viewer, path: web::Path<i64>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, id, by) = (state.database.clone(), path.into_inner(), viewer.email.clone());
    if !state
        .on_main(async move { drops::end(&database, id, &by).await })
        .await?
    {
        return Err(ApiError::NotFound(format!("there is no drop rule {id} in force")));
    }
    state
        .note_change(&viewer.email, "ended discard rule", &id.to_string())
        .await?;
    state.read_rules().await;
    Ok(HttpResponse::NoContent().finish())
}
