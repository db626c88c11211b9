//! Tickets of errors: what is sent to make one, and what is read of the answer.

use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{Header, TicketItem, Tracker};
use outcrop_core::Reference;
use outcrop_core::stack::Stack;
use outcrop_core::template::{Facts, Unknown, fill, fill_json};
use outcrop_store::errors::tickets::{self, Ticket};
use outcrop_store::{Database, Scope, StoreError, ids, occurrences};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::Value;

use crate::Settings;
use crate::outbound::{Allowed, Failed, Request, secret_named};

/// Own frames told in a ticket.
const FRAMES: usize = 10;
/// Longest id, address and state that are taken of an answer, in bytes.
const LONGEST: usize = 2_000;
/// How often a ticket's state is read again, and how many at once.
const AGAIN: TimeDelta = TimeDelta::minutes(5);
const AT_ONCE: i64 = 20;
/// How often it is looked which states are due.
pub(crate) const EVERY: Duration = Duration::from_secs(30);

/// Why a ticket was not made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotMade {
    /// There is no such error.
    #[error("there is no error {0}")]
    NoError(Reference),
    /// Nobody said how.
    #[error("nobody has said how tickets are made: an admin does, with `outcrop ticket set`")]
    NotSet,
    /// There is one, or one is being made.
    #[error("there is a ticket already, or one is being made")]
    IsThere,
    /// What was set cannot be sent.
    #[error("{0}")]
    Setting(String),
    /// It was not sent, or not answered.
    #[error("{0}")]
    Outbound(#[from] Failed),
    /// The other program refused.
    #[error("{host} answered {status}{said}")]
    Refused {
        /// Who.
        host: String,
        /// Its status.
        status: u16,
        /// What it said, as far as that is text.
        said: String,
    },
    /// The answer holds no id or address where one was expected.
    #[error("the answer holds nothing at {0}")]
    Answer(String),
    /// The database did not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<Unknown> for NotMade {
    fn from(unknown: Unknown) -> Self {
        Self::Setting(unknown.to_string())
    }
}

pub(crate) fn item(ticket: Ticket) -> TicketItem {
    TicketItem {
        id: ticket.key,
        link: ticket.link,
        state: ticket.state,
        by: ticket.made_by,
        at: ticket.made_at,
        looked_at: ticket.looked_at,
    }
}

/// How tickets are made, where somebody said.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn tracker(database: &Database) -> Result<Option<Tracker>, StoreError> {
    let setting = tickets::tracker(database).await?;
    Ok(setting.and_then(|setting| {
        serde_json::from_value(setting)
            .inspect_err(|error| tracing::warn!(%error, "how tickets are made cannot be read"))
            .ok()
    }))
}

/// Makes the ticket of an error and keeps it.
///
/// # Errors
/// [`NotMade`] with the reason.
pub(crate) async fn make(
    database: &Database,
    settings: &Settings,
    error: Reference,
    (by, now): (&str, DateTime<Utc>),
) -> Result<TicketItem, NotMade> {
    let tracker = tracker(database).await?.ok_or(NotMade::NotSet)?;
    let facts = facts(database, settings, error, now)
        .await?
        .ok_or(NotMade::NoError(error))?;
    let request = request(&tracker, &facts, secret(&tracker)?.as_deref())?;
    let number = ids::number(error);
    if !tickets::begin(database, number, by, now).await? {
        return Err(NotMade::IsThere);
    }
    match sent(&settings.outbound, &tracker, &request).await {
        Ok((key, link)) => {
            tickets::keep(database, number, &key, &link).await?;
            let kept = tickets::of_error(database, number).await?;
            kept.map(item).ok_or(NotMade::IsThere)
        }
        Err(failed) => {
            tickets::give_up(database, number).await?;
            Err(failed)
        }
    }
}

