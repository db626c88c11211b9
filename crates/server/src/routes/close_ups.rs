//! Close-ups: the next occurrences kept in full.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{CloseUp, CloseUpItem, CloseUpList, CloseUpQuery, NewCloseUp, Problem, TakenOccurrence};
use outcrop_core::close_up::{LONGEST, MOST, MOST_OPEN};
use outcrop_store::close_ups::{self, Asking};
use outcrop_store::errors;

use super::input::Body;
use super::query::{error_of, must_be_known, shared_predicate, time};
use super::viewer::{Seen, Viewer};
use super::{occurrences, parameters};
use crate::answers::close_ups::item;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// How many occurrences a close-up takes where no number is asked for.
const USUAL: u32 = 3;

/// Lists close-ups: those under way first, then the newest.
#[utoipa::path(operation_id = "list_close_ups", tag = "close-ups", params(CloseUpQuery), responses(
    (status = 200, body = CloseUpList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/close-ups")]
pub(super) async fn list_close_ups(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<CloseUpList>, ApiError> {
    let query: CloseUpQuery = parameters::parameters(request.query_string())?;
    let error = match &query.error {
        Some(text) => Some(error_of(&state, text).await?),
        None => None,
    };
    let database = state.database.clone();
    let rows = state
        .on_main(async move { close_ups::list(&database, error).await })
        .await?;
    let now = Utc::now();
    let items = rows.into_iter().map(|row| item(row, now)).collect();
    Ok(web::Json(CloseUpList { items }))
}

/// One close-up, with the occurrences that it took.
#[utoipa::path(operation_id = "show_close_up", tag = "close-ups", params(("id" = i32, Path,
    description = "Its number")), responses(
    (status = 200, body = CloseUp),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/close-ups/{id}")]
pub(super) async fn show_close_up(
    _viewer: Viewer,
    id: web::Path<i32>,
    state: Seen,
) -> Result<web::Json<CloseUp>, ApiError> {
    let (database, id) = (state.database.clone(), *id);
    let found = state
        .on_main(async move {
            let Some(found) = close_ups::one(&database, id).await? else {
                return Ok(None);
            };
            Ok(Some((found, close_ups::taken(&database, id).await?)))
        })
        .await?;
    let (found, taken) = found.ok_or_else(|| missing(id))?;
    let occurrence = |taken: close_ups::Taken| TakenOccurrence {
        error: taken.error().to_string(),
        occurrence: occurrences::item(taken.row),
    };
    Ok(web::Json(CloseUp {
        item: item(found, Utc::now()),
        occurrences: taken.into_iter().map(occurrence).collect(),
    }))
}

fn missing(id: i32) -> ApiError {
    ApiError::NotFound(format!("there is no close-up {id}"))
}

/// Begins a close-up of what happens from now on: of an error, or of what a predicate holds for.
#[utoipa::path(operation_id = "begin_close_up", tag = "close-ups", request_body = NewCloseUp, responses(
    (status = 200, body = CloseUpItem),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/close-ups")]
pub(super) async fn begin_close_up(
    viewer: Viewer,
    body: Body<NewCloseUp>,
    state: Seen,
) -> Result<web::Json<CloseUpItem>, ApiError> {
    viewer.must_engineer()?;
    let (sent, now) = (body.into_inner(), Utc::now());
    let wanted = sent.count.unwrap_or(USUAL);
    if !(1..=MOST).contains(&wanted) {
        return Err(bad(format!("count is {wanted}; it must be 1 to {MOST}")));
    }
    let until = time("until", sent.until)?.unwrap_or(now + TimeDelta::days(1));
    let longest = TimeDelta::from_std(LONGEST).unwrap_or(TimeDelta::MAX);
    if until <= now || until > now + longest {
        return Err(bad(format!(
            "until must be a time to come, within {} days",
            longest.num_days()
        )));
    }
    let predicate = sent.predicate.filter(|text| !text.trim().is_empty());
    let error = match (&sent.error, &predicate) {
        (Some(text), None) => Some(error_of(&state, text).await?),
        (None, Some(text)) => {
            shared_predicate(text)?;
            must_be_known(&state, text).await?;
            None
        }
        _ => return Err(bad("give either error or where: what the close-up is of")),
    };
    let database = state.database.clone();
    let begun = state
        .on_main(async move {
            if let Some(error) = error
                && errors::sightings(&database, error).await?.is_empty()
            {
                return Ok(Err(ApiError::NotFound(format!("there is no error {error}"))));
            }
            let new = close_ups::NewCloseUp {
                error,
                predicate: predicate.as_deref(),
                wanted,
                until,
                tells: sent.tell,
                by: &viewer.email,
            };
            Ok(match close_ups::ask(&database, &new, now).await? {
                Asking::Done(id) => close_ups::one(&database, id).await?.ok_or_else(|| missing(id)),
                Asking::Full => Err(ApiError::Conflict(format!(
                    "{MOST_OPEN} close-ups are under way already: end one that nobody needs"
                ))),
            })
        })
        .await?;
    Ok(web::Json(item(begun?, now)))
}

/// Ends a close-up that is under way; what it took stays.
#[utoipa::path(operation_id = "end_close_up", tag = "close-ups", params(("id" = i32, Path, description = "Its number")),
    responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/close-ups/{id}")]
pub(super) async fn end_close_up(viewer: Viewer, id: web::Path<i32>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), *id);
    let ended = state
        .on_main(async move {
            // One of an error of a closed service is not there for whoever may not read it.
            if close_ups::one(&database, id).await?.is_none() {
                return Ok(None);
            }
            Ok(Some(close_ups::end(&database, id, &viewer.email, Utc::now()).await?))
        })
        .await?;
    match ended {
        Some(true) => Ok(HttpResponse::NoContent().finish()),
        Some(false) => Err(ApiError::Conflict(format!("the close-up {id} has ended already"))),
        None => Err(missing(id)),
    }
}
