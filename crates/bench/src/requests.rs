//! Requests as services send them.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::span::Event;
use opentelemetry_proto::tonic::trace::v1::{ResourceSpans, ScopeSpans, Span, Status};

/// Failing spans per request of the product, and senders at once.
pub const PER_REQUEST: u64 = 200;

pub(super) const SENDERS: u64 = 16;

/// What is sent.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Load {
    /// Failing requests, each of its own trace.
    Failures,
    /// Ten spans a trace, none of which fails.
    Spans,
    /// Log lines of requests.
    Logs,
}

impl Load {
    /// The aim: the product's rows per second over the floor's.
    pub(super) const fn aim(self) -> f64 {
        if matches!(self, Self::Failures) { 0.6 } else { 1.0 }
    }

    /// As a figure is named.
    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::Failures => "failures",
            Self::Spans => "spans",
            Self::Logs => "log lines",
        }
    }
}

pub(super) fn library_frame(at: u32) -> String {
    format!(
        "  File \"/srv/skerry/venv/lib/python3.11/site-packages/web/app.py\", line {at}, in call_{at}\n    return \
         next(request)\n"
    )
}

/// What a request of the benchmarks holds.
pub struct Shape {
    pub service: &'static str,
    /// Functions that fail: as many errors.
    pub functions: u64,
    /// How far its spans lie apart, together; they wrap around within it.
    pub spread: Duration,
    /// How long ago its last span was.
    pub ago: Duration,
}

impl Shape {
    pub const NOW: Self = Self {
        service: "fares",
        functions: 20,
        spread: Duration::ZERO,
        ago: Duration::ZERO,
    };
}

/// A request of failing server spans, each of its own trace, with a stack of ten frames.
pub fn request(number: u64, shape: &Shape) -> ExportTraceServiceRequest {
    let nanos = |duration: Duration| u64::try_from(duration.as_nanos()).expect("before 2554");
    let sent = nanos(SystemTime::now().duration_since(UNIX_EPOCH).expect("past 1970"));
    let text = |key: &str, value: String| KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value)),
        }),
        ..KeyValue::default()
    };
    let spans = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            let back = nanos(shape.ago) + nanos(shape.spread) / PER_REQUEST * at;
            let now = sent
                - if shape.spread.is_zero() {
                    back
                } else {
                    back % nanos(shape.spread)
                };
            let function = format!("quote_{}", id % shape.functions);
            let below: String = (0..9).map(library_frame).collect();
            let stack = format!(
                "Traceback (most recent call last):\n{below}  File \"/srv/skerry/fares/tariff.py\", line 88, in \
                 {function}\n    \
                 return base / share\nZeroDivisionError: division by zero"
            );
            Span {
                trace_id: (u128::from(id.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(id))
                    .to_be_bytes()
                    .to_vec(),
                span_id: id.to_be_bytes().to_vec(),
                name: "GET /v1/quotes/{sailing}".to_owned(),
                kind: 2,
                start_time_unix_nano: now - 5_000_000,
                end_time_unix_nano: now,
                attributes: vec![
                    text("http.request.method", "GET".to_owned()),
                    text("http.route", "/v1/quotes/{sailing}".to_owned()),
                    text("url.path", format!("/v1/quotes/{id}")),
                    text("user.id", format!("u-{}", id % 5_000)),
                    text("client.address", "203.0.113.7".to_owned()),
                    text("user_agent.original", "Skerry ticket machine 4.1 (ramp)".to_owned()),
                ],
                events: vec![Event {
                    name: "exception".to_owned(),
                    time_unix_nano: now,
                    attributes: vec![
                        text("exception.type", "ZeroDivisionError".to_owned()),
                        text("exception.message", "division by zero".to_owned()),
                        text("exception.stacktrace", stack),
                    ],
                    ..Event::default()
                }],
                status: Some(Status {
                    code: 2,
                    message: String::new(),
                }),
                ..Span::default()
            }
        })
        .collect();
    let resource = Resource {
        attributes: vec![
            text("service.name", shape.service.to_owned()),
            text("service.version", "2.4.0".to_owned()),
            text("deployment.environment.name", "production".to_owned()),
            text("service.instance.id", "fares-1.pier-3".to_owned()),
        ],
        ..Resource::default()
    };
    let of_scope = ScopeSpans {
        spans,
        ..ScopeSpans::default()
    };
    ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans {
            resource: Some(resource),
            scope_spans: vec![of_scope],
            ..ResourceSpans::default()
        }],
    }
}

