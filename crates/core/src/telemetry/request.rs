//! The request of an occurrence, sorted for people: what was asked, with what, by whom, in which time.
//!
//! Names are OpenTelemetry's (HTTP, RPC, messaging, session, user); what the conventions have no name for stands under
//! `outcrop.request.`: `body`, `form` (a map), `first_byte_ms`, `last_byte_ms` (since the request
//! came), `cpu_ms`, `memory_bytes`.

use serde_json::{Map, Value};

use crate::text::plain;

/// A part of a request: a heading and rows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// What it is about.
    pub title: &'static str,
    /// Its rows.
    pub rows: Vec<Row>,
}

/// One value of a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// What people call it.
    pub label: String,
    /// The value, as text.
    pub value: String,
    /// The attribute it was sent as; empty where it is worked out from others.
    pub attribute: String,
}

/// (label, attribute names, the first there counts)
type Rows = &'static [(&'static str, &'static [&'static str])];

const ASKED: Rows = &[
    ("method", &["http.request.method", "http.method", "rpc.method"]),
    ("route", &["http.route"]),
    ("URL", &["url.full", "http.url"]),
    ("path", &["url.path", "http.target"]),
    ("host asked", &["server.address", "http.host", "net.host.name"]),
    ("service asked", &["rpc.service"]),
    ("system", &["rpc.system", "rpc.system.name", "messaging.system"]),
    ("destination", &["messaging.destination.name", "messaging.destination"]),
    ("message id", &["messaging.message.id"]),
    (
        "status",
        &[
            "http.response.status_code",
            "http.status_code",
            "rpc.grpc.status_code",
            "rpc.response.status_code",
        ],
    ),
];
const WHO: Rows = &[
    ("user", &["user.id", "enduser.id"]),
    ("user's name", &["user.name", "user.full_name"]),
    ("user's address", &["user.email"]),
    ("roles", &["user.roles", "enduser.role"]),
    ("session", &["session.id"]),
];
const CLIENT: Rows = &[
    (
        "client",
        &[
            "client.address",
            "http.client_ip",
            "net.sock.peer.addr",
            "network.peer.address",
        ],
    ),
    (
        "agent",
        &[
            "user_agent.original",
            "http.user_agent",
            "http.request.header.user-agent",
        ],
    ),
];
const TIMES: Rows = &[
    ("took, ms", &["outcrop.request.duration_ms"]),
    ("first byte, ms", &["outcrop.request.first_byte_ms"]),
    ("last byte, ms", &["outcrop.request.last_byte_ms"]),
    ("CPU, ms", &["outcrop.request.cpu_ms"]),
    ("memory, bytes", &["outcrop.request.memory_bytes"]),
    (
        "request, bytes",
        &["http.request.body.size", "http.request_content_length"],
    ),
    (
        "answer, bytes",
        &["http.response.body.size", "http.response_content_length"],
    ),
    ("resends", &["http.request.resend_count"]),
];
const BODY: &str = "outcrop.request.body";
const FORM: &str = "outcrop.request.form";
const REFERRER: &str = "http.request.header.referer";
const HEADERS: [&str; 2] = ["http.request.header.", "http.response.header."];

/// Sorts a request's attributes; parts without a value are left out.
///
/// # Example
/// ```
/// let attributes = serde_json::from_str(r#"{"http.request.method": "GET", "url.query": "deck=car&metres=12"}"#).unwrap();
/// let parts = outcrop_core::telemetry::request::parts(&attributes);
/// assert_eq!(parts[1].title, "Query");
/// assert_eq!((parts[1].rows[1].label.as_str(), parts[1].rows[1].value.as_str()), ("metres", "12"));
/// ```
#[must_use]
pub fn parts(attributes: &Map<String, Value>) -> Vec<Part> {
    let table = |rows: Rows| {
        rows.iter()
            .filter_map(|(label, names)| row(attributes, label, names))
            .collect::<Vec<_>>()
    };
    let mut client = table(CLIENT);
    client.extend(claimed(attributes));
    client.extend(referrer(attributes));
    let parts = [
        ("Asked", table(ASKED)),
        ("Query", query(attributes)),
        ("Form", fields(attributes, FORM)),
        (
            "Body",
            attributes
                .get(BODY)
                .map(|body| of(BODY, "body", body))
                .into_iter()
                .collect(),
        ),
        ("Who", table(WHO)),
        ("Client", client),
        ("Times and sizes", table(TIMES)),
        ("Headers", headers(attributes)),
    ];
    parts
        .into_iter()
        .filter(|(_, rows)| !rows.is_empty())
        .map(|(title, rows)| Part { title, rows })
        .collect()
}