/// What would be sent to make the ticket of an error, without its secret.
///
/// # Errors
/// [`NotMade`] with what is wrong with the setting.
pub(crate) async fn try_out(
    database: &Database,
    settings: &Settings,
    tracker: &Tracker,
    error: Reference,
    now: DateTime<Utc>,
) -> Result<Request, NotMade> {
    let facts = facts(database, settings, error, now)
        .await?
        .ok_or(NotMade::NoError(error))?;
    check(tracker, &settings.outbound)?;
    request(tracker, &facts, None)
}

/// Whether a setting can be sent.
///
/// # Errors
/// [`NotMade`] with what is wrong with it.
pub(crate) fn check(tracker: &Tracker, allowed: &Allowed) -> Result<(), NotMade> {
    if !matches!(tracker.method.as_str(), "POST" | "PUT") {
        return Err(NotMade::Setting("method is POST or PUT".to_owned()));
    }
    allowed.check(&tracker.address)?;
    let id = [("id", "1".to_owned())].into();
    for address in [&tracker.state_address, &Some(tracker.link.clone())]
        .into_iter()
        .flatten()
    {
        if !address.starts_with('/') {
            let filled = fill(address, &id)?;
            if Some(address) == tracker.state_address.as_ref() {
                allowed.check(&filled)?;
            }
        }
    }
    for pointer in [Some(&tracker.id), tracker.state.as_ref()].into_iter().flatten() {
        if !pointer.starts_with('/') {
            return Err(NotMade::Setting(format!(
                "`{pointer}` is no JSON pointer; write it like /id"
            )));
        }
    }
    let name = tracker.secret.as_deref().unwrap_or_default();
    if !name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_') {
        return Err(NotMade::Setting(
            "a secret's name has letters, digits and _ alone".to_owned(),
        ));
    }
    request(tracker, &no_facts(), None).map(|_request| ())
}

/// Reads the states of tickets that are due. Returns how many were looked at.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn look(database: &Database, settings: &Settings, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let Some(tracker) = tracker(database).await? else {
        return Ok(0);
    };
    let (Some(address), Some(pointer)) = (&tracker.state_address, &tracker.state) else {
        return Ok(0);
    };
    let due = tickets::due(database, now - AGAIN, AT_ONCE).await?;
    let looked = due.len();
    for (error, key) in due {
        let state = match state(&settings.outbound, &tracker, address, &key).await {
            Ok(answer) => answer.pointer(pointer).and_then(text),
            Err(failed) => {
                tracing::warn!(%failed, key, "the state of a ticket could not be read");
                None
            }
        };
        tickets::looked_at(database, error, state.as_deref(), now).await?;
    }
    Ok(looked)
}

async fn state(allowed: &Allowed, tracker: &Tracker, address: &str, key: &str) -> Result<Value, NotMade> {
    let secret = secret(tracker)?;
    let request = Request {
        method: "GET".to_owned(),
        address: fill(address, &id_of(key))?,
        headers: headers(tracker, secret.as_deref()),
        body: None,
        bytes: None,
    };
    Ok(allowed.send(&request).await?.body)
}

async fn sent(allowed: &Allowed, tracker: &Tracker, request: &Request) -> Result<(String, String), NotMade> {
    let answer = allowed.send(request).await?;
    if !(200..300).contains(&answer.status) {
        let host = allowed
            .check(&request.address)?
            .host_str()
            .unwrap_or_default()
            .to_owned();
        let said = ["/detail", "/message", "/error"]
            .iter()
            .find_map(|at| answer.body.pointer(at).and_then(Value::as_str))
            .map(|said| format!(": {said}"))
            .unwrap_or_default();
        return Err(NotMade::Refused {
            host,
            status: answer.status,
            said,
        });
    }
    let at = |pointer: &str| {
        (answer.body.pointer(pointer))
            .and_then(text)
            .ok_or_else(|| NotMade::Answer(pointer.to_owned()))
    };
    let key = at(&tracker.id)?;
    let link = if tracker.link.starts_with('/') {
        at(&tracker.link)?
    } else {
        fill(&tracker.link, &id_of(&key))?
    };
    // It becomes a link that people follow: nothing but a page.
    if !(link.starts_with("https://") || link.starts_with("http://")) {
        return Err(NotMade::Answer(tracker.link.clone()));
    }
    Ok((key, link))
}

