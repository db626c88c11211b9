//! What is read of a little traffic: endpoints, kept requests, calls, instances, counts over time, log lines.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::telemetry::{LogRecord, Span, SpanKind, Value};
use proptest::prelude::*;

use crate::asking::list_errors;
use crate::errors::{latest, sightings};
use crate::logs;
use crate::testing::{attributes, database, failing, logs as records, now, of, resource, span, spans, store, text};
use crate::testing::{trace, writer};
use crate::traffic::timeline::{self, Steps};
use crate::traffic::{Wanted, course, endpoints, requests, uses};
use crate::{Database, Scope, to_utc};

fn scope(to: DateTime<Utc>, service: Option<&str>) -> Scope {
    Scope {
        service: service.map(str::to_owned),
        environment: None,
        version: None,
        from: to - TimeDelta::hours(1),
        to,
        predicate: None,
    }
}

/// A request with a method, a route and a status; each also runs a statement and calls berths.
fn request(number: u64, route: &str, status: i64) -> Vec<Span> {
    let at = now().plus_millis(-i64::try_from(number).unwrap() * 1_000);
    let mut entry = if status >= 500 {
        failing(trace(number), number * 8, None, at, "berth 7 is taken")
    } else {
        span(trace(number), number * 8, None, at)
    };
    entry.attributes = attributes(&[
        ("http.request.method", "GET"),
        ("http.route", route),
        ("user.id", "u-7"),
    ]);
    entry
        .attributes
        .0
        .push(("http.response.status_code".to_owned(), Value::Int(status)));
    let call = |place: u64, pairs: &[(&str, &str)]| Span {
        kind: SpanKind::Client,
        attributes: attributes(pairs),
        ..span(trace(number), number * 8 + place, Some(number * 8), at)
    };
    vec![
        entry,
        call(
            1,
            &[
                ("db.system.name", "postgresql"),
                ("db.query.text", "SELECT fare FROM tariff WHERE id = 7"),
            ],
        ),
        call(
            2,
            &[
                ("http.request.method", "GET"),
                ("server.address", "berths.skerry.example"),
            ],
        ),
    ]
}

/// Ten requests of quotes, two of them failed, and three of piers that are not found.
async fn traffic() -> (Database, DateTime<Utc>) {
    let database = database().await;
    let quotes = (1..=10).flat_map(|number| request(number, "/v1/quotes", if number % 5 == 0 { 500 } else { 200 }));
    let piers = (11..=13).flat_map(|number| request(number, "/v1/piers", 404));
    let sent = vec![of(resource("fares"), quotes.chain(piers).collect())];
    store(&writer(&database), &[spans(sent, now())]).await;
    (database, to_utc(now()) + TimeDelta::minutes(1))
}

#[tokio::test]
async fn endpoints_are_counted_with_their_failures_and_statuses_those_with_most_requests_first() {
    let (database, to) = traffic().await;
    let found = endpoints(&database, &scope(to, Some("fares"))).await.unwrap();
    let told: Vec<_> = found
        .iter()
        .map(|one| (one.name.as_str(), one.requests, one.failed))
        .collect();
    assert_eq!(told, [("GET /v1/quotes", 10, 2), ("GET /v1/piers", 3, 0)]);
    assert_eq!(found[0].statuses.get(&500).map(|status| status.0), Some(2));
    assert_eq!(found[1].statuses.get(&404).map(|status| status.0), Some(3));
    assert!(
        endpoints(&database, &scope(to, Some("berths")))
            .await
            .unwrap()
            .is_empty()
    );
    let earlier = scope(to - TimeDelta::hours(2), None);
    assert!(
        endpoints(&database, &earlier).await.unwrap().is_empty(),
        "outside the window"
    );
    let steps = course(&database, &scope(to, Some("fares")), "GET /v1/quotes", 60)
        .await
        .unwrap();
    assert_eq!(
        steps
            .iter()
            .map(|step| (step.requests, step.failed))
            .fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1)),
        (10, 2)
    );
}