pub(super) fn resource() -> Resource {
    let text = |key: &str, value: &str| KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value.to_owned())),
        }),
        ..KeyValue::default()
    };
    Resource {
        attributes: vec![
            text("service.name", "fares"),
            text("service.version", "2.4.0"),
            text("deployment.environment.name", "production"),
            text("service.instance.id", "fares-1.pier-3"),
        ],
        ..Resource::default()
    }
}

pub fn said(key: &str, value: String) -> KeyValue {
    KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value)),
        }),
        ..KeyValue::default()
    }
}

pub(super) fn nanos_now() -> u64 {
    u64::try_from(
        SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .expect("past 1970")
            .as_nanos(),
    )
    .expect("before 2554")
}

pub(super) fn trace_of(id: u64) -> Vec<u8> {
    (u128::from(id.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(id))
        .to_be_bytes()
        .to_vec()
}

/// Spans a trace of [`spans`].
pub(super) const PER_TRACE: u64 = 10;

/// Requests that succeed: an entry span and nine queries below it each.
pub(super) fn spans(number: u64) -> ExportTraceServiceRequest {
    let now = nanos_now();
    let spans = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            let entry = id - at % PER_TRACE;
            let is_entry = at % PER_TRACE == 0;
            let attributes = if is_entry {
                vec![
                    said("http.request.method", "GET".to_owned()),
                    said("http.route", "/v1/quotes/{sailing}".to_owned()),
                    said("url.path", format!("/v1/quotes/{id}")),
                    said("user.id", format!("u-{}", id % 5_000)),
                ]
            } else {
                vec![
                    said("db.system.name", "postgresql".to_owned()),
                    said("db.namespace", "tariffs".to_owned()),
                    said(
                        "db.query.text",
                        format!("SELECT rate FROM tariff WHERE id = {id} AND day = $1"),
                    ),
                    said("server.address", "pier-3.skerry.example".to_owned()),
                ]
            };
            Span {
                trace_id: trace_of(entry),
                span_id: id.to_be_bytes().to_vec(),
                parent_span_id: if is_entry { vec![] } else { entry.to_be_bytes().to_vec() },
                name: if is_entry {
                    "GET /v1/quotes/{sailing}"
                } else {
                    "SELECT tariff"
                }
                .to_owned(),
                kind: if is_entry { 2 } else { 3 },
                start_time_unix_nano: now - 5_000_000 + at * 1_000,
                end_time_unix_nano: now - at * 1_000,
                attributes,
                ..Span::default()
            }
        })
        .collect();
    let of_scope = ScopeSpans {
        spans,
        ..ScopeSpans::default()
    };
    ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans {
            resource: Some(resource()),
            scope_spans: vec![of_scope],
            ..ResourceSpans::default()
        }],
    }
}

/// Log lines of requests.
pub(super) fn lines(number: u64) -> ExportLogsServiceRequest {
    let now = nanos_now();
    let records = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            LogRecord {
                time_unix_nano: now - at * 1_000,
                severity_number: 9,
                severity_text: "INFO".to_owned(),
                body: Some(AnyValue {
                    value: Some(any_value::Value::StringValue(format!(
                        "quote for sailing {id}: {} metres of deck",
                        id % 19
                    ))),
                }),
                attributes: vec![
                    said("user.id", format!("u-{}", id % 5_000)),
                    said("code.function.name", "quote".to_owned()),
                ],
                trace_id: trace_of(id),
                span_id: id.to_be_bytes().to_vec(),
                ..LogRecord::default()
            }
        })
        .collect();
    let of_scope = ScopeLogs {
        log_records: records,
        ..ScopeLogs::default()
    };
    ExportLogsServiceRequest {
        resource_logs: vec![ResourceLogs {
            resource: Some(resource()),
            scope_logs: vec![of_scope],
            ..ResourceLogs::default()
        }],
    }
}
