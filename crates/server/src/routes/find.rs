//! Finding whatever was pasted.

use actix_web::{HttpRequest, get, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{Candidate, FindQuery, FoundPage, Problem};
use outcrop_core::Reference;
use outcrop_core::failure::OccurrenceId;
use outcrop_core::grouping::{Described, template};
use outcrop_core::query::quoted;
use outcrop_store::people::settings;
use outcrop_store::{Database, Scope, StoreError, asking, errors, find};

use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Longest text looked at, in bytes: a stack text fits.
const MAX_TEXT: usize = 65_536;
/// Candidates shown.
const MAX_CANDIDATES: usize = 10;

/// Finds whatever is pasted: a reference, a link, an occurrence, a trace, a user or any attribute's
/// value, a log line, a stack.
#[utoipa::path(operation_id = "find", tag = "find", params(FindQuery), responses(
    (status = 200, body = FoundPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/find")]
pub(super) async fn find_text(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<FoundPage>, ApiError> {
    let asked: FindQuery = parameters(request.query_string())?;
    found(&state, &asked.text).await.map(web::Json)
}

/// What a text may mean.
pub(super) async fn found(state: &State, text: &str) -> Result<FoundPage, ApiError> {
    let text = text.trim().to_owned();
    if text.is_empty() {
        return Err(bad("nothing was given to find"));
    }
    if text.len() > MAX_TEXT {
        return Err(bad(format!("the text is longer than {MAX_TEXT} bytes")));
    }
    let database = state.database.clone();
    let items = state.on_main(async move { candidates(&database, &text).await }).await?;
    Ok(FoundPage { items })
}

async fn candidates(database: &Database, text: &str) -> Result<Vec<Candidate>, StoreError> {
    let mut found = vec![];
    let is_one_word = !text.contains(char::is_whitespace);
    // A link of the console, or a reference within any text.
    for word in text
        .split(|c: char| !(c.is_ascii_lowercase() || c == '-'))
        .filter(|word| word.len() == 11)
    {
        let Ok(reference) = word.parse::<Reference>() else {
            continue;
        };
        let Some(error) = find::error(database, reference).await? else {
            continue;
        };
        let view = text
            .find(word)
            .and_then(|at| text.get(at + word.len()..))
            .filter(|rest| is_one_word && rest.starts_with('?'));
        push(&mut found, of_error("error", &error, view.unwrap_or_default()));
    }
    for hex in text
        .split(|c: char| !c.is_ascii_hexdigit())
        .filter(|hex| hex.len() == 32)
        .take(4)
    {
        let Some(id) = bytes(hex) else { continue };
        if let Some(error) = find::occurrence(database, OccurrenceId(id)).await? {
            push(
                &mut found,
                of_error(
                    "occurrence",
                    &error,
                    &format!("?occurrence={}", hex.to_ascii_lowercase()),
                ),
            );
        }
        let in_trace = find::in_trace(database, id).await?;
        if in_trace > 0 {
            let predicate = format!("trace = {}", hex.to_ascii_lowercase());
            push(
                &mut found,
                matching("trace", &format!("trace {hex}"), in_trace, &predicate),
            );
        }
    }
    if is_one_word && text.len() <= 200 {
        // An address may be stored as its pseudonym.
        let addresses = settings::addresses(database).await?;
        let hidden = addresses.in_text(text);
        for stored in [text, &hidden].into_iter().take(if hidden == text { 1 } else { 2 }) {
            for (name, count) in find::attributes(database, stored).await? {
                let predicate = format!("{name} = {}", quoted(stored));
                push(
                    &mut found,
                    matching("attribute", &format!("{name} = {text}"), count, &predicate),
                );
            }
        }
    }
    places(database, text, &mut found).await?;
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

/// Longest text that may be a name of something.
const MAX_NAME: usize = 200;

/// Hosts and other facts of resources, order ids in log lines, versions and commits, routes, files
/// with their lines, functions.
async fn places(database: &Database, text: &str, found: &mut Vec<Candidate>) -> Result<(), StoreError> {
    if text.len() > MAX_NAME || text.len() < 3 {
        return Ok(());
    }
    let is_one_word = !text.contains(char::is_whitespace);
    if is_one_word {
        for (is_line, name, count) in find::elsewhere(database, text).await? {
            let predicate = format!("{name} = {}", quoted(text));
            push(
                found,
                if is_line {
                    in_lines(&name, text, count, &predicate)
                } else {
                    matching("resource", &format!("{name} = {text}"), count, &predicate)
                },
            );
        }
    }
    // `fares 2.4.0` is how pages say it.
    if text.split(' ').count() <= 2 {
        for release in find::releases(database, text).await? {
            push(found, of_release(&release));
        }
    }
    if is_one_word && text.contains('/')
        || text
            .split_once(' ')
            .is_some_and(|(method, route)| method.chars().all(|c| c.is_ascii_uppercase()) && route.starts_with('/'))
    {
        for (service, endpoint) in find::endpoints(database, text).await? {
            push(found, of_endpoint(&service, &endpoint));
        }
    }
    for (by, predicate) in in_stacks(text) {
        of_predicate(database, by, &predicate, found).await?;
    }
    Ok(())
}

/// What a text asks for as a place in the code: a file, with or without its line, or a function.
fn in_stacks(text: &str) -> Vec<(&'static str, String)> {
    let place = text.trim_start_matches("at ");
    // Brackets around it go, those of a call stay.
    let place = place.trim_start_matches(['(', '"', '\'']).trim_end_matches(['"', '\'']);
    let place = if place.ends_with("()") {
        place
    } else {
        place.trim_end_matches(')')
    };
    let is_word = !place.contains(char::is_whitespace);
    let file = place.split(':').next().unwrap_or(place);
    let is_file = is_word
        && !place.ends_with("()")
        && file.rsplit_once('.').is_some_and(|(stem, ending)| {
            !stem.is_empty()
                && (1..=5).contains(&ending.len())
                && ending.chars().all(|c| c.is_ascii_alphanumeric())
                && ending.starts_with(|c: char| c.is_ascii_alphabetic())
        });
    let function = place.trim_end_matches("()");
    let is_function = is_word
        && function
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | ':' | '$' | '#' | '<' | '>'));
    let mut asked = vec![];
    if is_file {
        asked.push(("file", format!("file = {}", quoted(file))));
    }
    if is_function {
        asked.push(("function", format!("function = {}", quoted(function))));
    }
    asked
}

/// Occurrences of the last week that a predicate holds for: the error, where they are of one.
async fn of_predicate(
    database: &Database,
    by: &str,
    predicate: &str,
    found: &mut Vec<Candidate>,
) -> Result<(), StoreError> {
    let Ok(parsed) = outcrop_core::query::parse(predicate) else {
        return Ok(());
    };
    let to = Utc::now();
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to - TimeDelta::days(7),
        to,
        predicate: Some(parsed.into()),
    };
    let errors: Vec<errors::Summary> = asking::list_errors(database, &scope)
        .await?
        .into_iter()
        .filter(|error| error.count > 0)
        .collect();
    for error in errors.iter().take(2) {
        let candidate = Candidate {
            by: by.to_owned(),
            reference: Some(error.reference.to_string()),
            title: format!("{}: {}", error.service, error.title),
            path: format!("/errors/{}", error.reference),
            predicate: None,
        };
        push(found, candidate);
    }
    if errors.len() > 2 {
        let count = errors.iter().map(|error| error.count).sum();
        push(
            found,
            matching(by, &format!("{predicate}, {} errors", errors.len()), count, predicate),
        );
    }
    Ok(())
}

fn of_release(release: &find::Release) -> Candidate {
    let find::Release {
        service,
        version,
        environment,
    } = release;
    Candidate {
        by: "version".to_owned(),
        reference: None,
        title: format!("{service} {version} in {environment}"),
        path: format!(
            "/deploys/{}/{}?environment={}",
            encoded(service),
            encoded(version),
            encoded(environment)
        ),
        predicate: Some(format!(
            "service = {} and version = {}",
            quoted(service),
            quoted(version)
        )),
    }
}

fn of_endpoint(service: &str, endpoint: &str) -> Candidate {
    Candidate {
        by: "endpoint".to_owned(),
        reference: None,
        title: format!("{service}: {endpoint}"),
        path: format!(
            "/traffic?view=endpoints&service={}&endpoint={}",
            encoded(service),
            encoded(endpoint)
        ),
        predicate: Some(format!(
            "service = {} and endpoint = {}",
            quoted(service),
            quoted(endpoint)
        )),
    }
}

fn in_lines(name: &str, text: &str, count: i64, predicate: &str) -> Candidate {
    Candidate {
        by: "log lines".to_owned(),
        reference: None,
        title: format!(
            "{name} = {text}: {count} log {}",
            if count == 1 { "line" } else { "lines" }
        ),
        path: format!("/traffic?view=logs&since=7d&where={}", encoded(predicate)),
        predicate: Some(predicate.to_owned()),
    }
}

/// Errors whose title's message stands in the text as a template, or whose title holds all its words.
async fn by_title(database: &Database, text: &str, found: &mut Vec<Candidate>) -> Result<(), StoreError> {
    let line = template(text);
    let words: Vec<String> = text.to_lowercase().split_whitespace().map(str::to_owned).collect();
    for error in find::newest(database).await? {
        let message = error
            .title
            .split_once(": ")
            .map_or(error.title.as_str(), |(_, message)| message);
        let is_in_line = message.len() >= 8 && line.contains(message);
        let place = format!("{} {}", error.service, error.title).to_lowercase();
        let has_words = words.len() <= 8 && words.iter().all(|word| place.contains(word.as_str()));
        if is_in_line || has_words {
            push(
                found,
                of_error(if is_in_line { "log line" } else { "words" }, &error, ""),
            );
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
    Candidate {
        by: by.to_owned(),
        reference: None,
        title: format!(
            "{what}: {count} {}",
            if count == 1 { "occurrence" } else { "occurrences" }
        ),
        path: format!("/errors?since=30d&where={}", encoded(predicate)),
        predicate: Some(predicate.to_owned()),
    }
}

/// A text as a part of a link.
fn encoded(text: &str) -> String {
    let sign = |byte: u8| {
        let stays = byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_' | b'-');
        if stays {
            char::from(byte).to_string()
        } else {
            format!("%{byte:02X}")
        }
    };
    text.bytes().map(sign).collect::<Vec<_>>().concat()
}

fn bytes(hex: &str) -> Option<[u8; 16]> {
    let number = u128::from_str_radix(hex, 16).ok()?;
    Some(number.to_be_bytes())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::in_stacks;

    #[rstest]
    #[case("app/tariff.py:92", &["file = \"app/tariff.py\""])]
    #[case("(lib/gate.rb:25:in)", &["file = \"lib/gate.rb\""])]
    #[case("Tariff.quote()", &["function = \"Tariff.quote\""])]
    #[case("tariff.py", &["file = \"tariff.py\"", "function = \"tariff.py\""])]
    #[case("no tide table", &[])]
    #[case("4110/2026", &[])]
    fn a_place_in_the_code_is_told_by_its_form(#[case] text: &str, #[case] expected: &[&str]) {
        let asked: Vec<String> = in_stacks(text).into_iter().map(|(_, predicate)| predicate).collect();
        assert_eq!(asked, expected);
    }
}