#[tokio::test]
async fn kept_requests_are_found_by_what_is_asked_of_them() {
    let (database, to) = traffic().await;
    let count = async |wanted: Wanted| {
        requests(&database, &scope(to, Some("fares")), &wanted, 50)
            .await
            .unwrap()
            .len()
    };
    assert_eq!(
        count(Wanted {
            failed: true,
            ..Wanted::default()
        })
        .await,
        2
    );
    assert_eq!(
        count(Wanted {
            status: Some(404),
            ..Wanted::default()
        })
        .await,
        3
    );
    assert_eq!(
        count(Wanted {
            status: Some(418),
            ..Wanted::default()
        })
        .await,
        0
    );
    assert_eq!(
        count(Wanted {
            text: Some("PIERS".to_owned()),
            ..Wanted::default()
        })
        .await,
        3,
        "whatever its case"
    );
    let of = Wanted {
        endpoint: Some("GET /v1/quotes".to_owned()),
        failed: true,
        ..Wanted::default()
    };
    let found = requests(&database, &scope(to, Some("fares")), &of, 50).await.unwrap();
    assert!(found[0].id() > found[1].id(), "the newest first");
    let rest = Wanted {
        before: Some(found[0].id()),
        ..of
    };
    assert_eq!(count(rest).await, 1);
}

#[tokio::test]
async fn calls_statements_and_instances_are_summed() {
    let (database, to) = traffic().await;
    let (now, earlier) = (scope(to, Some("fares")), scope(to - TimeDelta::hours(1), Some("fares")));
    let calls = uses::calls(&database, &now, &earlier, 9).await.unwrap();
    let mut told: Vec<_> = calls
        .iter()
        .map(|call| (call.kind.as_str(), call.count, call.before))
        .collect();
    told.sort_unstable();
    assert_eq!(told, [("database", 13, 0), ("http", 13, 0)]);
    let statements = uses::statements(&database, &now, &earlier, 9).await.unwrap();
    assert_eq!(statements.len(), 1);
    assert!(
        statements[0].name.starts_with("SELECT fare FROM tariff"),
        "{:?}",
        statements[0]
    );
    let instances = uses::instances(&database, &now, None, 9).await.unwrap();
    assert_eq!(
        instances
            .iter()
            .map(|one| (one.host.as_str(), one.requests, one.failed))
            .collect::<Vec<_>>(),
        [("pier-3", 13, 2)]
    );
}

#[tokio::test]
async fn an_error_over_time_sums_to_what_is_counted_and_knows_where_it_was_seen() {
    let (database, to) = traffic().await;
    let window = scope(to, None);
    let error = &list_errors(&database, &window).await.unwrap()[0];
    let steps = Steps::cut(window.from, window.to, 12);
    let points = timeline::occurrences(&database, &[error.reference], &window, steps)
        .await
        .unwrap();
    assert_eq!(points.iter().map(|(_, point)| point.n).sum::<i64>(), error.count);
    let served = timeline::requests(&database, &[error.service_id], &window, steps)
        .await
        .unwrap();
    assert_eq!(served.iter().map(|point| point.n).sum::<i64>(), 13);
    let seen = sightings(&database, error.reference).await.unwrap();
    assert_eq!(
        seen.iter()
            .map(|one| (one.version.as_str(), one.count))
            .collect::<Vec<_>>(),
        [("2.4.0", 2)]
    );
    let last = latest(&database, &[error.reference]).await.unwrap();
    assert_eq!(last[&error.reference].message, "berth 7 is taken");
    let first = timeline::first_seen(&database, &[error.service_id], &window)
        .await
        .unwrap();
    assert_eq!(first.len(), 1);
}

