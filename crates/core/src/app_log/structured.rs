//! Events written as data: JSON lines and lines of `key=value` pairs.

use serde_json::{Map, Value};

use super::header::{instant, number};
use super::{Exception, Fields, trace};
use crate::Timestamp;

/// What a structured line says.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Structured {
    pub time: Option<Timestamp>,
    pub severity: u8,
    pub message: String,
    pub service: String,
    pub exception: Option<Exception>,
    /// The trace and span it belongs to, in hex, where it names them.
    pub trace: Option<(String, String)>,
    pub fields: Fields,
}

const TIME: &[&str] = &[
    "time",
    "timestamp",
    "@timestamp",
    "ts",
    "datetime",
    "date",
    "eventTime",
    "Timestamp",
    "t",
    "@t",
    "asctime",
];
const LEVEL: &[&str] = &[
    "level",
    "severity",
    "lvl",
    "log.level",
    "levelname",
    "level_name",
    "Level",
    "@l",
    "loglevel",
    "severityText",
];
const MESSAGE: &[&str] = &[
    "message",
    "msg",
    "event",
    "@m",
    "body",
    "Message",
    "@mt",
    "short_message",
    "text",
];
const SERVICE: &[&str] = &["service.name", "service", "serviceName", "app", "application"];
const TRACE_ID: &[&str] = &[
    "trace_id",
    "traceId",
    "trace.id",
    "TraceId",
    "otelTraceID",
    "traceid",
    "trace",
];
const SPAN_ID: &[&str] = &["span_id", "spanId", "span.id", "SpanId", "otelSpanID"];
/// Names that an exception's type or message goes by, beside its stack.
const TYPE: &[&str] = &[
    "exception.type",
    "type",
    "class",
    "name",
    "error.type",
    "exception.class",
    "exception_class",
    "kind",
    "error.kind",
    "code",
];
const WHAT: &[&str] = &[
    "exception.message",
    "message",
    "msg",
    "error.message",
    "exception_message",
    "detail",
];
/// Fields that may hold a stack's text, the likeliest first; any other text that is one is taken too.
const STACK: &[&str] = &[
    "exception.stacktrace",
    "stack_trace",
    "stack",
    "stacktrace",
    "error.stack_trace",
    "error.stack",
    "exc_info",
    "exception",
    "traceback",
    "backtrace",
    "error",
];

/// How deep objects are looked into.
const MAX_DEPTH: usize = 4;

/// Reads a line that is one JSON object, or pairs of logfmt; `None` where it is neither.
pub(super) fn read(line: &str) -> Option<Structured> {
    let trimmed = line.trim();
    let fields = if trimmed.starts_with('{') && trimmed.ends_with('}') {
        serde_json::from_str(trimmed).ok()?
    } else {
        pairs(trimmed)?
    };
    let text = |names: &[&str]| names.iter().find_map(|name| fields.get(*name)).map(plain);
    let severity = LEVEL.iter().find_map(|name| fields.get(*name)).map_or(0, level);
    let message = text(MESSAGE).unwrap_or_default();
    let hex = |text: String, length: usize| {
        let bare: String = text.chars().filter(|c| *c != '-').collect();
        (bare.len() == length && bare.bytes().all(|b| b.is_ascii_hexdigit())).then(|| bare.to_ascii_lowercase())
    };
    let trace = text(TRACE_ID)
        .and_then(|id| hex(id, 32))
        .map(|id| (id, text(SPAN_ID).and_then(|id| hex(id, 16)).unwrap_or_default()));
    let found = exception(&fields, 0);
    let holds_stack =
        |value: &Value| found.is_some() && (value.as_str().is_some_and(|text| text.contains('\n')) || value.is_array());
    let is_said = |name: &str| {
        [TIME, LEVEL, MESSAGE, SERVICE, TRACE_ID, SPAN_ID]
            .iter()
            .any(|names| names.iter().find(|known| fields.contains_key(**known)) == Some(&name))
            || fields.get(name).is_some_and(holds_stack)
    };
    let kept = Fields::of(&fields, is_said);
    Some(Structured {
        time: TIME.iter().find_map(|name| fields.get(*name)).and_then(time),
        severity,
        exception: found.map(|mut exception| {
            if exception.message.is_empty() && exception.type_name.is_empty() {
                exception.message.clone_from(&message);
            }
            exception
        }),
        message,
        service: text(SERVICE).unwrap_or_default(),
        trace,
        fields: kept,
    })
}

fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// A level by name, or by one of the numbers loggers use: tens from 10 (trace) to 60 (fatal), or syslog's 0 to 7.
fn level(value: &Value) -> u8 {
    match value.as_u64() {
        Some(number @ 0..=7) => [21, 21, 21, 17, 13, 9, 9, 5][usize::try_from(number).unwrap_or_default()],
        Some(tens @ 10..=60) => [1, 5, 9, 13, 17, 21][usize::try_from(tens / 10 - 1).unwrap_or_default().min(5)],
        Some(_) => 0,
        None => value
            .as_str()
            .map_or(0, |name| number(name.rsplit('.').next().unwrap_or(name))),
    }
}

