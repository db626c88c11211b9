use outcrop_core::Timestamp;
use outcrop_core::metric::{Buckets, Kind, Together};
use outcrop_core::telemetry::{Attributes, Reading, Resource, ScopeRecords, Value};

use super::*;
use crate::testing::{database, metrics, resource, store, writer};
use crate::{Database, Scope, to_utc};

fn reading(kind: Kind, at: Timestamp, value: f64, core: &str) -> Reading {
    Reading {
        name: "queue.length".to_owned(),
        unit: "{ship}".to_owned(),
        kind,
        attributes: Attributes(vec![("core".to_owned(), Value::String(core.to_owned()))]),
        value,
        at: Some(at),
        ..Reading::default()
    }
}

fn of(service: &str, readings: Vec<Reading>) -> ScopeRecords<Reading> {
    let resource: std::sync::Arc<Resource> = resource(service);
    ScopeRecords {
        resource,
        scope: std::sync::Arc::default(),
        records: readings,
    }
}

async fn send(database: &Database, service: &str, readings: Vec<Reading>, received: Timestamp) {
    store(&writer(database), &[metrics(vec![of(service, readings)], received)]).await;
}

fn scope(from: Timestamp, minutes: i64) -> Scope {
    Scope {
        service: None,
        environment: None,
        version: None,
        from: to_utc(from),
        to: to_utc(from.plus_millis(minutes * 60_000)),
        predicate: None,
    }
}

async fn lines(database: &Database, by: Option<&str>, scope: &Scope) -> Vec<(String, Vec<Option<f64>>)> {
    let asked = Asked {
        name: "queue.length".to_owned(),
        by: by.map(str::to_owned),
        together: None,
        minutes: 1,
    };
    let course = course(database, &asked, scope).await.unwrap().unwrap();
    course.lines.into_iter().map(|line| (line.key, line.values)).collect()
}

/// A whole minute some hours ago.
fn then() -> Timestamp {
    crate::testing::now().minute().plus_millis(-3 * 3_600_000)
}

#[tokio::test]
async fn what_is_read_is_the_same_before_and_after_it_is_folded_and_late_points_join() {
    let database = database().await;
    let at = then();
    let minute = |number: i64| at.plus_millis(number * 60_000 + 5_000);
    let cumulative = |number: i64, value: f64, core: &str| reading(Kind::Cumulative, minute(number), value, core);
    let first = vec![
        cumulative(0, 10.0, "0"),
        cumulative(1, 14.0, "0"),
        cumulative(0, 5.0, "1"),
        cumulative(1, 6.0, "1"),
    ];
    send(&database, "fares", first, minute(2)).await;
    let window = scope(at, 5);
    let expected = vec![
        ("0".to_owned(), vec![None, Some(4.0), None, None, None, None]),
        ("1".to_owned(), vec![None, Some(1.0), None, None, None, None]),
    ];
    assert_eq!(lines(&database, Some("core"), &window).await, expected, "as they came");
    // Nothing is folded before its minute is over; then all is.
    assert!(!fold(&database, to_utc(minute(1))).await.unwrap());
    assert_eq!(lines(&database, Some("core"), &window).await, expected);
    fold(&database, to_utc(minute(9))).await.unwrap();
    let left: i64 = sqlx::query_scalar("SELECT count(*) FROM metric_point")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert_eq!(left, 0);
    assert_eq!(lines(&database, Some("core"), &window).await, expected, "folded");
    // It goes on from where the sum stood; a restart, a repetition and a late point are no rises of their own.
    let next = vec![
        cumulative(2, 20.0, "0"),
        cumulative(3, 3.0, "0"),
        cumulative(1, 13.0, "0"),
    ];
    send(&database, "fares", next, minute(4)).await;
    let of_core = vec![None, Some(4.0), Some(6.0), Some(3.0), None, None];
    assert_eq!(lines(&database, Some("core"), &window).await[0].1, of_core);
    fold(&database, to_utc(minute(9))).await.unwrap();
    assert_eq!(lines(&database, Some("core"), &window).await[0].1, of_core);
    // A late point of a minute that is folded already is of the same minute, and counts once in the sum of all series.
    let sum = Asked {
        name: "queue.length".to_owned(),
        by: None,
        together: Some(Together::Sum),
        minutes: 1,
    };
    send(
        &database,
        "ledger",
        vec![reading(Kind::Level, minute(0), 2.0, "0")],
        minute(1),
    )
    .await;
    fold(&database, to_utc(minute(9))).await.unwrap();
    send(
        &database,
        "ledger",
        vec![reading(Kind::Level, minute(0), 4.0, "0")],
        minute(1),
    )
    .await;
    let of_ledger = Scope {
        service: Some("ledger".to_owned()),
        ..window.clone()
    };
    let late = course(&database, &sum, &of_ledger).await.unwrap().unwrap();
    assert_eq!(late.lines[0].values[0], Some(3.0));
    fold(&database, to_utc(minute(9))).await.unwrap();
    // Levels of one minute that are folded apart are one mean; the sum of all lines is one line.
    send(
        &database,
        "fares",
        vec![reading(Kind::Level, minute(0), 2.0, "0")],
        minute(1),
    )
    .await;
    fold(&database, to_utc(minute(9))).await.unwrap();
    send(
        &database,
        "fares",
        vec![reading(Kind::Level, minute(0), 4.0, "0")],
        minute(1),
    )
    .await;
    fold(&database, to_utc(minute(9))).await.unwrap();
    assert_eq!(
        lines(&database, None, &window).await,
        [(String::new(), vec![Some(3.0), None, None, None, None, None])]
    );
}

