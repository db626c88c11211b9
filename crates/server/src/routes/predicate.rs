//! Checking and completing predicates.

use actix_web::{HttpRequest, get, web};
use outcrop_api::{Completion, CompletionQuery, Mistake, Problem};
use outcrop_core::query;
use outcrop_core::query::{Field, Kind, Wanted};
use outcrop_store::StoreError;
use outcrop_store::asking::attributes;

use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::parameters;

/// Offers per completion: a list that fits beside the text.
const OFFERS: usize = 12;

/// What may stand at a place of a predicate that is being written, and what is wrong with it so far.
#[utoipa::path(operation_id = "complete_predicate", tag = "predicates", params(CompletionQuery), responses(
    (status = 200, body = Completion),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/predicate/complete")]
pub(super) async fn complete(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<Completion>, ApiError> {
    let asked: CompletionQuery = parameters(request.query_string())?;
    let at = asked
        .at
        .and_then(|at| asked.text.char_indices().nth(at as usize))
        .map_or(asked.text.len(), |(at, _)| at);
    let completion = query::complete(&asked.text, at);
    let mistake = if asked.text.trim().is_empty() {
        None
    } else {
        query::parse(&asked.text).err()
    };
    let mistake = mistake.map(|mistake| {
        let (at, length) = place(&asked.text, &mistake);
        Mistake {
            at,
            length,
            message: mistake.message,
        }
    });
    let from = characters(&asked.text, completion.from);
    let wanted = match &completion.wanted {
        Wanted::Field => "field",
        Wanted::Check(_) => "check",
        Wanted::Value(_) => "value",
        Wanted::Connective => "connective",
        Wanted::Nothing => "nothing",
    };
    let database = state.database.clone();
    let offers = state
        .on_main(async move { offers(&database, &completion).await })
        .await?;
    Ok(web::Json(Completion {
        from,
        wanted: wanted.to_owned(),
        offers,
        mistake,
    }))
}

/// A mistake's place and length in characters.
pub(super) fn place(text: &str, mistake: &query::Mistake) -> (u32, u32) {
    let at = characters(text, mistake.at);
    (at, characters(text, mistake.at + mistake.length) - at)
}

pub(super) fn characters(text: &str, bytes: usize) -> u32 {
    u32::try_from(text.char_indices().take_while(|(at, _)| *at < bytes).count()).unwrap_or(u32::MAX)
}

pub(super) async fn offers(
    database: &outcrop_store::Database,
    completion: &query::Completion,
) -> Result<Vec<String>, StoreError> {
    let written = completion.written.to_lowercase();
    let fitting = |words: &[&str]| -> Vec<String> {
        words
            .iter()
            .filter(|word| word.starts_with(&written))
            .map(|word| (*word).to_owned())
            .collect()
    };
    let limit = i64::try_from(OFFERS).unwrap_or(i64::MAX);
    let mut offers = match &completion.wanted {
        Wanted::Field => {
            let mut names = fitting(&Field::names().collect::<Vec<_>>());
            names.extend(attributes::names(database, &written, limit).await?);
            names
        }
        Wanted::Check(field) => fitting(match field.kind() {
            Kind::Text => &[
                "=",
                "!=",
                "in (",
                "not in (",
                "contains",
                "like",
                "is set",
                "is not set",
            ],
            Kind::Number => &["=", "!=", "<", "<=", ">", ">=", "from"],
            Kind::Time => &["<", "<=", ">", ">=", "from"],
            _ => &[
                "=",
                "!=",
                "<",
                "<=",
                ">",
                ">=",
                "from",
                "in (",
                "not in (",
                "contains",
                "like",
                "is set",
                "is not set",
            ],
        }),
        Wanted::Value(Field::Severity) => fitting(&["trace", "debug", "info", "warn", "error", "fatal"]),
        Wanted::Value(Field::Kind) => fitting(&outcrop_core::failure_kinds().collect::<Vec<_>>()),
        Wanted::Value(field) => attributes::values(database, field, &completion.written, limit)
            .await?
            .iter()
            .map(|value| as_written(value))
            .collect(),
        Wanted::Connective => fitting(&["and", "or"]),
        Wanted::Nothing => vec![],
    };
    offers.truncate(OFFERS);
    Ok(offers)
}

/// A value as it must be written: in quotes where it is more than a word.
fn as_written(value: &str) -> String {
    let is_word = !value.is_empty()
        && value
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '.' | '_' | '-' | '/' | '@' | ':' | '+'));
    if is_word {
        value.to_owned()
    } else {
        query::quoted(value)
    }
}
