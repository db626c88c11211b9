//! What a request does inside its service: checks, caches, statements that work, calls that are tried again.

use opentelemetry_proto::tonic::common::v1::KeyValue;
use opentelemetry_proto::tonic::trace::v1::{Span, Status};

use crate::case::{Case, whole};
use crate::telemetry::{number, text};
use crate::world::Endpoint;

/// One step of a request.
#[derive(Clone, Copy)]
enum Step {
    /// Work within the service.
    Own(&'static str),
    /// A look into the cache, and whether it is asked for or written.
    Cache(&'static str),
    /// A statement: its operation and table, and its text.
    Statement(&'static str, &'static str),
    /// A call to a partner over HTTP that answers 503 at first every tenth time, and is tried again.
    Partner(&'static str, &'static str),
}

use Step::{Cache, Own, Partner, Statement};

/// What requests of a service and route do, in order.
fn steps(service: &str, endpoint: &Endpoint) -> &'static [Step] {
    match (service, endpoint.route) {
        ("gangway", "/v1/bookings") => &[
            Own("authenticate"),
            Statement(
                "INSERT bookings",
                "INSERT INTO bookings (sailing, passenger) VALUES ($1, $2)",
            ),
            Partner("POST", "payments.example"),
            Own("render"),
        ],
        ("gangway", "/v1/bookings/{booking}") => &[
            Own("authenticate"),
            Cache("GET"),
            Statement("SELECT bookings", "SELECT * FROM bookings WHERE id = $1"),
            Own("render"),
        ],
        ("gangway", _) => &[Own("authenticate"), Cache("GET"), Own("route"), Own("render")],
        ("sailings", _) => &[
            Cache("GET"),
            Statement("SELECT tides", "SELECT height FROM tides WHERE port = $1 AND day = $2"),
            Own("Timetable.merge"),
            Cache("SET"),
        ],
        ("fares", "/v1/quotes/{sailing}") => &[
            Cache("GET"),
            Statement(
                "SELECT tariffs",
                "SELECT rate FROM tariffs WHERE route = $1 AND season = $2",
            ),
            Own("tariff.quote"),
            Statement(
                "INSERT quotes",
                "INSERT INTO quotes (sailing, rate, metres) VALUES ($1, $2, $3)",
            ),
        ],
        ("fares", _) => &[
            Cache("GET"),
            Statement("SELECT tariffs", "SELECT * FROM tariffs WHERE route = $1"),
        ],
        ("stowage", _) => &[
            Own("plan.Deck"),
            Statement(
                "SELECT vehicles",
                "SELECT * FROM vehicles WHERE sailing = $1 ORDER BY deck",
            ),
        ],
        ("boarding", _) => &[
            Own("verify ticket"),
            Cache("GET"),
            Statement("UPDATE tickets", "UPDATE tickets SET scanned_at = now() WHERE id = $1"),
        ],
        ("berths", _) => &[
            Statement("SELECT berths", "SELECT * FROM berths WHERE port = $1 FOR UPDATE"),
            Own("assign"),
            Statement("UPDATE berths", "UPDATE berths SET vessel = $2 WHERE id = $1"),
        ],
        ("bulletins", _) => &[
            Statement("SELECT subscribers", "SELECT address FROM subscribers WHERE route = $1"),
            Own("render template"),
            Partner("POST", "relay.example"),
        ],
        ("ledger", _) => &[
            Statement(
                "SELECT bookings",
                "SELECT port, sum(amount) FROM bookings GROUP BY port",
            ),
            Own("Amounts.Balance"),
            Statement(
                "INSERT settlements",
                "INSERT INTO settlements (port, amount) VALUES ($1, $2)",
            ),
        ],
        _ => &[],
    }
}

/// The spans of a request's own work, below its entry span. They end before the request does.
pub(crate) fn spans(
    case: &Case,
    entry: u64,
    (service, endpoint): (&str, &Endpoint),
    random: &mut fastrand::Rng,
) -> Vec<Span> {
    let steps = steps(service, endpoint);
    let mut spans = vec![];
    // A third of the request at most: the rest is what it waits for others.
    let whole_us = (case.millis * 1_000 / 3).max(1);
    let step_us = whole_us / u64::try_from(steps.len().max(1)).unwrap_or(1);
    let mut at = case.time + 200_000;
    for step in steps {
        let took = random.u64(step_us / 3..=step_us.max(1)) * 1_000;
        let mut add = |name: &str, kind: i32, began: u64, took: u64, attributes: Vec<KeyValue>, failed: bool| {
            spans.push(Span {
                trace_id: case.trace.to_be_bytes().to_vec(),
                span_id: random.u64(1..).to_be_bytes().to_vec(),
                parent_span_id: entry.to_be_bytes().to_vec(),
                name: name.to_owned(),
                kind,
                start_time_unix_nano: began,
                end_time_unix_nano: began + took,
                attributes,
                status: failed.then(|| Status {
                    code: 2,
                    message: String::new(),
                }),
                ..whole()
            });
        };
        match *step {
            Own(name) => add(name, 1, at, took, vec![], false),
            Cache(operation) => add(operation, 3, at, took / 8, cache(operation), false),
            Statement(name, statement) => add(name, 3, at, took, database(service, name, statement), false),
            Partner(method, host) => {
                let is_tried_again = case.trace.is_multiple_of(10);
                if is_tried_again {
                    add(method, 3, at, took / 2, called(method, host, 503), true);
                }
                let again = if is_tried_again { took / 2 + 1_000 } else { 0 };
                add(method, 3, at + again, took / 2, called(method, host, 200), false);
            }
        }
        at += took;
    }
    spans
}

fn cache(operation: &str) -> Vec<KeyValue> {
    vec![
        text("db.system.name", "redis"),
        text("db.operation.name", operation),
        text("server.address", "cache.skerry.example"),
    ]
}

fn database(service: &str, summary: &str, statement: &str) -> Vec<KeyValue> {
    vec![
        text("db.system.name", "postgresql"),
        text("db.namespace", service),
        text("db.query.summary", summary),
        text("db.query.text", statement),
    ]
}

fn called(method: &str, host: &str, status: i64) -> Vec<KeyValue> {
    vec![
        text("http.request.method", method),
        text("server.address", host),
        number("http.response.status_code", status),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::world::SERVICES;

    fn case(trace: u128, millis: u64) -> Case {
        Case {
            trace,
            user: "u-7".to_owned(),
            time: 1_000_000_000_000,
            millis,
            ago: 5,
            is_winter: false,
        }
    }

    #[test]
    fn every_request_does_something_and_ends_its_steps_before_itself() {
        for service in SERVICES {
            for endpoint in service.endpoints {
                for trace in 1..40 {
                    let case = case(trace, 20 + u64::try_from(trace).unwrap() * 9);
                    let spans = spans(&case, 9, (service.name, endpoint), &mut fastrand::Rng::with_seed(3));
                    assert!(spans.len() >= 2, "{} {}", service.name, endpoint.route);
                    let end = case.time + case.millis * 1_000_000;
                    for span in &spans {
                        assert_eq!(span.parent_span_id, 9_u64.to_be_bytes());
                        assert!(
                            span.start_time_unix_nano > case.time && span.end_time_unix_nano < end,
                            "{span:?}"
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn a_partner_that_answers_503_is_asked_again_with_success() {
        let bookings = SERVICES[0]
            .endpoints
            .iter()
            .find(|one| one.route == "/v1/bookings")
            .unwrap();
        let calls = |trace: u128| {
            spans(
                &case(trace, 90),
                9,
                ("gangway", bookings),
                &mut fastrand::Rng::with_seed(1),
            )
            .into_iter()
            .filter(|span| span.name == "POST")
            .map(|span| span.status.is_some())
            .collect::<Vec<_>>()
        };
        assert_eq!((calls(10), calls(11)), (vec![true, false], vec![false]));
    }
}
