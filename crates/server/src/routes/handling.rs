//! What people do about errors: take, settle, quiet, reopen, note.

use actix_web::{HttpRequest, get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    HandlingAction, HandlingChange, HandlingList, HandlingOfMany, HandlingQuery, HandlingState, History, HistoryQuery,
    Problem, UndoneHandling,
};
use outcrop_core::Reference;
use outcrop_store::errors::handling;
use outcrop_store::errors::handling::{Action, HandlingError, Settled};
use outcrop_store::errors::since_settled::since_settled;
use outcrop_store::find::Found;
use outcrop_store::{Database, StoreError};

use super::input::Body;
use super::query::{error_of, limit, must_be_known};
use super::viewer::{Seen, Viewer};
use crate::answers::{history, owners, settled, tickets};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Longest note, in bytes.
const MAX_NOTE: usize = 4_000;
/// Most errors about which something is done at once.
const MAX_ERRORS: usize = 500;
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
    state: Seen,
) -> Result<web::Json<HandlingState>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    Ok(web::Json(
        state
            .on_main(async move { read(&database, reference, true).await })
            .await?,
    ))
}

/// What happened to an error: what people did, notes, flags, and the deploys of its service where it occurs.
#[utoipa::path(operation_id = "show_history", tag = "handling", params(("ref" = String, Path, description = "The \
    error's reference"), HistoryQuery), responses(
    (status = 200, body = History),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/history")]
pub(super) async fn show_history(
    _viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<History>, ApiError> {
    let query: HistoryQuery = parameters(request.query_string())?;
    let limit = limit(query.limit)?;
    let reference = error_of(&state, &path).await?;
    let (database, before) = (state.database.clone(), query.before.unwrap_or_else(Utc::now));
    let history = state
        .on_main(async move { history::of_error(&database, reference, before, limit).await })
        .await?;
    history
        .map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}

/// Does something about an error.
#[utoipa::path(operation_id = "handle_error", tag = "handling", request_body = HandlingAction, params(("ref" = String,
    Path, description = "The error's reference"), HandlingQuery), responses(
    (status = 200, body = HandlingState),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "Somebody did \
        something about it since"),
))]
#[post("/errors/{ref}/handling")]
pub(super) async fn handle_error(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    body: Body<HandlingAction>,
    state: Seen,
) -> Result<web::Json<HandlingState>, ApiError> {
    let query: HandlingQuery = parameters(request.query_string())?;
    let mut done = act(viewer, &[path.into_inner()], body.into_inner(), query.after, &state).await?;
    done.pop().map(web::Json).ok_or_else(|| bad("no error is named"))
}

/// Does the same about many errors: about all of them, or about none.
#[utoipa::path(operation_id = "handle_errors", tag = "handling", request_body = HandlingOfMany, responses(
    (status = 200, body = HandlingList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/handling")]
pub(super) async fn handle_errors(
    viewer: Viewer,
    body: Body<HandlingOfMany>,
    state: Seen,
) -> Result<web::Json<HandlingList>, ApiError> {
    let HandlingOfMany { errors, action } = body.into_inner();
    let items = act(viewer, &errors, action, None, &state).await?;
    Ok(web::Json(HandlingList { items }))
}

/// Undoes the last change of how an error is handled: it is again as it was before.
#[utoipa::path(operation_id = "undo_handling", tag = "handling", request_body = UndoneHandling, params(("ref" = String,
    Path, description = "The error's reference")), responses(
    (status = 200, body = HandlingState),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "Another change came \
        after it"),
))]
#[post("/errors/{ref}/handling/undo")]
pub(super) async fn undo_handling(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<UndoneHandling>,
    state: Seen,
) -> Result<web::Json<HandlingState>, ApiError> {
    viewer.must_engineer()?;
    let error = known(&state, &path).await?.reference();
    let (database, UndoneHandling { change }) = (state.database.clone(), body.into_inner());
    let done = state
        .on_main(async move {
            let done = handling::undo(&database, error, change, &viewer.email, Utc::now()).await;
            Ok(match refusal(done)? {
                None => Ok(read(&database, error, true).await?),
                Some(refusal) => Err(refusal),
            })
        })
        .await?;
    done.map(web::Json)
}

