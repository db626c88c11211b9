//! Tickets of errors in another program.

use actix_web::{HttpResponse, delete, get, post, put, web};
use chrono::Utc;
use outcrop_api::{Header, Problem, TicketItem, TicketLink, Tracker, TrackerSetting, TrackerTrial, TriedRequest};
use outcrop_core::Reference;
use outcrop_store::errors::tickets as store;
use outcrop_store::ids;

use super::handling::known;
use super::input::Body;
use super::viewer::{Role, Seen, Viewer};
use crate::answers::tickets::{self, NotMade, item};
use crate::api_error::ApiError;
use crate::outbound::Failed;
use crate::routes::parameters::bad;

/// Longest address of a ticket, in bytes.
const LONGEST_LINK: usize = 2_000;
/// Longest setting, in bytes, and headers in it.
const MOST: (usize, usize) = (32 << 10, 20);

/// Makes the ticket of an error, as an admin set it up.
#[utoipa::path(operation_id = "make_ticket", tag = "handling", params(("ref" = String, Path, description = "Its \
    reference")), responses(
    (status = 200, body = TicketItem),
    (status = 400, body = Problem, content_type = "application/problem+json", description = "It cannot be sent"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "There is one already"),
    (status = 502, body = Problem, content_type = "application/problem+json", description = "The other program did \
        not do it"),
))]
#[post("/errors/{ref}/ticket")]
pub(super) async fn make_ticket(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<TicketItem>, ApiError> {
    viewer.must_engineer()?;
    let error = known(&state, &path).await?.reference();
    let (database, settings) = (state.database.clone(), state.settings.clone());
    let made = state
        .on_main(async move {
            match tickets::make(&database, &settings, error, (&viewer.email, Utc::now())).await {
                Err(NotMade::Store(error)) => Err(error),
                other => Ok(other),
            }
        })
        .await?;
    made.map(web::Json).map_err(refused)
}

/// Links an error's ticket by its address; one that was linked or made before is left.
#[utoipa::path(operation_id = "link_ticket", tag = "handling", request_body = TicketLink, params(("ref" = String, Path,
    description = "The error's reference")), responses(
    (status = 200, body = TicketItem),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[put("/errors/{ref}/ticket")]
pub(super) async fn link_ticket(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<TicketLink>,
    state: Seen,
) -> Result<web::Json<TicketItem>, ApiError> {
    viewer.must_engineer()?;
    let link = body.link.trim().to_owned();
    let is_page = reqwest::Url::parse(&link).is_ok_and(|url| matches!(url.scheme(), "http" | "https"));
    if !is_page || link.len() > LONGEST_LINK {
        return Err(bad(format!(
            "link must be an http or https address of at most {LONGEST_LINK} bytes"
        )));
    }
    let error = known(&state, &path).await?.reference();
    let (database, number) = (state.database.clone(), ids::number(error));
    let linked = state
        .on_main(async move {
            store::link(&database, number, &link, (&viewer.email, Utc::now())).await?;
            store::of_error(&database, number).await
        })
        .await?;
    linked.map(|ticket| web::Json(item(ticket))).ok_or_else(|| none(error))
}

/// Leaves an error's ticket; what is there in the other program stays.
#[utoipa::path(operation_id = "leave_ticket", tag = "handling", params(("ref" = String, Path, description = "The \
    error's reference")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/errors/{ref}/ticket")]
pub(super) async fn leave_ticket(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let error = known(&state, &path).await?.reference();
    let (database, number) = (state.database.clone(), ids::number(error));
    if !state
        .on_main(async move { store::leave(&database, number).await })
        .await?
    {
        return Err(none(error));
    }
    Ok(HttpResponse::NoContent().finish())
}

fn none(error: Reference) -> ApiError {
    ApiError::NotFound(format!("{error} has no ticket"))
}

/// Says how tickets are made.
#[utoipa::path(operation_id = "show_tracker", tag = "handling", responses((status = 200, body = TrackerSetting)))]
#[get("/tracker")]
pub(super) async fn show_tracker(viewer: Viewer, state: Seen) -> Result<web::Json<TrackerSetting>, ApiError> {
    let database = state.database.clone();
    let tracker = state.on_main(async move { tickets::tracker(&database).await }).await?;
    Ok(web::Json(TrackerSetting {
        is_set: tracker.is_some(),
        tracker: tracker.filter(|_| viewer.role >= Role::Admin),
        hosts: state.settings.outbound.hosts.clone(),
    }))
}

/// Sets how tickets are made.
#[utoipa::path(operation_id = "set_tracker", tag = "handling", request_body = Tracker, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[put("/tracker")]
pub(super) async fn set_tracker(viewer: Viewer, body: Body<Tracker>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let tracker = body.into_inner();
    fits(&tracker)?;
    tickets::check(&tracker, &state.settings.outbound).map_err(refused)?;
    let setting = serde_json::to_value(&tracker).map_err(|error| bad(error.to_string()))?;
    let (database, by) = (state.database.clone(), viewer.email.clone());
    state
        .on_main(async move { store::set_tracker(&database, Some(&setting), (&by, Utc::now())).await })
        .await?;
    state
        .note_change(&viewer.email, "set how tickets are made", &tracker.address)
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// No tickets are made any more; those that are there stay.
#[utoipa::path(operation_id = "remove_tracker", tag = "handling", responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/tracker")]
pub(super) async fn remove_tracker(viewer: Viewer, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, by) = (state.database.clone(), viewer.email.clone());
    state
        .on_main(async move { store::set_tracker(&database, None, (&by, Utc::now())).await })
        .await?;
    state
        .note_change(&viewer.email, "ended the making of tickets", "")
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says what would be sent to make the ticket of an error; sends nothing.
#[utoipa::path(operation_id = "try_tracker", tag = "handling", request_body = TrackerTrial, responses(
    (status = 200, body = TriedRequest),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/tracker/try")]
pub(super) async fn try_tracker(
    viewer: Viewer,
    body: Body<TrackerTrial>,
    state: Seen,
) -> Result<web::Json<TriedRequest>, ApiError> {
    viewer.must_admin()?;
    let TrackerTrial { tracker, reference } = body.into_inner();
    fits(&tracker)?;
    let error = known(&state, &reference).await?.reference();
    let (database, settings) = (state.database.clone(), state.settings.clone());
    let tried = state
        .on_main(async move {
            match tickets::try_out(&database, &settings, &tracker, error, Utc::now()).await {
                Err(NotMade::Store(error)) => Err(error),
                other => Ok(other),
            }
        })
        .await?;
    let request = tried.map_err(refused)?;
    Ok(web::Json(TriedRequest {
        method: request.method,
        address: request.address,
        headers: (request.headers.into_iter())
            .map(|(name, value)| Header { name, value })
            .collect(),
        body: request.body.unwrap_or_default(),
    }))
}

fn fits(tracker: &Tracker) -> Result<(), ApiError> {
    let size = serde_json::to_vec(tracker).map_or(usize::MAX, |bytes| bytes.len());
    if size > MOST.0 || tracker.headers.len() > MOST.1 {
        return Err(bad(format!(
            "a setting takes {} kB and {} headers at most",
            MOST.0 >> 10,
            MOST.1
        )));
    }
    Ok(())
}

fn refused(error: NotMade) -> ApiError {
    match error {
        NotMade::NoError(_) | NotMade::NotSet => ApiError::NotFound(error.to_string()),
        NotMade::Outbound(Failed::Away { .. }) | NotMade::Refused { .. } | NotMade::Answer(_) => {
            ApiError::Gateway(error.to_string())
        }
        NotMade::IsThere => ApiError::Conflict(error.to_string()),
        NotMade::Store(error) => error.into(),
        other => bad(other.to_string()),
    }
}
