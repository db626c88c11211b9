//! What an instrumented service tells of one request.

use opentelemetry_proto::tonic::common::v1::KeyValue;
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::trace::v1::span::Event;
use opentelemetry_proto::tonic::trace::v1::{Span, Status};

use crate::case::{Case, whole};
use crate::faults::{Failure, Told};
use crate::lines::WITH_LINES;
use crate::telemetry::{Batch, body, number, text};
use crate::world::{Endpoint, Kind};
use crate::{inside, lines};

/// A berth's job, sent while a ticket was scanned.
pub(super) fn message(case: &Case, parent: u64, random: &mut fastrand::Rng) -> Span {
    Span {
        trace_id: case.trace.to_be_bytes().to_vec(),
        span_id: random.u64(1..).to_be_bytes().to_vec(),
        parent_span_id: parent.to_be_bytes().to_vec(),
        name: "send berth_jobs".to_owned(),
        kind: 4,
        start_time_unix_nano: case.time + 3_000_000,
        end_time_unix_nano: case.time + 4_000_000,
        attributes: vec![
            text("messaging.system", "rabbitmq"),
            text("messaging.destination.name", "berth_jobs"),
        ],
        ..whole()
    }
}

/// One run of a query of a request.
pub(super) fn query(case: &Case, parent: u64, run: u64, runs: u64, random: &mut fastrand::Rng) -> Span {
    let step = (case.millis - 12) * 1_000_000 / runs.max(1);
    let start = case.time + 6_000_000 + run * step;
    let statement = if runs > 1 {
        format!("SELECT * FROM cabins WHERE id = {}", random.u32(1_000..9_000))
    } else {
        "SELECT * FROM sailings WHERE day = $1".to_owned()
    };
    Span {
        trace_id: case.trace.to_be_bytes().to_vec(),
        span_id: random.u64(1..).to_be_bytes().to_vec(),
        parent_span_id: parent.to_be_bytes().to_vec(),
        name: if runs > 1 { "SELECT cabins" } else { "SELECT sailings" }.to_owned(),
        kind: 3,
        start_time_unix_nano: start,
        end_time_unix_nano: start + step * 9 / 10,
        attributes: vec![
            text("db.system.name", "postgresql"),
            text("db.namespace", "sailings"),
            text("db.query.text", statement),
        ],
        ..whole()
    }
}

/// Customers of the ferries: ports that book for their passengers.
pub(super) const PORTS: [&str; 4] = ["Norhaven", "Tarn Sound", "Selkie Bay", "Outer Holm"];

/// The share of quotes for winter's fares.
pub(super) const WINTER: f64 = 0.11;

/// Tells of a request as an instrumented service does: its entry span with the exception, and log records. Returns the
/// span's id.
pub(super) fn tell(
    batch: &mut Batch,
    (case, parent): (&Case, u64),
    (service, endpoint): (&str, &Endpoint),
    failure: Option<Failure>,
    random: &mut fastrand::Rng,
) -> u64 {
    let id = random.u64(1..);
    if case.ago < WITH_LINES {
        let fails_by_fare = failure
            .as_ref()
            .is_some_and(|failure| failure.type_name == "decimal.DivisionByZero");
        batch.logs.extend(
            lines::of_request(service, fails_by_fare, random)
                .into_iter()
                .map(|line| line.record(case.trace, id, case.time)),
        );
    }
    let end = case.time + case.millis * 1_000_000;
    let is_uncaught = failure.as_ref().is_some_and(|failure| failure.uncaught);
    let mut attributes = asked(endpoint, case, is_uncaught, random);
    if matches!(endpoint.kind, Kind::Http) {
        attributes.push(text("user.id", case.user.clone()));
    }
    if endpoint.route == "/v1/quotes/{sailing}" {
        attributes.push(text("skerry.season", if case.is_winter { "winter" } else { "summer" }));
    }
    let mut events = vec![];
    if let Some(failure) = failure {
        let exception = |failure: &Failure| -> Vec<KeyValue> {
            let mut told = vec![
                text("exception.type", failure.type_name),
                text("exception.message", failure.message.clone()),
                text("exception.stacktrace", failure.stack.clone()),
            ];
            if !failure.frames.is_empty() {
                told.push(text("outcrop.frames", failure.frames));
            }
            told
        };
        if failure.in_database {
            batch.spans.push(database_call(case, id, end, random));
        }
        if failure.told != Told::InLog {
            events.push(Event {
                name: "exception".to_owned(),
                time_unix_nano: end - 400_000,
                attributes: exception(&failure),
                ..Event::default()
            });
        }
        if failure.told != Told::OnSpan {
            let mut attributes = exception(&failure);
            attributes.push(text("user.id", case.user.clone()));
            batch.logs.push(LogRecord {
                time_unix_nano: end - 300_000,
                observed_time_unix_nano: end - 300_000,
                severity_number: if failure.uncaught { 17 } else { 13 },
                severity_text: if failure.uncaught { "ERROR" } else { "WARN" }.to_owned(),
                body: Some(body(if failure.uncaught {
                    "request failed"
                } else {
                    "went on without it"
                })),
                attributes,
                trace_id: case.trace.to_be_bytes().to_vec(),
                span_id: id.to_be_bytes().to_vec(),
                flags: 1,
                ..LogRecord::default()
            });
        }
    }
    let name = match endpoint.kind {
        Kind::Nightly(_) => endpoint.route.to_owned(),
        Kind::Http | Kind::Queue => format!("{} {}", endpoint.method, endpoint.route),
    };
    if case.ago < WITH_LINES {
        batch.spans.extend(inside::spans(case, id, (service, endpoint), random));
    }
    batch.spans.push(Span {
        trace_id: case.trace.to_be_bytes().to_vec(),
        span_id: id.to_be_bytes().to_vec(),
        parent_span_id: if parent == 0 {
            vec![]
        } else {
            parent.to_be_bytes().to_vec()
        },
        name,
        kind: match endpoint.kind {
            Kind::Http => 2,
            Kind::Queue => 5,
            Kind::Nightly(_) => 1,
        },
        start_time_unix_nano: case.time,
        end_time_unix_nano: end,
        attributes,
        events,
        status: is_uncaught.then(|| Status {
            code: 2,
            message: String::new(),
        }),
        flags: 0x101,
        ..whole()
    });
    id
}

