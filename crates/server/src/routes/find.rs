use actix_web::{HttpRequest, get, web};
use outcrop_core::Reference;
use outcrop_core::failure::OccurrenceId;
use outcrop_core::grouping::{Described, template};
use outcrop_store::{Database, StoreError, find, settings};

use super::query::{bad, parameters};
use super::viewer::Viewer;
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{Candidate, FindQuery, FoundPage, Problem};

/// Longest text looked at, in bytes: a stack text fits.
const MAX_TEXT: usize = 65_536;
/// Candidates shown.
const MAX_CANDIDATES: usize = 10;

/// Finds whatever is pasted: a reference, a link, an occurrence, a trace, a user or any attribute's value, a log line, a stack.
#[utoipa::path(operation_id = "find", tag = "find", params(FindQuery), responses(
    (status = 200, body = FoundPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/find")]
pub(super) async fn find_text(_viewer: Viewer, request: HttpRequest, state: web::Data<State>) -> Result<web::Json<FoundPage>, ApiError> {
    let asked: FindQuery = parameters(request.query_string())?;
    let text = asked.text.trim().to_owned();
    if text.is_empty() {
        return Err(bad("nothing was given to find"));
    }
    if text.len() > MAX_TEXT {
        return Err(bad(format!("the text is longer than {MAX_TEXT} bytes")));
    }
    let database = state.database.clone();
    let items = state.on_main(async move { candidates(&database, &text).await }).await?;
    Ok(web::Json(FoundPage { items }))
}

async fn candidates(database: &Database, text: &str) -> Result<Vec<Candidate>, StoreError> {
    let mut found = vec![];
    let is_one_word = !text.contains(char::is_whitespace);
    // A link of the console, or a reference within any text.
    for word in text.split(|c: char| !(c.is_ascii_lowercase() || c == '-')).filter(|word| word.len() == 11) {
        let Ok(reference) = word.parse::<Reference>() else { continue };
        let Some(error) = find::error(database, reference).await? else { continue };
        let view = text.find(word).and_then(|at| text.get(at + word.len()..)).filter(|rest| is_one_word && rest.starts_with('?'));
        push(&mut found, of_error("error", &error, view.unwrap_or_default()));
    }
    for hex in text.split(|c: char| !c.is_ascii_hexdigit()).filter(|hex| hex.len() == 32).take(4) {
        let Some(id) = bytes(hex) else { continue };
        if let Some(error) = find::occurrence(database, OccurrenceId(id)).await? {
            push(&mut found, of_error("occurrence", &error, &format!("?occurrence={}", hex.to_ascii_lowercase())));
        }
        let in_trace = find::in_trace(database, id).await?;
        if in_trace > 0 {
            let predicate = format!("trace = {}", hex.to_ascii_lowercase());
            push(&mut found, matching("trace", &format!("trace {hex}"), in_trace, &predicate));
        }
    }
    if is_one_word && text.len() <= 200 {
        // An address may be stored as its pseudonym.
        let addresses = settings::addresses(database).await?;
        let hidden = addresses.in_text(text);
        for stored in [text, &hidden].into_iter().take(if hidden == text { 1 } else { 2 }) {
            for (name, count) in find::attributes(database, stored).await? {
                let predicate = format!("{name} = {}", outcrop_core::query::quoted(stored));
                push(&mut found, matching("attribute", &format!("{name} = {text}"), count, &predicate));
            }
        }
    }
    // A stack, or a report with its type and message: what it would be grouped as.
    let described = Described::new("", "", text);
    if described.stack.is_some() {
        for error in find::by_key(database, described.group().key).await? {
            push(&mut found, of_error("stack", &error, ""));
        }
    }
    by_title(database, text, &mut found).await?;
    found.truncate(MAX_CANDIDATES);
    Ok(found)
}

/// Errors whose title's message stands in the text as a template, or whose title holds all its words.
async fn by_title(database: &Database, text: &str, found: &mut Vec<Candidate>) -> Result<(), StoreError> {
    let line = template(text);
    let words: Vec<String> = text.to_lowercase().split_whitespace().map(str::to_owned).collect();
    for error in find::newest(database).await? {
        let message = error.title.split_once(": ").map_or(error.title.as_str(), |(_, message)| message);
        let is_in_line = message.len() >= 8 && line.contains(message);
        let place = format!("{} {}", error.service, error.title).to_lowercase();
        let has_words = words.len() <= 8 && words.iter().all(|word| place.contains(word.as_str()));
        if is_in_line || has_words {
            push(found, of_error(if is_in_line { "log line" } else { "words" }, &error, ""));
        }
        if found.len() >= MAX_CANDIDATES {
            break;
        }
    }
    Ok(())
}

fn push(found: &mut Vec<Candidate>, candidate: Candidate) {
    if !found.iter().any(|known| known.path == candidate.path) {
        found.push(candidate);
    }
}

fn of_error(by: &str, error: &find::Found, view: &str) -> Candidate {
    Candidate {
        by: by.to_owned(),
        reference: Some(error.reference().to_string()),
        title: format!("{}: {}", error.service, error.title),
        path: format!("/errors/{}{view}", error.reference()),
        predicate: None,
    }
}

fn matching(by: &str, what: &str, count: i64, predicate: &str) -> Candidate {
    let encoded: String = predicate
        .bytes()
        .map(|byte| {
            if byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-') {
                char::from(byte).to_string()
            } else {
                format!("%{byte:02X}")
            }
        })
        .collect();
    Candidate {
        by: by.to_owned(),
        reference: None,
        title: format!("{what}: {count} {}", if count == 1 { "occurrence" } else { "occurrences" }),
        path: format!("/errors?since=30d&where={encoded}"),
        predicate: Some(predicate.to_owned()),
    }
}

fn bytes(hex: &str) -> Option<[u8; 16]> {
    let number = u128::from_str_radix(hex, 16).ok()?;
    Some(number.to_be_bytes())
}