/// Does something about errors for a member.
pub(super) async fn act(
    viewer: Viewer,
    named: &[String],
    asked: HandlingAction,
    after: Option<i64>,
    state: &State,
) -> Result<Vec<HandlingState>, ApiError> {
    viewer.must_engineer()?;
    if !(1..=MAX_ERRORS).contains(&named.len()) {
        return Err(bad(format!("name 1 to {MAX_ERRORS} errors")));
    }
    let action = action(asked, &viewer.email)?;
    if let Action::QuietWhere(text) = &action {
        must_be_known(state, text).await?;
    }
    let mut errors = vec![];
    for name in named {
        errors.push(known(state, name).await?.reference());
    }
    let database = state.database.clone();
    state
        .on_main(async move {
            let done = handling::act(&database, &errors, &action, (&viewer.email, Utc::now()), after).await;
            if let Some(refusal) = refusal(done)? {
                return Ok(Err(refusal));
            }
            // Of many, nobody reads to whom each may be handed; to find out costs more than what was done.
            let proposes = errors.len() == 1;
            let mut states = vec![];
            for error in errors {
                states.push(read(&database, error, proposes).await?);
            }
            Ok(Ok(states))
        })
        .await?
}

/// What whoever acted is told where nothing was done.
pub(super) fn refusal(done: Result<(), HandlingError>) -> Result<Option<ApiError>, StoreError> {
    match done {
        Ok(()) => Ok(None),
        Err(HandlingError::Store(error)) => Err(error),
        Err(error @ HandlingError::Meanwhile { .. }) => Ok(Some(ApiError::Conflict(error.to_string()))),
        Err(error @ HandlingError::NoChange(_)) => Ok(Some(ApiError::NotFound(error.to_string()))),
    }
}

/// The error of a reference, where there is one.
pub(super) async fn known(state: &State, name: &str) -> Result<Found, ApiError> {
    let reference = error_of(state, name).await?;
    let database = state.database.clone();
    let found = state
        .on_main(async move { outcrop_store::find::error(&database, reference).await })
        .await?;
    found.ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}

/// A commit's id, or so much of its beginning as tells it apart.
fn commit_id(text: &str) -> Result<String, ApiError> {
    let id = text.trim().to_ascii_lowercase();
    let is_id = (7..=64).contains(&id.len()) && id.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_id
        .then_some(id)
        .ok_or_else(|| bad("commit must be the commit's id, or its first 7 digits or more: 3f2a1c9"))
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
        HandlingAction::Settle { version, commit, now } => Action::Settle(match (version, commit, now) {
            (Some(version), None, false) => Settled::In(named("version", &version, 200)?),
            (None, Some(commit), false) => Settled::By(commit_id(&commit)?),
            (None, None, true) => Settled::FromNow,
            _ => return Err(bad("settle takes one of version, commit and now")),
        }),
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

/// How an error is handled; with whom it may be handed to, where that is asked for and nobody has it.
async fn read(database: &Database, reference: Reference, proposes: bool) -> Result<HandlingState, StoreError> {
    let now = Utc::now();
    let number = outcrop_store::ids::number(reference);
    let handling = handling::of(database, Some(&[number]))
        .await?
        .remove(&number)
        .unwrap_or_default();
    let history = handling::changes(database, reference).await?;
    let known = since_settled(database, number).await?;
    let proposals = if proposes && handling.taken_by.is_none() {
        owners::proposals(database, reference, now).await?
    } else {
        vec![]
    };
    let last = history.iter().find(|change| change.verb != "note");
    Ok(HandlingState {
        ticket: outcrop_store::errors::tickets::of_error(database, number)
            .await?
            .map(tickets::item),
        proposals,
        last_change: last.map(|change| change.id),
        can_be_undone: last.is_some_and(|change| change.can_be_undone),
        verdict: known.map(|known| settled::verdict(&known, now)),
        reference: reference.to_string(),
        quiet_until: handling.quiet_in_words(now),
        open: handling.is_open(now),
        settled_from: handling.settled_from(),
        taken_by: handling.taken_by,
        settled_in: handling.settled_in.filter(|version| !version.is_empty()),
        settled_by: handling.settled_by,
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
