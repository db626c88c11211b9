//! What people do about errors: take, settle, quiet, reopen, note.

use actix_web::{get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{HandlingAction, HandlingChange, HandlingState, Problem};
use outcrop_core::Reference;
use outcrop_store::errors::handling;
use outcrop_store::errors::handling::Action;
use outcrop_store::{Database, StoreError};

use super::input::Body;
use super::query::{error_of, must_be_known};
use super::viewer::Viewer;
use crate::answers::settled;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;
use crate::state::State;

/// Longest note, in bytes.
const MAX_NOTE: usize = 4_000;
/// Longest quiet, in days: what is quiet for longer is settled, or dropped.
const MAX_QUIET_DAYS: i64 = 365;

/// How an error is handled, and what was done about it.
#[utoipa::path(operation_id = "show_handling", tag = "handling", params(("ref" = String, Path, description = "The \
    error's reference")), responses(
    (status = 200, body = HandlingState),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/handling")]
pub(super) async fn show_handling(
    _viewer: Viewer,
    path: web::Path<String>,
    state: web::Data<State>,
) -> Result<web::Json<HandlingState>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    Ok(web::Json(
        state.on_main(async move { read(&database, reference).await }).await?,
    ))
}

/// Does something about an error.
#[utoipa::path(operation_id = "handle_error", tag = "handling", request_body = HandlingAction, params(("ref" = String,
    Path, description = "The error's reference")), responses(
    (status = 200, body = HandlingState),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/errors/{ref}/handling")]
pub(super) async fn handle_error(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<HandlingAction>,
    state: web::Data<State>,
) -> Result<web::Json<HandlingState>, ApiError> {
    viewer.must_engineer()?;
    let reference = error_of(&state, &path).await?;
    let action = action(body.into_inner(), &viewer.email)?;
    if let Action::QuietWhere(text) = &action {
        must_be_known(&state, text).await?;
    }
    let database = state.database.clone();
    let is_known = {
        let database = database.clone();
        state
            .on_main(async move { Ok(outcrop_store::find::error(&database, reference).await?.is_some()) })
            .await?
    };
    if !is_known {
        return Err(ApiError::NotFound(format!("there is no error {reference}")));
    }
    let done = state
        .on_main(async move {
            handling::act(&database, reference, &action, &viewer.email, Utc::now()).await?;
            read(&database, reference).await
        })
        .await?;
    Ok(web::Json(done))
}

fn named(what: &str, text: &str, longest: usize) -> Result<String, ApiError> {
    let text = text.trim();
    if text.is_empty() || text.len() > longest || text.contains('\0') {
        return Err(bad(format!("{what} must be 1 to {longest} bytes")));
    }
    Ok(text.to_owned())
}

fn action(asked: HandlingAction, caller: &str) -> Result<Action, ApiError> {
    Ok(match asked {
        HandlingAction::Take { by } => Action::Take(named("by", by.as_deref().unwrap_or(caller), 200)?),
        HandlingAction::HandBack => Action::HandBack,
        HandlingAction::Settle { version } => Action::Settle(named("version", &version, 200)?),
        HandlingAction::Quiet {
            until: Some(until),
            predicate: None,
        } => {
            let now = Utc::now();
            if until <= now || until > now + TimeDelta::days(MAX_QUIET_DAYS) {
                return Err(bad(format!("until must lie within the next {MAX_QUIET_DAYS} days")));
            }
            Action::QuietUntil(until)
        }
        HandlingAction::Quiet {
            until: None,
            predicate: Some(text),
        } => Action::QuietWhere(named("where", &text, 2_000)?),
        HandlingAction::Quiet { .. } => return Err(bad("quiet takes either until or where")),
        HandlingAction::Reopen => Action::Reopen,
        HandlingAction::Note { text } => Action::Note(named("the note", &text, MAX_NOTE)?),
    })
}

async fn read(database: &Database, reference: Reference) -> Result<HandlingState, StoreError> {
    let now = Utc::now();
    let number = outcrop_store::ids::number(reference);
    let handling = handling::of(database, Some(number))
        .await?
        .remove(&number)
        .unwrap_or_default();
    let history = handling::changes(database, reference).await?;
    let known = handling::since_settled(database, number).await?;
    Ok(HandlingState {
        verdict: known.map(|known| settled::verdict(&known, now)),
        reference: reference.to_string(),
        quiet_until: handling.quiet_in_words(now),
        open: handling.is_open(now),
        taken_by: handling.taken_by,
        settled_in: handling.settled_in,
        history: history
            .into_iter()
            .map(|change| HandlingChange {
                at: change.at,
                by: change.by,
                verb: change.verb,
                what: change.what,
            })
            .collect(),
    })
}
