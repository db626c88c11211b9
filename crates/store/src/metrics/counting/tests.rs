use std::collections::BTreeMap;

use chrono::{DurationRound, TimeDelta, Utc};
use outcrop_core::Timestamp;
use outcrop_core::question::{Question, Window, read};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use super::*;
use crate::metrics::{Asked, count_hours, course, list};
use crate::questions::{Cell, answer};
use crate::testing::{database, failing, logged, logs, now, of, resource_of, spans, store, trace, writer};
use crate::{Database, Scope, from_utc, hour};

async fn begun(database: &Database, name: &str, text: &str) -> Counting {
    let counted = read(text).unwrap().counted_for_good().unwrap();
    let new = NewCounted {
        name,
        question: &counted.question.to_string(),
        step_ms: i32::try_from(counted.step_ms).unwrap(),
        description: "",
    };
    count(database, &new, "purser@skerry.example", Utc::now())
        .await
        .unwrap()
}

async fn all_counted(database: &Database) {
    while count_hours(database, &Policy::default(), Utc::now()).await.unwrap() {}
}

/// The last 12 whole hours and the present one.
fn window() -> Scope {
    let from = hour(Utc::now()) - TimeDelta::hours(12);
    Scope {
        service: None,
        environment: None,
        version: None,
        from,
        to: from + TimeDelta::hours(13),
        predicate: None,
    }
}

async fn series(database: &Database, name: &str, by: &str, minutes: u32) -> BTreeMap<String, Vec<Option<f64>>> {
    let asked = Asked {
        name: name.to_owned(),
        by: Some(by.to_owned()),
        together: None,
        minutes,
    };
    let course = course(database, &asked, &window()).await.unwrap().unwrap();
    course.lines.into_iter().map(|line| (line.key, line.values)).collect()
}

/// What the question itself comes to, over the same steps.
async fn recounted(database: &Database, text: &str) -> BTreeMap<String, Vec<Option<f64>>> {
    let scope = window();
    let counted = read(text).unwrap().counted_for_good().unwrap();
    let question = Question {
        each: Some(counted.step_ms),
        window: Some(Window::Fixed(from_utc(scope.from), from_utc(scope.to))),
        top: Some(200),
        ..counted.question
    };
    let found = answer(database, &question, &scope).await.unwrap();
    let value = |cells: &Vec<Cell>| match cells.first() {
        Some(Cell::Count(count)) => Some(f64::from(i32::try_from(*count).unwrap())),
        Some(Cell::Number(number)) => Some(*number),
        _ => None,
    };
    (found.rows.iter())
        .map(|row| (row.keys[0].clone(), row.steps.iter().map(value).collect()))
        .collect()
}

/// A failure: how many hours ago, of which service and version, and whether its log line comes as well.
type Failure = (i64, usize, usize, bool);

async fn send(database: &Database, failures: &[Failure], first: u64) {
    for (place, (hours, service, version, has_line)) in failures.iter().enumerate() {
        let number = first + u64::try_from(place).unwrap();
        let sender = || {
            resource_of(&[
                ("service.name", ["fares", "ledger"][*service]),
                ("service.version", ["2.4.0", "2.5.0"][*version]),
            ])
        };
        let at = now().plus_millis(-hours * 3_600_000 - i64::try_from(number % 50).unwrap() * 60_000);
        let failure = failing(trace(number), number, None, at, "berth 7 is taken");
        store(&writer(database), &[spans(vec![of(sender(), vec![failure])], now())]).await;
        if *has_line {
            let line = logged(at, "no tariff");
            store(&writer(database), &[logs(vec![of(sender(), vec![line])], now())]).await;
        }
    }
}

const QUESTIONS: [(&str, &str); 4] = [
    (
        "failures.by-version",
        "count of occurrences by version each 15m over 24h",
    ),
    ("failed", "failed of requests by service each 5m"),
    ("lines", "count of lines by service each 1h"),
    ("errors", "errors of occurrences by service each 1h"),
];