#[tokio::test]
async fn a_distribution_is_a_mean_of_its_measurements_and_its_most_is_that_of_a_minute() {
    let database = database().await;
    let at = then();
    let measured = |number: i64, value: f64, count: u64| Reading {
        count,
        ..reading(Kind::DeltaDistribution, at.plus_millis(number * 60_000), value, "0")
    };
    send(
        &database,
        "fares",
        vec![measured(0, 30.0, 3), measured(1, 2.0, 1)],
        at.plus_millis(120_000),
    )
    .await;
    let all = scope(at, 2);
    for fold_first in [false, true] {
        if fold_first {
            fold(&database, to_utc(at.plus_millis(600_000))).await.unwrap();
        }
        for (together, expected) in [(None, 8.0), (Some(Together::Sum), 32.0), (Some(Together::Most), 10.0)] {
            let asked = Asked {
                name: "queue.length".to_owned(),
                by: None,
                together,
                minutes: 2,
            };
            let course = course(&database, &asked, &all).await.unwrap().unwrap();
            assert_eq!(course.lines[0].values[0], Some(expected), "{together:?}");
        }
    }
}

#[tokio::test]
async fn percentiles_are_of_all_measurements_also_after_they_are_folded() {
    let database = database().await;
    let at = then();
    let measured = |minute: i64, counts: [u64; 4], core: &str| Reading {
        count: counts.iter().sum(),
        buckets: Buckets::new(vec![0.1, 0.2, 0.4], counts.to_vec()),
        start: Some(at),
        ..reading(Kind::CumulativeDistribution, at.plus_millis(minute * 60_000), 1.0, core)
    };
    let sent = vec![
        measured(1, [100, 0, 0, 0], "0"),
        measured(2, [100, 100, 0, 0], "0"),
        measured(2, [0, 0, 20, 0], "1"),
    ];
    send(&database, "fares", sent, at.plus_millis(180_000)).await;
    let window = scope(at, 2);
    let asked = |percent: f64| Asked {
        name: "queue.length".to_owned(),
        by: None,
        together: Some(Together::Percentile(percent)),
        minutes: 5,
    };
    for fold_first in [false, true] {
        if fold_first {
            fold(&database, to_utc(at.plus_millis(600_000))).await.unwrap();
        }
        // 100 up to 0.1, 100 up to 0.2; the 20 up to 0.4 are a minute later than the window.
        for (percent, low, high) in [(40.0, 0.0, 0.1), (75.0, 0.1, 0.2), (99.0, 0.1, 0.21)] {
            let all = course(&database, &asked(percent), &scope(at, 3))
                .await
                .unwrap()
                .unwrap();
            let said = all.lines[0].values[0].unwrap();
            let high = if percent > 95.0 { 0.42 } else { high };
            assert!(said > low && said <= high, "p{percent} {said}");
        }
    }
    let first = course(&database, &asked(99.0), &window).await.unwrap().unwrap();
    let said = first.lines[0].values[0].unwrap();
    assert!(said <= 0.11, "of the first minute alone: {said}");
}

#[tokio::test]
async fn metrics_are_listed_by_name_and_a_closed_service_has_none() {
    let database = database().await;
    let at = then();
    send(
        &database,
        "fares",
        vec![reading(Kind::Level, at, 1.0, "0"), reading(Kind::Level, at, 2.0, "1")],
        at,
    )
    .await;
    send(&database, "ledger", vec![reading(Kind::Level, at, 9.0, "0")], at).await;
    let window = scope(at, 5);
    let found = list(&database, &window).await.unwrap();
    let expected = Listed {
        name: "queue.length".to_owned(),
        unit: "{ship}".to_owned(),
        kind: 0,
        series: 3,
        services: vec!["fares".to_owned(), "ledger".to_owned()],
        attributes: vec!["core".to_owned()],
        question: None,
    };
    assert_eq!(found, [expected]);
    let ledger: i32 = sqlx::query_scalar("SELECT id FROM service WHERE name = 'ledger'")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    let seen = database.seen_by(&[ledger]);
    assert_eq!(list(&seen, &window).await.unwrap()[0].series, 2);
    let by_service = |database: &Database| {
        let (database, window) = (database.clone(), window.clone());
        async move {
            lines(&database, Some("service"), &window)
                .await
                .into_iter()
                .map(|(key, _)| key)
                .collect::<Vec<_>>()
        }
    };
    assert_eq!(by_service(&database).await, ["ledger", "fares"], "the greatest first");
    assert_eq!(by_service(&seen).await, ["fares"]);
    let none = Asked {
        name: "no.such".to_owned(),
        by: None,
        together: None,
        minutes: 1,
    };
    assert_eq!(course(&database, &none, &window).await.unwrap(), None);
}

#[tokio::test]
async fn series_past_the_limit_are_left_out_and_it_is_said() {
    let database = database().await;
    let at = then();
    send(&database, "fares", vec![reading(Kind::Level, at, 1.0, "0")], at).await;
    sqlx::query(
        "INSERT INTO metric_series (hash, service_id, environment_id, version_id, name, unit, kind, instance, attributes, \
         used_day) SELECT md5('series ' || n)::uuid, service_id, environment_id, version_id, name, unit, kind, instance, \
         attributes, used_day FROM metric_series, generate_series(1, $1) n",
    )
    .bind(crate::writing::points::MAX_SERIES - 2)
    .execute(&database.pool)
    .await
    .unwrap();
    let many = (0..4)
        .map(|core| reading(Kind::Level, at, 1.0, &core.to_string()))
        .collect();
    send(&database, "fares", many, at).await;
    let known: i64 = sqlx::query_scalar("SELECT count(*) FROM metric_series")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert_eq!(known, crate::writing::points::MAX_SERIES);
    let reached: i64 = sqlx::query_scalar("SELECT n FROM limit_reached WHERE what = 'series'")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert_eq!(reached, 2, "one of four was known, one had room");
}