fn of(attribute: &str, label: &str, value: &Value) -> Row {
    // Headers come as lists of one, mostly.
    let text = match value {
        Value::Array(values) => values.iter().map(plain).collect::<Vec<_>>().join(", "),
        value => plain(value),
    };
    Row {
        label: label.to_owned(),
        value: text,
        attribute: attribute.to_owned(),
    }
}

fn row(attributes: &Map<String, Value>, label: &str, names: &[&str]) -> Option<Row> {
    let (name, value) = names.iter().find_map(|name| Some((*name, attributes.get(*name)?)))?;
    Some(of(name, label, value))
}

fn query(attributes: &Map<String, Value>) -> Vec<Row> {
    let text = |name: &str| attributes.get(name).and_then(Value::as_str);
    let after_mark = |name: &str| {
        text(name)?
            .split_once('?')
            .map(|(_, query)| query.split('#').next().unwrap_or(query))
    };
    let query = text("url.query")
        .or_else(|| after_mark("url.full"))
        .or_else(|| after_mark("http.url"))
        .or_else(|| after_mark("http.target"));
    let pairs = form_urlencoded::parse(query.unwrap_or_default().trim_start_matches('?').as_bytes());
    pairs
        .map(|(name, value)| Row {
            label: name.into_owned(),
            value: value.into_owned(),
            attribute: String::new(),
        })
        .collect()
}

/// The fields of a map, sent as one attribute or as one attribute each.
fn fields(attributes: &Map<String, Value>, name: &str) -> Vec<Row> {
    let whole = attributes.get(name);
    if let Some(Value::String(text)) = whole {
        let pairs = form_urlencoded::parse(text.as_bytes());
        return pairs
            .map(|(name, value)| Row {
                label: name.into_owned(),
                value: value.into_owned(),
                attribute: String::new(),
            })
            .collect();
    }
    let of_map = whole.and_then(Value::as_object).into_iter().flatten();
    let mut rows: Vec<Row> = of_map.map(|(field, value)| of("", field, value)).collect();
    let each = attributes
        .iter()
        .filter_map(|(key, value)| Some((key, key.strip_prefix(name)?.strip_prefix('.')?, value)));
    rows.extend(each.map(|(key, field, value)| of(key, field, value)));
    rows
}

fn headers(attributes: &Map<String, Value>) -> Vec<Row> {
    let mut rows = vec![];
    for (prefix, answer) in HEADERS.iter().zip(["", " (answer)"]) {
        let of_kind = attributes
            .iter()
            .filter_map(|(key, value)| Some((key, key.strip_prefix(prefix)?, value)));
        rows.extend(of_kind.map(|(key, name, value)| of(key, &format!("{name}{answer}"), value)));
    }
    rows.sort_by(|a, b| a.label.cmp(&b.label));
    rows
}