#[tokio::test]
async fn what_is_counted_is_what_the_question_comes_to_however_late_things_come() {
    let failure = (0_i64..10, 0_usize..2, 0_usize..2, any::<bool>());
    let batches = proptest::collection::vec(proptest::collection::vec(failure, 1..8), 3..4);
    let mut runner = TestRunner::deterministic();
    for round in 0..3 {
        let database = database().await;
        for (name, text) in QUESTIONS {
            assert_eq!(begun(&database, name, text).await, Counting::Begun);
        }
        let batches = batches.new_tree(&mut runner).unwrap().current();
        for (place, batch) in batches.iter().enumerate() {
            send(&database, batch, u64::try_from(place).unwrap() * 100 + 1).await;
            all_counted(&database).await;
            for (name, text) in QUESTIONS {
                let (by, minutes) = if name.contains("version") {
                    ("version", 15)
                } else {
                    ("service", 60)
                };
                let minutes = if name == "failed" { 5 } else { minutes };
                let mut series = series(&database, name, by, minutes).await;
                let expected = recounted(&database, text).await;
                for (key, expected) in &expected {
                    let found = series.remove(key).unwrap_or_default();
                    for (step, value) in expected.iter().enumerate() {
                        let found = found.get(step).copied().flatten().unwrap_or_default();
                        assert!(
                            (found - value.unwrap_or_default()).abs() < 1e-6,
                            "{round} {place} {name} {key} {step}: {found} for {value:?}"
                        );
                    }
                }
                assert!(series.is_empty(), "{name} has more: {series:?}");
            }
        }
        let said = counted(&database).await.unwrap();
        assert!(
            said.iter().all(|one| one.hours_left == 0 && one.failure.is_none()),
            "{said:?}"
        );
    }
}

#[tokio::test]
async fn a_service_that_is_closed_is_in_no_series() {
    let database = database().await;
    send(&database, &[(1, 0, 0, false), (1, 1, 0, false)], 1).await;
    begun(&database, "failures", "count of occurrences each 5m").await;
    all_counted(&database).await;
    let sum = |lines: BTreeMap<String, Vec<Option<f64>>>| lines.values().flatten().flatten().sum::<f64>();
    assert!((sum(series(&database, "failures", "service", 5).await) - 2.0).abs() < 1e-6);
    let ledger: i32 = sqlx::query_scalar("SELECT id FROM service WHERE name = 'ledger'")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    let seen = series(&database.seen_by(&[ledger]), "failures", "service", 5).await;
    assert_eq!(seen.keys().map(String::as_str).collect::<Vec<_>>(), ["fares"]);
}

#[tokio::test]
async fn series_past_the_limit_of_a_service_are_one_and_nothing_is_lost() {
    let database = database().await;
    let at = now().plus_millis(-3_600_000);
    let failures = (1..=230_u64).map(|number| {
        let mut failure = failing(trace(number), number, None, at, "berth 7 is taken");
        failure.name = format!("GET /berths/{}", number % 230);
        failure
    });
    let sender = resource_of(&[("service.name", "fares"), ("service.version", "2.4.0")]);
    store(
        &writer(&database),
        &[spans(vec![of(sender, failures.collect())], now())],
    )
    .await;
    begun(&database, "failures", "count of occurrences by endpoint each 1h").await;
    all_counted(&database).await;
    let (series, others): (i64, bool) = sqlx::query_as(
        "SELECT count(*), bool_or(attributes ->> 'endpoint' = '(others)') FROM metric_series WHERE counted_id IS NOT NULL",
    )
    .fetch_one(&database.pool)
    .await
    .unwrap();
    assert_eq!((series, others), (201, true));
    let sum: f64 = sqlx::query_scalar("SELECT sum(v)::float8 FROM metric_hour, UNNEST(minute_values) v")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert!((sum - 230.0).abs() < 1e-6, "{sum}");
    // Counted again, each series is what it was.
    sqlx::query("DELETE FROM counted_hour")
        .execute(&database.pool)
        .await
        .unwrap();
    all_counted(&database).await;
    let again: f64 = sqlx::query_scalar("SELECT sum(v)::float8 FROM metric_hour, UNNEST(minute_values) v")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert!((again - 230.0).abs() < 1e-6, "{again}");
}