#[tokio::test]
async fn log_lines_are_found_by_text_severity_and_trace_and_summed_by_template() {
    let database = database().await;
    let line = |number: u64, severity: i32, message: &str| LogRecord {
        time: Some(now().plus_millis(-i64::try_from(number).unwrap() * 1_000)),
        severity,
        body: text(message),
        trace_id: Some(trace(number)),
        ..LogRecord::default()
    };
    let lines = (1..=4)
        .map(|number| line(number, 9, &format!("quoting sailing {number}")))
        .chain([line(5, 13, "tariff 7 is old")])
        .collect();
    store(
        &writer(&database),
        &[records(vec![of(resource("fares"), lines)], now())],
    )
    .await;
    let to = to_utc(now()) + TimeDelta::minutes(1);
    let window = scope(to, None);
    let count = async |asked: logs::Asked| logs::lines(&database, &window, &asked, 9).await.unwrap().len();
    assert_eq!(count(logs::Asked::default()).await, 5);
    assert_eq!(
        count(logs::Asked {
            severity: Some(13),
            ..logs::Asked::default()
        })
        .await,
        1
    );
    assert_eq!(
        count(logs::Asked {
            text: Some("SAILING 3".to_owned()),
            ..logs::Asked::default()
        })
        .await,
        1
    );
    assert_eq!(
        count(logs::Asked {
            trace: Some(trace(2).0),
            ..logs::Asked::default()
        })
        .await,
        1
    );
    let oldest = logs::Asked {
        oldest_first: true,
        ..logs::Asked::default()
    };
    let first = logs::lines(&database, &window, &oldest, 1).await.unwrap();
    assert_eq!(first[0].message, "tariff 7 is old");
    let earlier = scope(to - TimeDelta::hours(1), None);
    let found = logs::templates(&database, &window, &earlier, &logs::AskedTemplates::default(), 9)
        .await
        .unwrap();
    assert_eq!(
        found.iter().map(|one| one.count).collect::<Vec<_>>(),
        [4, 1],
        "{found:?}"
    );
}

#[tokio::test]
async fn which_service_answers_a_name_is_learnt_from_traces_of_this_quarter_of_an_hour_and_the_one_before() {
    for quarters in [0, 1] {
        let database = database().await;
        let call = Span {
            kind: SpanKind::Client,
            attributes: attributes(&[
                ("http.request.method", "GET"),
                ("server.address", "berths.skerry.example"),
            ]),
            ..span(trace(1), 2, Some(1), now())
        };
        let answering = Span {
            kind: SpanKind::Server,
            ..span(trace(1), 3, Some(2), now())
        };
        let sent = vec![
            of(resource("fares"), vec![span(trace(1), 1, None, now()), call]),
            of(resource("berths"), vec![answering]),
        ];
        store(&writer(&database), &[spans(sent, now())]).await;
        let begins = crate::traces::slot(to_utc(now()));
        // Ten seconds of the quarter have to be over.
        let at = (begins + crate::traces::SLOT * quarters + TimeDelta::seconds(11))
            .max(to_utc(now()) + TimeDelta::seconds(11));
        assert_eq!(
            uses::learn_services(&database, at).await.unwrap(),
            1,
            "{quarters} quarters later"
        );
        let (window, earlier) = (scope(to_utc(now()) + TimeDelta::minutes(1), None), scope(begins, None));
        let calls = uses::calls(&database, &window, &earlier, 9).await.unwrap();
        assert_eq!(calls[0].to_service.as_deref(), Some("berths"));
        assert_eq!(uses::learn_services(&database, at).await.unwrap(), 0, "it is known");
    }
}

proptest! {
    #[test]
    fn a_window_cut_into_steps_is_covered_by_as_many_as_were_asked_for(
        from in 1_700_000_000_i64..1_800_000_000,
        minutes in 1_i64..600_000,
        most in 2_usize..400,
    ) {
        let from = DateTime::from_timestamp(from, 0).unwrap();
        let to = from + TimeDelta::minutes(minutes);
        for steps in [Steps::cut(from, to, most), Steps::cut_coarsely(from, to, most)] {
            prop_assert!(steps.from <= from && steps.to() >= to, "{steps:?}");
            prop_assert!(steps.from + steps.step > from, "no step lies before the window: {steps:?}");
            prop_assert!(steps.to() - steps.step < to, "no step lies after the window: {steps:?}");
            prop_assert_eq!(steps.from.timestamp() % steps.step.num_seconds(), 0);
        }
    }
}