/// What the agent says of itself, in one row.
fn claimed(attributes: &Map<String, Value>) -> Option<Row> {
    let text = |name: &str| attributes.get(name).and_then(Value::as_str);
    let named = |name: &str, version: &str| {
        text(name).map(|name| text(version).map_or_else(|| name.to_owned(), |version| format!("{name} {version}")))
    };
    let robot =
        (attributes.get(crate::telemetry::names::ROBOT) == Some(&Value::Bool(true))).then(|| "a robot".to_owned());
    let said = [
        named("user_agent.name", "user_agent.version"),
        named("user_agent.os.name", "user_agent.os.version"),
        text("outcrop.agent.device").map(str::to_owned),
        robot,
    ];
    let said: Vec<String> = said.into_iter().flatten().collect();
    (!said.is_empty()).then(|| Row {
        label: "agent claims".to_owned(),
        value: said.join(", "),
        attribute: "user_agent.name".to_owned(),
    })
}

/// The page that led here, and whose it is: one of the same host is the application's own.
fn referring(attributes: &Map<String, Value>) -> Option<(Row, &'static str)> {
    let row = row(attributes, "referrer", &[REFERRER, "http.request.header.referrer"])?;
    let host = |url: &str| {
        url.split_once("://")
            .map(|(_, rest)| rest.split(['/', ':', '?']).next().unwrap_or(rest).to_owned())
    };
    let own = ["server.address", "http.host", "http.request.header.host", "url.domain"]
        .iter()
        .find_map(|name| attributes.get(*name))
        .map(|value| of("", "", value).value)
        .or_else(|| attributes.get("url.full").and_then(Value::as_str).and_then(host));
    match (host(&row.value), own) {
        (Some(from), Some(own)) if own.split(':').next() == Some(from.as_str()) => Some((row, "own")),
        (Some(_), Some(_)) => Some((row, "foreign")),
        _ => Some((row, "")),
    }
}

/// Whose page led here: `own`, `foreign`; `None` where no page did, or it cannot be told.
pub(super) fn referrer_owner(attributes: &Map<String, Value>) -> Option<&'static str> {
    referring(attributes)
        .map(|(_, owner)| owner)
        .filter(|owner| !owner.is_empty())
}

fn referrer(attributes: &Map<String, Value>) -> Option<Row> {
    let (row, owner) = referring(attributes)?;
    let label = if owner.is_empty() {
        row.label
    } else {
        format!("referrer ({owner} page)")
    };
    Some(Row { label, ..row })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_is_sorted_for_people() {
        let attributes = serde_json::from_str::<Map<String, Value>>(
            r#"{"http.method": "POST", "http.route": "/v1/quotes/{sailing}", "http.url": "https://skerry.example/v1/quotes/4110?deck=car%20deck#top", "http.status_code": 500,
            "outcrop.request.form": {"metres": 12}, "outcrop.request.body": "{}", "user.id": "u-7", "session.id": "[removed: session]",
            "http.request.header.referer": ["https://skerry.example/book"], "http.request.header.host": ["skerry.example:443"], "http.response.header.retry-after": ["5"],
            "user_agent.original": "curl/8", "user_agent.name": "curl", "user_agent.version": "8", "outcrop.agent.robot": true, "outcrop.request.first_byte_ms": 31.5, "outcrop.request.memory_bytes": 1048576}"#,
        )
        .unwrap();
        let shown: Vec<String> = parts(&attributes)
            .iter()
            .map(|part| {
                let rows: Vec<String> = part
                    .rows
                    .iter()
                    .map(|row| format!("{}={}", row.label, row.value))
                    .collect();
                format!("{}: {}", part.title, rows.join(" | "))
            })
            .collect();
        insta::assert_snapshot!(shown.join("\n"), @r"
        Asked: method=POST | route=/v1/quotes/{sailing} | URL=https://skerry.example/v1/quotes/4110?deck=car%20deck#top | status=500
        Query: deck=car deck
        Form: metres=12
        Body: body={}
        Who: user=u-7 | session=[removed: session]
        Client: agent=curl/8 | agent claims=curl 8, a robot | referrer (own page)=https://skerry.example/book
        Times and sizes: first byte, ms=31.5 | memory, bytes=1048576
        Headers: host=skerry.example:443 | referer=https://skerry.example/book | retry-after (answer)=5
        ");
    }
}