/// A short text or number of an answer.
fn text(value: &Value) -> Option<String> {
    let text = match value {
        Value::String(text) => text.clone(),
        Value::Number(number) => number.to_string(),
        Value::Bool(is) => is.to_string(),
        _ => return None,
    };
    let is_short = !text.is_empty() && text.len() <= LONGEST && !text.contains('\0');
    is_short.then_some(text)
}

/// A ticket's id, as it stands in an address.
fn id_of(key: &str) -> Facts<'static> {
    [("id", utf8_percent_encode(key, NON_ALPHANUMERIC).to_string())].into()
}

fn request(tracker: &Tracker, facts: &Facts<'_>, secret: Option<&str>) -> Result<Request, NotMade> {
    Ok(Request {
        method: tracker.method.clone(),
        address: tracker.address.clone(),
        headers: headers(tracker, secret),
        body: Some(fill_json(&tracker.body, facts)?),
        bytes: None,
    })
}

fn headers(tracker: &Tracker, secret: Option<&str>) -> Vec<(String, String)> {
    let secret = secret.unwrap_or("…");
    let filled = |Header { name, value }: &Header| (name.clone(), value.replace("{secret}", secret));
    tracker.headers.iter().map(filled).collect()
}

/// The secret that a setting names: of the environment, or of the service manager's credentials.
fn secret(tracker: &Tracker) -> Result<Option<String>, NotMade> {
    let Some(name) = &tracker.secret else { return Ok(None) };
    secret_named(name).map(Some).map_err(NotMade::Setting)
}

/// The names of what is known of an error.
const NAMES: [&str; 10] = [
    "ref",
    "title",
    "sentence",
    "service",
    "environments",
    "version",
    "frames",
    "evidence",
    "counts",
    "link",
];

fn no_facts() -> Facts<'static> {
    NAMES.into_iter().map(|name| (name, String::new())).collect()
}

/// What is known of an error, for a ticket.
async fn facts(
    database: &Database,
    settings: &Settings,
    error: Reference,
    now: DateTime<Utc>,
) -> Result<Option<Facts<'static>>, StoreError> {
    let day = Scope {
        service: None,
        environment: None,
        version: None,
        from: now - TimeDelta::hours(24),
        to: now,
        predicate: None,
    };
    let Some(detail) = super::errors::one(database, error, &day, None, now).await? else {
        return Ok(None);
    };
    let stack = occurrences::latest_stack(database, error).await?;
    let item = detail.error;
    let reference = error.to_string();
    let evidence: Vec<String> = (detail.flagged.iter().filter(|flag| flag.withdrawn_at.is_none()))
        .map(|flag| format!("{} in {}: {}", flag.flag, flag.environment, flag.evidence))
        .collect();
    let link = settings.page(&["errors", &reference], &[]);
    Ok(Some(
        [
            ("ref", reference),
            (
                "sentence",
                sentence(&detail.lead, &item.title, item.own_frame.as_deref()),
            ),
            ("title", item.title),
            ("service", item.service),
            ("environments", item.environments.join(", ")),
            ("version", item.versions.last().cloned().unwrap_or(item.first_version)),
            ("frames", stack.as_ref().map(frames).unwrap_or_default()),
            ("evidence", evidence.join("\n")),
            (
                "counts",
                format!("{} occurrences of {} users in the last 24 h", item.count, item.users),
            ),
            ("link", link.unwrap_or_default()),
        ]
        .into(),
    ))
}

fn sentence(lead: &str, title: &str, own_frame: Option<&str>) -> String {
    let lead = if lead.is_empty() {
        String::new()
    } else {
        format!("{lead}: ")
    };
    let place = own_frame.map(|frame| format!(" in {frame}")).unwrap_or_default();
    format!("{lead}{title}{place}")
}

