//! Reading queries' parameters.

use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chrono::{DateTime, Datelike, Utc};
use outcrop_api::ErrorQuery;
use outcrop_core::Reference;
use outcrop_core::query::{Mistake, Predicate};
use outcrop_store::asking::attributes;
use outcrop_store::retention::RETENTION_DAYS;
use outcrop_store::{Scope, grouping};

use super::viewer::Viewer;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;
use crate::state::State;

/// The window where none is asked for.
const DEFAULT_WINDOW: Duration = Duration::from_hours(24);
/// Items per page where no number is asked for, and at most.
pub(super) const PAGE: (u32, u32) = (50, 500);

/// The longest window asked for: as long as days are counted.
const LONGEST_WINDOW: chrono::TimeDelta = chrono::TimeDelta::days(RETENTION_DAYS * 13);
/// The years that a time may lie in: neither a database nor arithmetic reaches its end there.
const YEARS: std::ops::RangeInclusive<i32> = 1970..=2200;

/// A time that a caller sent, within the years that are taken.
pub(super) fn time(what: &str, sent: Option<DateTime<Utc>>) -> Result<Option<DateTime<Utc>>, ApiError> {
    match sent {
        Some(time) if !YEARS.contains(&time.year()) => Err(bad(format!(
            "{what} must lie in the years {} to {}",
            YEARS.start(),
            YEARS.end()
        ))),
        sent => Ok(sent),
    }
}

pub(super) fn limit(asked: Option<u32>) -> Result<usize, ApiError> {
    let limit = asked.unwrap_or(PAGE.0);
    if (1..=PAGE.1).contains(&limit) {
        Ok(limit as usize)
    } else {
        Err(bad(format!("limit is {limit}; it must be 1 to {}", PAGE.1)))
    }
}

/// What is looked at, and who asks.
pub(super) fn scope(query: &ErrorQuery, viewer: &Viewer, now: DateTime<Utc>) -> Result<Scope, ApiError> {
    let asked = query.predicate.as_deref().filter(|text| !text.is_empty());
    let predicate = asked.map(read_predicate).transpose()?;
    Ok(Scope {
        predicate: predicate.map(|predicate| Arc::new(predicate.asked_by(&viewer.email))),
        ..window(query, now)?
    })
}

/// What is looked at, whatever a predicate says.
pub(super) fn window(query: &ErrorQuery, now: DateTime<Utc>) -> Result<Scope, ApiError> {
    let to = time("to", query.to)?.unwrap_or(now);
    let from = match (&query.since, query.from) {
        (Some(_), Some(_)) => return Err(bad("give since or from, not both")),
        (_, from @ Some(_)) => time("from", from)?.unwrap_or(now),
        (since, None) => {
            let window = match since {
                None => DEFAULT_WINDOW,
                Some(since) => humantime::parse_duration(since)
                    .map_err(|error| bad(format!("since is `{since}`: {error}; write it like 30m, 24h or 7d")))?,
            };
            let length = chrono::TimeDelta::from_std(window)
                .ok()
                .filter(|length| *length <= LONGEST_WINDOW);
            to - length.ok_or_else(|| {
                bad(format!(
                    "since: the window may be {} days long",
                    LONGEST_WINDOW.num_days()
                ))
            })?
        }
    };
    if from >= to {
        return Err(bad("the window is empty: from must be before to"));
    }
    if to - from > LONGEST_WINDOW {
        return Err(bad(format!(
            "the window is longer than {} days",
            LONGEST_WINDOW.num_days()
        )));
    }
    let named = |name: &Option<String>| name.clone().filter(|name| !name.is_empty());
    Ok(Scope {
        service: named(&query.service),
        environment: named(&query.environment),
        version: named(&query.version),
        from,
        to,
        predicate: None,
    })
}