/// What is told of a request, run or message.
pub(super) fn asked(endpoint: &Endpoint, case: &Case, is_uncaught: bool, random: &mut fastrand::Rng) -> Vec<KeyValue> {
    match endpoint.kind {
        Kind::Http => vec![
            text("http.request.method", endpoint.method),
            text("http.route", endpoint.route),
            text(
                "url.path",
                endpoint
                    .route
                    .replace("{sailing}", &random.u32(4_000..4_400).to_string()),
            ),
            number("http.response.status_code", if is_uncaught { 500 } else { 200 }),
            text(
                "url.query",
                format!(
                    "deck={}&metres={}",
                    if random.bool() { "car" } else { "lorry" },
                    random.u8(3..19)
                ),
            ),
            text("server.address", "api.skerry.example"),
            text(
                "http.request.header.referer",
                if random.u8(0..4) == 0 {
                    "https://timetables.example/ferries"
                } else {
                    "https://api.skerry.example/book"
                },
            ),
            text("user_agent.original", "Skerry ticket machine 4.1"),
            text("client.address", "203.0.113.24"),
            text("session.id", format!("{:016x}", random.u64(..))),
            text("skerry.port", PORTS[random.usize(..PORTS.len())]),
            number(
                "outcrop.request.first_byte_ms",
                i64::try_from(case.millis / 2).unwrap_or_default(),
            ),
            number(
                "outcrop.request.last_byte_ms",
                i64::try_from(case.millis).unwrap_or_default(),
            ),
            number(
                "outcrop.request.cpu_ms",
                i64::try_from(case.millis / 7).unwrap_or_default(),
            ),
            number(
                "outcrop.request.memory_bytes",
                i64::from(random.u32(400_000..9_000_000)),
            ),
        ],
        Kind::Queue => vec![
            text("messaging.system", "rabbitmq"),
            text("messaging.destination.name", endpoint.route),
            text("messaging.operation.type", "process"),
        ],
        Kind::Nightly(_) => vec![text("skerry.job", endpoint.route)],
    }
}

/// A call to the service's database that failed.
pub(super) fn database_call(case: &Case, parent: u64, end: u64, random: &mut fastrand::Rng) -> Span {
    Span {
        trace_id: case.trace.to_be_bytes().to_vec(),
        span_id: random.u64(1..).to_be_bytes().to_vec(),
        parent_span_id: parent.to_be_bytes().to_vec(),
        name: "SELECT lists".to_owned(),
        kind: 3,
        start_time_unix_nano: case.time + 1_000_000,
        end_time_unix_nano: end - 500_000,
        attributes: vec![
            text("db.system.name", "postgresql"),
            text("db.namespace", "lists"),
            text("db.query.text", "SELECT * FROM lists WHERE sailing = $1"),
        ],
        status: Some(Status {
            code: 2,
            message: String::new(),
        }),
        ..whole()
    }
}