/// The innermost own frames, a line each.
fn frames(stack: &Stack<'_>) -> String {
    let own = stack
        .exceptions
        .iter()
        .flat_map(|exception| &exception.frames)
        .filter(|frame| frame.own);
    let told = own.take(FRAMES).map(|frame| {
        let line = frame.line.map(|line| format!(":{line}")).unwrap_or_default();
        format!("{} {}{line}", frame.function, frame.file)
    });
    told.collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    pub(crate) fn tracker() -> Tracker {
        Tracker {
            method: "POST".to_owned(),
            address: "https://tracker.skerry.example/tickets".to_owned(),
            headers: vec![Header {
                name: "authorization".to_owned(),
                value: "Bearer {secret}".to_owned(),
            }],
            body: json!({"title": "{title} in {service}", "text": "{sentence}\n{frames}\n{link}"}),
            secret: None,
            id: "/id".to_owned(),
            link: "/url".to_owned(),
            state_address: Some("https://tracker.skerry.example/tickets/{id}".to_owned()),
            state: Some("/state".to_owned()),
        }
    }

    fn allowed() -> Allowed {
        Allowed {
            hosts: vec!["tracker.skerry.example".to_owned()],
            private: false,
        }
    }

    #[rstest]
    #[case::method(Tracker { method: "GET".to_owned(), ..tracker() }, "method is POST or PUT")]
    #[case::another_host(Tracker { address: "https://evil.example/".to_owned(), ..tracker() }, "is no host")]
    #[case::another_host_for_the_state(
        Tracker { state_address: Some("http://169.254.169.254/{id}".to_owned()), ..tracker() },
        "is no host"
    )]
    #[case::an_unknown_place(Tracker { body: json!({"a": "{tilte}"}), ..tracker() }, "`{tilte}` names nothing")]
    #[case::another_unknown_place(Tracker { link: "https://t.example/{key}".to_owned(), ..tracker() }, "`{key}`")]
    #[case::no_pointer(Tracker { id: "id".to_owned(), ..tracker() }, "`id` is no JSON pointer")]
    #[case::a_secret_elsewhere(Tracker { secret: Some("../etc/passwd".to_owned()), ..tracker() }, "letters, digits")]
    fn what_cannot_be_sent_is_refused_when_it_is_set(#[case] setting: Tracker, #[case] why: &str) {
        check(&tracker(), &allowed()).unwrap();
        let refused = check(&setting, &allowed()).unwrap_err().to_string();
        assert!(refused.contains(why), "{refused}");
    }

    #[test]
    fn an_id_of_another_program_leads_nowhere_else() {
        let filled = fill("https://t.example/{id}/state", &id_of("../../admin?x=1#")).unwrap();
        assert_eq!(filled, "https://t.example/%2E%2E%2F%2E%2E%2Fadmin%3Fx%3D1%23/state");
    }

    #[test]
    fn a_secret_that_is_not_there_is_named_and_none_stands_in_a_trial() {
        let setting = Tracker {
            secret: Some("nowhere".to_owned()),
            ..tracker()
        };
        let missing = secret(&setting).unwrap_err().to_string();
        assert!(missing.contains("OUTCROP_SECRET_NOWHERE"), "{missing}");
        let tried = request(&setting, &no_facts(), None).unwrap();
        assert_eq!(tried.headers, [("authorization".to_owned(), "Bearer …".to_owned())]);
    }

    #[rstest]
    #[case(json!("T-71"), Some("T-71"))]
    #[case(json!(71), Some("71"))]
    #[case(json!(""), None)]
    #[case(json!({"a": 1}), None)]
    #[case(json!("x".repeat(3_000)), None)]
    fn ids_and_states_are_short_texts(#[case] value: Value, #[case] read: Option<&str>) {
        assert_eq!(text(&value).as_deref(), read);
    }
}