/// The same scope in the period that it is held against, where one is asked for.
pub(super) fn against(asked: Option<&str>, scope: &Scope) -> Result<Option<Scope>, ApiError> {
    let Some(asked) = asked.filter(|text| !text.is_empty()) else {
        return Ok(None);
    };
    let length = scope.to - scope.from;
    let read = |text: &str| {
        DateTime::parse_from_rfc3339(text)
            .map_err(|error| {
                bad(format!(
                    "against: `{text}` is no time such as 2026-11-20T08:00:00Z: {error}"
                ))
            })
            .and_then(|read| time("against", Some(read.with_timezone(&Utc))))
            .map(Option::unwrap_or_default)
    };
    let (from, to) = if asked == "before" {
        (scope.from - length, scope.from)
    } else if let Some((from, to)) = asked.split_once('/') {
        (read(from)?, read(to)?)
    } else {
        let earlier = humantime::parse_duration(asked)
            .ok()
            .and_then(|earlier| chrono::TimeDelta::from_std(earlier).ok());
        let earlier = earlier.filter(|earlier| *earlier < LONGEST_WINDOW);
        let earlier = earlier.ok_or_else(|| {
            bad(format!(
                "against is `{asked}`; write before, 1d or 7d, or BEGINNING/END"
            ))
        })?;
        (scope.from - earlier, scope.to - earlier)
    };
    if from >= to {
        return Err(bad(
            "the period to hold against is empty: its beginning must be before its end",
        ));
    }
    Ok(Some(Scope {
        from,
        to,
        ..scope.clone()
    }))
}

/// The period that a window is held against: what is asked for, else as long as the window, before it.
pub(super) fn against_or_before(asked: Option<&str>, scope: &Scope) -> Result<Scope, ApiError> {
    let asked = against(asked, scope)?;
    Ok(asked.unwrap_or_else(|| Scope {
        from: scope.from - (scope.to - scope.from),
        to: scope.from,
        ..scope.clone()
    }))
}

/// The error that a reference leads to: itself, or the one it was joined into.
pub(super) async fn error_of(state: &State, text: &str) -> Result<Reference, ApiError> {
    let asked: Reference = text
        .parse()
        .map_err(|error: outcrop_core::reference::NotAReference| bad(error.to_string()))?;
    let database = state.database.clone();
    Ok(state
        .on_main(async move { grouping::standing(&database, asked).await })
        .await?)
}

/// Refuses a predicate that waits for what nothing has: it would wait for ever.
pub(super) async fn must_be_known(state: &State, text: &str) -> Result<(), ApiError> {
    let (database, asked) = (state.database.clone(), shared_predicate(text)?);
    let unknown = state
        .on_main(async move { attributes::unknown(&database, &asked).await })
        .await?;
    let Some(unknown) = unknown.first() else { return Ok(()) };
    let mistake = Mistake {
        at: unknown.at,
        length: unknown.name.len(),
        message: unknown.to_string(),
    };
    Err(refused(text, mistake))
}

/// Reads a predicate; a mistake becomes the caller's, with its place.
fn read_predicate(text: &str) -> Result<Predicate, ApiError> {
    outcrop_core::query::parse(text).map_err(|mistake| refused(text, mistake))
}

/// Reads a predicate that is kept for others, or for no one who asks: it cannot say `mine`.
pub(super) fn shared_predicate(text: &str) -> Result<Predicate, ApiError> {
    let predicate = read_predicate(text)?;
    match predicate.says_mine() {
        None => Ok(predicate),
        Some(at) => Err(refused(
            text,
            Mistake {
                at,
                length: "mine".len(),
                message: "`mine` is of whoever asks, and this holds for everybody: write `taken by`".to_owned(),
            },
        )),
    }
}

fn refused(text: &str, mistake: Mistake) -> ApiError {
    let (at, length) = super::predicate::place(text, &mistake);
    ApiError::Predicate {
        message: mistake.message,
        at,
        length,
    }
}

/// Cursors are opaque to callers: text in base64url.
pub(super) fn cursor(text: &str) -> String {
    URL_SAFE_NO_PAD.encode(text)
}

pub(super) fn read_cursor(cursor: &str) -> Result<String, ApiError> {
    let refused = || bad("the cursor is none of this list; take it from `next` of the page before");
    let bytes = URL_SAFE_NO_PAD.decode(cursor).ok().ok_or_else(refused)?;
    String::from_utf8(bytes).ok().ok_or_else(refused)
}