fn time(value: &Value) -> Option<Timestamp> {
    match value {
        Value::String(text) => text.parse::<f64>().ok().and_then(of_epoch).or_else(|| instant(text)),
        Value::Number(number) => of_epoch(number.as_f64()?),
        _ => None,
    }
}

/// Seconds, milliseconds, microseconds or nanoseconds since 1970, by their size.
#[expect(clippy::cast_possible_truncation, reason = "a time within centuries fits")]
fn of_epoch(number: f64) -> Option<Timestamp> {
    let nanos = match number {
        1e8..1e11 => number * 1e9,
        1e11..1e14 => number * 1e6,
        1e14..1e17 => number * 1e3,
        1e17..1e19 => number,
        _ => return None,
    };
    Some(Timestamp(nanos as i64))
}

/// The exception that an object holds: the likeliest field with a stack's text, with type and message beside it.
fn exception(fields: &Map<String, Value>, depth: usize) -> Option<Exception> {
    let likely = STACK.iter().filter_map(|name| fields.get(*name));
    let others = fields
        .iter()
        .filter(|(name, _)| !STACK.contains(&name.as_str()))
        .map(|(_, value)| value);
    for value in likely.chain(others) {
        match value {
            Value::String(text) if text.contains('\n') => {
                let beside = |names: &[&str]| {
                    names
                        .iter()
                        .filter_map(|name| fields.get(*name))
                        .find_map(Value::as_str)
                        .unwrap_or_default()
                };
                if let Some(mut found) = trace::of_text(text) {
                    // What stands beside the stack under a name of its own is the exception's; what
                    // a logger calls message is the event's.
                    let has_own =
                        depth > 0 || fields.contains_key("exception.message") || fields.contains_key("exception.type");
                    if has_own {
                        let (type_name, message) = (beside(TYPE), beside(WHAT));
                        if found.type_name.is_empty() {
                            type_name.clone_into(&mut found.type_name);
                        }
                        if !message.is_empty() {
                            message.clone_into(&mut found.message);
                        }
                    }
                    return Some(found);
                }
            }
            // A stack as a list of its lines.
            Value::Array(lines) if lines.len() > 1 && lines.iter().all(Value::is_string) => {
                let text = lines.iter().filter_map(Value::as_str).collect::<Vec<_>>().join("\n");
                if let Some(found) = trace::of_text(&text) {
                    return Some(found);
                }
            }
            Value::Object(inner) if depth < MAX_DEPTH => {
                if let Some(found) = exception(inner, depth + 1).or_else(|| without_frames(inner)) {
                    return Some(found);
                }
            }
            _ => {}
        }
    }
    None
}

/// An error that a logger wrote as an object, whose stack has no frames: it begins with the type that stands beside it.
fn without_frames(fields: &Map<String, Value>) -> Option<Exception> {
    let text = |names: &[&str]| {
        names
            .iter()
            .filter_map(|name| fields.get(*name))
            .find_map(Value::as_str)
            .unwrap_or_default()
    };
    let (type_name, stack) = (text(&["type", "name"]), text(&["stack", "stacktrace", "stack_trace"]));
    let is_of_type = !type_name.is_empty()
        && stack
            .strip_prefix(type_name)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with(':'));
    is_of_type.then(|| Exception {
        type_name: type_name.to_owned(),
        message: text(WHAT).to_owned(),
        stacktrace: stack.to_owned(),
    })
}

/// Reads `key=value key="quoted \"value\""`: at least three pairs, one of them a level, time or message.
fn pairs(line: &str) -> Option<Map<String, Value>> {
    let mut fields = Map::new();
    let mut rest = line;
    while !rest.is_empty() {
        let (key, after) = rest.split_once('=')?;
        if key.is_empty() || key.len() > 60 || !key.bytes().all(|b| b.is_ascii_alphanumeric() || b"._-@".contains(&b)) {
            return None;
        }
        let (value, next) = if let Some(quoted) = after.strip_prefix('"') {
            quoted_value(quoted)?
        } else {
            after
                .split_once(' ')
                .map_or((after.to_owned(), ""), |(value, next)| (value.to_owned(), next))
        };
        fields.insert(key.to_owned(), Value::String(value));
        rest = next.trim_start();
    }
    let is_event = [TIME, LEVEL, MESSAGE]
        .iter()
        .filter(|names| names.iter().any(|name| fields.contains_key(*name)))
        .count()
        >= 2;
    is_event.then_some(fields)
}

fn quoted_value(text: &str) -> Option<(String, &str)> {
    let mut value = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Some((value, text.get(at + 1..).unwrap_or_default())),
            '\\' => match chars.next()?.1 {
                'n' => value.push('\n'),
                't' => value.push('\t'),
                'r' => value.push('\r'),
                other => value.push(other),
            },
            c => value.push(c),
        }
    }
    None
}
