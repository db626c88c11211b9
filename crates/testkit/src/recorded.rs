//! Request bodies that real SDKs sent, moved to the present.

use std::io::Read;
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use prost::Message;
use serde_json::Value;

/// A request's body.
#[derive(Clone)]
pub struct Body {
    /// The file it stands in.
    pub name: String,
    /// `/v1/traces`, `/v1/logs` or `/v1/metrics`.
    pub path: &'static str,
    /// `application/x-protobuf` or `application/json`.
    pub content_type: &'static str,
    /// The body, not compressed.
    pub bytes: Vec<u8>,
}

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("recorded")
}

/// Reads a recorded body as it was sent.
///
/// # Panics
/// When there is no such file.
#[must_use]
pub fn recorded(name: &str) -> Body {
    let raw = std::fs::read(folder().join(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
    let mut bytes = Vec::new();
    if std::path::Path::new(name)
        .extension()
        .is_some_and(|extension| extension == "gz")
    {
        flate2::read::GzDecoder::new(raw.as_slice())
            .read_to_end(&mut bytes)
            .expect("recorded bodies are whole");
    } else {
        bytes = raw;
    }
    Body {
        name: name.to_owned(),
        path: if name.contains(".traces.") {
            "/v1/traces"
        } else if name.contains(".metrics.") {
            "/v1/metrics"
        } else {
            "/v1/logs"
        },
        content_type: if name.contains(".json") {
            "application/json"
        } else {
            "application/x-protobuf"
        },
        bytes,
    }
}

/// Reads a hostile body by the name of its file.
///
/// # Panics
/// When there is no such file.
#[must_use]
pub fn hostile(file: &str) -> Vec<u8> {
    std::fs::read(folder().join("hostile").join(file)).unwrap_or_else(|error| panic!("{file}: {error}"))
}

/// The hostile cases: how each is sent and which answers are right.
///
/// # Panics
/// When the list is damaged.
#[must_use]
pub fn hostile_cases() -> Vec<Value> {
    let list: Value = serde_json::from_slice(&hostile("expected.json")).expect("the list is JSON");
    list["cases"].as_array().expect("the list has cases").clone()
}

/// Real stacks with the label of their defect: JSON objects with `runtime`, `service`, `type`,
/// `message`, `stacktrace`, `label`.
///
/// # Panics
/// When the file is damaged.
#[must_use]
pub fn labelled_stacks() -> Vec<Value> {
    let lines = std::fs::read_to_string(folder().join("groups.jsonl")).expect("the labelled stacks are there");
    lines
        .lines()
        .map(|line| serde_json::from_str(line).expect("each line is JSON"))
        .collect()
}

/// Real stacks of frameworks as people use them, of runtimes that the others do not have, and of
/// programs written after the rules were made, in up to three versions of each service: lines
/// moved, a file renamed, a helper put between. Objects as [`labelled_stacks`] has them, with
/// `version`.
///
/// # Panics
/// When a file is damaged.
#[must_use]
pub fn labelled_versions() -> Vec<Value> {
    ["frameworks.jsonl.gz", "runtimes.jsonl.gz", "unseen.jsonl.gz"]
        .into_iter()
        .flat_map(compressed)
        .collect()
}

/// Logs as 24 styles of loggers and crashes write them, five of each, most in the wrapping of a
/// process manager: objects with `style`, `wrapping`, `log` and `exceptions` (`first_line`,
/// `last_line`, both counted from 1, and `type`, which is `null` where a crash names none).
///
/// # Panics
/// When the file is damaged.
#[must_use]
pub fn labelled_logs() -> Vec<Value> {
    compressed("logs.jsonl.gz")
}

fn compressed(name: &str) -> Vec<Value> {
    let file = std::fs::File::open(folder().join(name)).expect("the labelled records are there");
    let mut text = String::new();
    flate2::read::GzDecoder::new(file)
        .read_to_string(&mut text)
        .expect("the labelled records are whole");
    text.lines()
        .map(|line| serde_json::from_str::<Value>(line).expect("each line is JSON"))
        .collect()
}

/// Moves all times of bodies by the same distance, so that the newest lies a minute back: order and distances stay.
///
/// # Panics
/// When a body cannot be decoded.
#[must_use]
pub fn restamped(bodies: &[Body]) -> Vec<Body> {
    let newest = bodies.iter().map(newest).max().unwrap_or_default();
    let now = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .expect("the clock is past 1970");
    let target = u64::try_from(now.as_nanos()).expect("before 2554") - 60_000_000_000;
    let moved = |time: u64| if time == 0 { 0 } else { target - (newest - time) };
    bodies
        .iter()
        .map(|body| Body {
            bytes: with_times(body, moved),
            ..body.clone()
        })
        .collect()
}

/// The newest time in a body, in nanoseconds since 1970.
///
/// # Panics
/// When the body cannot be decoded.
#[must_use]
pub fn newest(body: &Body) -> u64 {
    let newest = std::cell::Cell::new(0);
    with_times(body, |time| {
        newest.set(newest.get().max(time));
        time
    });
    newest.get()
}

fn with_times(body: &Body, moved: impl Fn(u64) -> u64) -> Vec<u8> {
    if body.content_type == "application/json" {
        let mut json: Value = serde_json::from_slice(&body.bytes).expect("recorded bodies are JSON");
        walk(&mut json, &moved);
        return json.to_string().into_bytes();
    }
    if body.path == "/v1/traces" {
        let mut request = ExportTraceServiceRequest::decode(body.bytes.as_slice()).expect("recorded bodies decode");
        for span in request
            .resource_spans
            .iter_mut()
            .flat_map(|r| &mut r.scope_spans)
            .flat_map(|s| &mut s.spans)
        {
            span.start_time_unix_nano = moved(span.start_time_unix_nano);
            span.end_time_unix_nano = moved(span.end_time_unix_nano);
            for event in &mut span.events {
                event.time_unix_nano = moved(event.time_unix_nano);
            }
        }
        return request.encode_to_vec();
    }
    let mut request = ExportLogsServiceRequest::decode(body.bytes.as_slice()).expect("recorded bodies decode");
    for record in request
        .resource_logs
        .iter_mut()
        .flat_map(|r| &mut r.scope_logs)
        .flat_map(|s| &mut s.log_records)
    {
        record.time_unix_nano = moved(record.time_unix_nano);
        record.observed_time_unix_nano = moved(record.observed_time_unix_nano);
    }
    request.encode_to_vec()
}

fn walk(json: &mut Value, moved: &impl Fn(u64) -> u64) {
    match json {
        Value::Object(object) => {
            for (name, value) in object {
                if name.ends_with("UnixNano") {
                    let time = value
                        .as_u64()
                        .or_else(|| value.as_str().and_then(|text| text.parse().ok()))
                        .unwrap_or_default();
                    *value = moved(time).to_string().into();
                } else {
                    walk(value, moved);
                }
            }
        }
        Value::Array(items) => items.iter_mut().for_each(|item| walk(item, moved)),
        _ => {}
    }
}
