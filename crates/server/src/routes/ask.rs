//! Questions: answered, checked and completed.

use actix_web::{HttpRequest, get, web};
use chrono::{DateTime, Utc};
use outcrop_api::{Answer, AskQuery, CompletionQuery, ErrorQuery, Mistake, Problem, QuestionCompletion};
use outcrop_core::question::{Matching, Place, Question, next_words, read};
use outcrop_store::asking::attributes;
use outcrop_store::{Database, Scope, StoreError, from_utc, to_utc};

use super::predicate::{characters, offers as offers_of_predicate, place};
use super::query::window;
use super::viewer::{Seen, Viewer};
use crate::answers::asked;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Offers per completion: a list that fits beside the text.
const OFFERS: usize = 16;

/// What a question comes to: groups with their measures, in the question's order.
#[utoipa::path(operation_id = "ask", tag = "questions", params(AskQuery), responses(
    (status = 200, body = Answer),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
#[get("/ask")]
pub(super) async fn ask(viewer: Viewer, request: HttpRequest, state: Seen) -> Result<web::Json<Answer>, ApiError> {
    let asked: AskQuery = parameters(request.query_string())?;
    answered(&state, &viewer, asked).await.map(web::Json)
}

/// Answers a question of a member.
pub(super) async fn answered(state: &State, viewer: &Viewer, asked: AskQuery) -> Result<Answer, ApiError> {
    let now = Utc::now();
    let question = question(&asked.question, viewer)?;
    let scope = scope(asked, &question, now)?;
    let (database, policy) = (state.database.clone(), state.settings.policy.clone());
    Ok(state
        .on_main(async move { asked::answer(&database, (&question, &scope), &policy, now).await })
        .await?)
}

/// What a question looks at: its own window, else that of the page or the last 24 hours.
fn scope(asked: AskQuery, question: &Question, now: DateTime<Utc>) -> Result<Scope, ApiError> {
    let is_fixed = asked.from.is_some() || asked.to.is_some();
    let around = window(
        &ErrorQuery {
            service: asked.service,
            environment: asked.environment,
            since: asked.since,
            from: asked.from,
            to: asked.to,
            ..ErrorQuery::default()
        },
        now,
    )?;
    let (from, to) = match question.window {
        Some(_) => question.window_at(from_utc(now)),
        None if is_fixed => (from_utc(around.from), from_utc(around.to)),
        None => question.from_a_whole_step((from_utc(around.from), from_utc(around.to))),
    };
    if let Some(message) = question.too_many((from, to)) {
        return Err(bad(message));
    }
    Ok(Scope {
        from: to_utc(from),
        to: to_utc(to),
        ..around
    })
}

/// Reads a question as asked by a member.
fn question(text: &str, viewer: &Viewer) -> Result<Question, ApiError> {
    let question = read(text).map_err(|mistake| refused(text, mistake))?;
    let by_viewer = |matching: Matching| Matching {
        predicate: matching.predicate.asked_by(&viewer.email),
        ..matching
    };
    Ok(Question {
        matching: question.matching.map(by_viewer),
        ..question
    })
}

/// A mistake in the text of a question, with its place.
pub(super) fn refused(text: &str, mistake: outcrop_core::query::Mistake) -> ApiError {
    let (at, length) = place(text, &mistake);
    ApiError::Question {
        message: mistake.message,
        at,
        length,
    }
}

/// What may stand at a place of a question that is being written, and what is wrong with it so far.
#[utoipa::path(operation_id = "complete_question", tag = "questions", params(CompletionQuery), responses(
    (status = 200, body = QuestionCompletion),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/ask/complete")]
pub(super) async fn complete_question(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<QuestionCompletion>, ApiError> {
    let asked: CompletionQuery = parameters(request.query_string())?;
    let at = asked
        .at
        .and_then(|at| asked.text.char_indices().nth(at as usize))
        .map_or(asked.text.len(), |(at, _)| at);
    let (from, written, wanted) = next_words(&asked.text, at);
    let mistake = read(&asked.text).err().map(|mistake| {
        let (at, length) = place(&asked.text, &mistake);
        Mistake {
            at,
            length,
            message: mistake.message,
        }
    });
    let database = state.database.clone();
    let offers = state
        .on_main(async move { offers(&database, &wanted, &written).await })
        .await?;
    Ok(web::Json(QuestionCompletion {
        from: characters(&asked.text, from),
        offers,
        mistake: mistake.filter(|_| !asked.text.trim().is_empty()),
    }))
}

async fn offers(database: &Database, wanted: &Place, written: &str) -> Result<Vec<String>, StoreError> {
    let lower = written.to_lowercase();
    let fitting = |word: &&str| word.starts_with(&lower);
    let mut offers: Vec<String> = wanted.words().into_iter().filter(fitting).map(str::to_owned).collect();
    match wanted {
        Place::Predicate(_, completion) => offers.extend(offers_of_predicate(database, completion).await?),
        Place::Field(source) => {
            let limit = i64::try_from(OFFERS).unwrap_or(i64::MAX);
            offers.extend(source.fields().filter(fitting).map(str::to_owned));
            offers.extend(attributes::names(database, &lower, limit).await?);
        }
        _ => {}
    }
    offers.truncate(OFFERS);
    Ok(offers)
}