#[tokio::test]
async fn a_name_is_one_questions_and_goes_with_all_that_was_counted() {
    let database = database().await;
    send(&database, &[(1, 0, 0, false)], 1).await;
    assert_eq!(
        begun(&database, "failures", "count of occurrences").await,
        Counting::Begun
    );
    let taken = begun(&database, "failures", "count of lines").await;
    assert_eq!(taken, Counting::Taken("purser@skerry.example".to_owned()));
    all_counted(&database).await;
    let rows = async || -> i64 {
        sqlx::query_scalar("SELECT (SELECT count(*) FROM metric_hour) + (SELECT count(*) FROM metric_series)")
            .fetch_one(&database.pool)
            .await
            .unwrap()
    };
    assert_eq!(rows().await, 2);
    assert!(
        !uncount(&database, "failures", Some("mate@skerry.example"))
            .await
            .unwrap()
    );
    assert!(
        uncount(&database, "failures", Some("purser@skerry.example"))
            .await
            .unwrap()
    );
    assert_eq!(rows().await, 0);
    let reading = outcrop_core::telemetry::Reading {
        name: "queue.length".to_owned(),
        kind: Kind::Level,
        value: 7.0,
        at: Some(Timestamp::from_millis(now().millis())),
        ..Default::default()
    };
    let sent = vec![of(crate::testing::resource("fares"), vec![reading])];
    store(&writer(&database), &[crate::testing::metrics(sent, now())]).await;
    assert_eq!(begun(&database, "queue.length", "count of lines").await, Counting::Sent);
    let listed = list(&database, &window()).await.unwrap();
    assert_eq!(listed.len(), 1);
    let asked = Asked {
        name: "failures".to_owned(),
        by: None,
        together: None,
        minutes: 5,
    };
    assert!(course(&database, &asked, &window()).await.unwrap().is_none());
}

#[tokio::test]
async fn hours_whose_records_are_gone_are_neither_counted_nor_counted_anew() {
    let database = database().await;
    send(&database, &[(0, 0, 0, true), (50, 0, 0, true)], 1).await;
    begun(&database, "failures", "count of occurrences each 1h").await;
    begun(&database, "lines", "count of lines each 1h").await;
    let of_a_day = Policy {
        occurrence_days: 1,
        log_days: 1,
        ..Policy::default()
    };
    let sums = async || -> Vec<(String, f64)> {
        sqlx::query_as(
            "SELECT s.name, sum(v)::float8 FROM metric_hour h JOIN metric_series s ON s.id = h.series_id, \
             UNNEST(minute_values) v GROUP BY 1 ORDER BY 1",
        )
        .fetch_all(&database.pool)
        .await
        .unwrap()
    };
    let expected = |failures: f64, lines: f64| vec![("failures".to_owned(), failures), ("lines".to_owned(), lines)];
    let old = Utc::now().duration_trunc(TimeDelta::days(1)).unwrap();
    while count_hours(&database, &of_a_day, Utc::now()).await.unwrap() {}
    let counted_from: Vec<_> = (counted(&database).await.unwrap().into_iter())
        .map(|one| one.counted_from)
        .collect();
    assert!(
        counted_from.iter().flatten().all(|from| *from >= old),
        "{counted_from:?}"
    );
    all_counted(&database).await;
    let whole = sums().await;
    // The records go, their counts by the hour stay and change once more.
    for statement in [
        "DELETE FROM occurrence WHERE id < first_id_at(now() - interval '40 hours')",
        "DELETE FROM log_record WHERE id < first_id_at(now() - interval '40 hours')",
        "UPDATE tally_hour SET n = n + 1 WHERE hour < now() - interval '40 hours'",
        "UPDATE log_hour SET n = n + 1 WHERE hour < now() - interval '40 hours'",
    ] {
        sqlx::query(statement).execute(&database.pool).await.unwrap();
    }
    while count_hours(&database, &of_a_day, Utc::now()).await.unwrap() {}
    assert_eq!(sums().await, whole);
    assert_eq!(whole, expected(4.0, 2.0));
}
