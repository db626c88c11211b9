//! Questions of requests against a plain evaluation: of all of them from what is counted, of the rest from the sample.

#![expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_wrap,
    reason = "hundreds of requests"
)]

use std::collections::BTreeMap;

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::question::read;
use proptest::prelude::*;
use proptest::strategy::ValueTree;

use super::{Answer, Cell, answer, is_folded};
use crate::testing::{attributes, database, now, of, resource_of, span, spans, store, trace, writer};
use crate::{Database, Scope, from_utc, to_utc};

#[derive(Clone, Debug)]
struct Request {
    service: &'static str,
    version: &'static str,
    endpoint: &'static str,
    season: &'static str,
    failed: bool,
    took_ms: i64,
    minutes_ago: i64,
}

fn requests() -> impl Strategy<Value = Request> {
    (
        prop::sample::select(vec!["fares", "berths"]),
        prop::sample::select(vec!["2.10.0", "2.9.0"]),
        prop::sample::select(vec!["GET /v1/quotes", "GET /v1/berths", "run tariffs"]),
        prop::sample::select(vec!["winter", "summer"]),
        prop::bool::weighted(0.3),
        1..400_i64,
        1..590_i64,
    )
        .prop_map(
            |(service, version, endpoint, season, failed, took_ms, minutes_ago)| Request {
                service,
                version,
                endpoint,
                season,
                failed,
                took_ms,
                minutes_ago,
            },
        )
}

/// Requests that are stored, and the time that they are counted back from.
async fn sent(database: &Database) -> (Vec<Request>, DateTime<Utc>) {
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    let all: Vec<Request> = (0..160)
        .map(|_| requests().new_tree(&mut runner).unwrap().current())
        .collect();
    let at = to_utc(now()).duration_trunc(TimeDelta::minutes(1)).unwrap();
    let mut number = 0;
    let groups = all.iter().map(|request| {
        number += 1;
        let begin = from_utc(at - TimeDelta::minutes(request.minutes_ago)).plus_millis(7_000);
        let mut record = span(trace(number), number, None, begin);
        record.end = Some(begin.plus_millis(request.took_ms));
        record.is_error = request.failed;
        request.endpoint.clone_into(&mut record.name);
        record.attributes = attributes(&[("season", request.season)]);
        let resource = resource_of(&[
            ("service.name", request.service),
            ("service.version", request.version),
            ("deployment.environment.name", "production"),
        ]);
        of(resource, vec![record])
    });
    store(&writer(database), &[spans(groups.collect(), from_utc(at))]).await;
    (all, at)
}

/// All that was in a time.
pub(super) fn scope(from: DateTime<Utc>, to: DateTime<Utc>) -> Scope {
    Scope {
        service: None,
        environment: None,
        version: None,
        from,
        to,
        predicate: None,
    }
}

async fn ask(database: &Database, text: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Answer {
    let question = read(text).unwrap_or_else(|mistake| panic!("{}", mistake.marked(text)));
    answer(database, &question, &scope(from, to)).await.unwrap()
}

/// Requests and failed ones as the answer has them.
fn counted(cells: &[Cell]) -> (i64, i64) {
    match cells {
        [Cell::Count(all), Cell::Count(failed), share] => {
            let expected = if *all == 0 {
                None
            } else {
                Some(*failed as f64 / *all as f64)
            };
            match (share, expected) {
                (Cell::Nothing, None) => {}
                (Cell::Number(share), Some(expected)) => assert!((share - expected).abs() < 1e-9),
                other => panic!("{other:?}"),
            }
            (*all, *failed)
        }
        [] => (0, 0),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn all_requests_are_counted_whole_by_whose_they_are_and_over_time() {
    let database = database().await;
    let (all, at) = sent(&database).await;
    let (from, to) = (at - TimeDelta::minutes(300), at);
    let key = |by: &str, request: &Request| match by {
        "service" => request.service,
        "version" => request.version,
        _ => request.endpoint,
    };
    let within = |request: &&Request, from: DateTime<Utc>, to: DateTime<Utc>| {
        let begin = at - TimeDelta::minutes(request.minutes_ago);
        begin >= from && begin < to
    };
    for by in ["service", "version", "endpoint"] {
        for (matching, only) in [("", None), (" where service = fares", Some("fares"))] {
            let matches = |request: &&Request| only.is_none_or(|service| request.service == service);
            let text = format!("count, failed, share of requests by {by}{matching} each 30m over 5h against before");
            assert!(is_folded(&read(&text).unwrap(), from), "{text}");
            let found = ask(&database, &text, from, to).await;
            let mut expected: BTreeMap<&str, Vec<&Request>> = BTreeMap::new();
            for request in all.iter().filter(matches).filter(|request| within(request, from, to)) {
                expected.entry(key(by, request)).or_default().push(request);
            }
            assert_eq!(found.rows.len(), expected.len(), "{text}");
            let failed = |requests: &[&Request]| requests.iter().filter(|request| request.failed).count() as i64;
            for row in &found.rows {
                let requests = &expected[row.keys[0].as_str()];
                assert_eq!(
                    counted(&row.values),
                    (requests.len() as i64, failed(requests)),
                    "{text}: {row:?}"
                );
                assert_eq!(row.margin, None);
                for (step, cells) in (0_i32..).zip(&row.steps) {
                    let begin = from + TimeDelta::minutes(30) * step;
                    let of_step: Vec<&Request> = requests
                        .iter()
                        .copied()
                        .filter(|request| within(request, begin, begin + TimeDelta::minutes(30)))
                        .collect();
                    assert_eq!(
                        counted(cells),
                        (of_step.len() as i64, failed(&of_step)),
                        "{text}: {step} of {row:?}"
                    );
                }
                let before: Vec<&Request> = all
                    .iter()
                    .filter(matches)
                    .filter(|request| key(by, request) == row.keys[0] && within(request, from - (to - from), from))
                    .collect();
                let then = row.before.as_deref().unwrap();
                assert_eq!(
                    counted(then),
                    (before.len() as i64, failed(&before)),
                    "{text}: before {row:?}"
                );
            }
        }
    }
}

#[derive(sqlx::FromRow)]
struct Sampled {
    season: String,
    duration: f64,
    failed: bool,
    weight: f64,
}

#[tokio::test]
async fn what_only_records_say_is_weighed_by_how_many_each_stands_for() {
    let database = database().await;
    let (_, at) = sent(&database).await;
    // Some hours were thinned further.
    sqlx::query("UPDATE request_sample SET weight = weight * 20 WHERE get_byte(uuid_send(id), 15) % 3 = 0")
        .execute(&database.pool)
        .await
        .unwrap();
    let sample: Vec<Sampled> = sqlx::query_as(
        "SELECT attributes ->> 'season' AS season, (attributes ->> 'outcrop.request.duration_ms')::float8 AS duration, \
         (attributes ->> 'outcrop.request.failed')::bool AS failed, weight::float8 AS weight FROM request_sample",
    )
    .fetch_all(&database.pool)
    .await
    .unwrap();
    assert!(
        sample.len() > 20 && sample.iter().any(|one| one.failed),
        "{}",
        sample.len()
    );
    let text = "count, failed, share, mean duration, sum duration, p90 duration, most duration of requests by season";
    let found = ask(&database, text, at - TimeDelta::hours(10), at).await;
    assert_eq!(found.rows.len(), 2);
    for row in &found.rows {
        let mut of: Vec<&Sampled> = sample.iter().filter(|one| one.season == row.keys[0]).collect();
        of.sort_by(|one, other| one.duration.total_cmp(&other.duration));
        let sum = |value: fn(&Sampled) -> f64| of.iter().map(|one| one.weight * value(one)).sum::<f64>();
        let all = sum(|_| 1.0);
        let failed = sum(|one| f64::from(u8::from(one.failed)));
        let mut so_far = 0.0;
        let p90 = of.iter().find(|one| {
            so_far += one.weight;
            so_far >= 0.9 * all
        });
        let expected = [
            failed / all,
            sum(|one| one.duration) / all,
            sum(|one| one.duration),
            p90.unwrap().duration,
            of.last().unwrap().duration,
        ];
        let Some((Cell::Count(count), Cell::Count(failing), rest)) = row
            .values
            .split_at_checked(2)
            .map(|(counts, rest)| (counts[0].clone(), counts[1].clone(), rest))
        else {
            panic!("{row:?}")
        };
        assert_eq!((count as f64, failing as f64), (all.round(), failed.round()), "{row:?}");
        for (cell, expected) in rest.iter().zip(expected) {
            let Cell::Number(number) = cell else { panic!("{row:?}") };
            assert!(
                (number - expected).abs() <= 1e-6 * expected.abs(),
                "{number} for {expected}: {row:?}"
            );
        }
        let squares = of.iter().map(|one| one.weight * (one.weight - 1.0)).sum::<f64>();
        assert!((row.margin.unwrap() - 1.96 * squares.sqrt() / all).abs() < 1e-9);
    }
}

#[tokio::test]
async fn a_condition_on_an_attribute_or_on_failing_picks_requests_of_the_sample() {
    let database = database().await;
    let (_, at) = sent(&database).await;
    let count = async |text: &str| {
        let found = ask(&database, text, at - TimeDelta::hours(10), at).await;
        match found.total.values[0] {
            Cell::Count(count) => count,
            ref other => panic!("{other:?}"),
        }
    };
    let whole = count("count of requests where season is set").await;
    let winter = count("count of requests where season = winter").await;
    let failed = count("count of requests where failed = true").await;
    let slow = count("count of requests where duration > 200ms and endpoint like \"GET *\"").await;
    assert!(
        0 < winter && winter < whole && 0 < slow && slow < whole,
        "{winter} {slow} {whole}"
    );
    assert_eq!(count("failed of requests where season is set").await, failed);
    assert_eq!(count("count of requests where season = spring").await, 0);
}

#[tokio::test]
async fn whatever_a_sender_says_of_its_failing_and_of_its_weight_is_answered() {
    let database = database().await;
    let at = to_utc(now());
    // Enough that some are of the sample, with what no sender should send.
    let requests = (1..60)
        .map(|number| {
            let mut record = span(trace(number), number, None, from_utc(at).plus_millis(-60_000));
            record.attributes = attributes(&[("outcrop.request.failed", "banana"), ("season", "winter")]);
            record.is_error = number % 2 == 0;
            record.one_in = Some(f64::from(u32::MAX));
            record
        })
        .collect();
    let resource = resource_of(&[("service.name", "fares"), ("service.version", "2.4.0")]);
    store(&writer(&database), &[spans(vec![of(resource, requests)], from_utc(at))]).await;
    let text = "count, failed, share of requests by season";
    let found = ask(&database, text, at - TimeDelta::hours(1), at).await;
    let [Cell::Count(count), Cell::Count(failed), Cell::Number(share)] = found.rows[0].values.as_slice() else {
        panic!("{found:?}")
    };
    assert!(*count > 1_000_000 && *failed > 0 && failed < count, "{found:?}");
    assert!((share - *failed as f64 / *count as f64).abs() < 1e-6, "{found:?}");
    // What was kept before it was known whether a request failed, or by another hand.
    sqlx::query(
        "UPDATE request_sample SET attributes = attributes || '{\"outcrop.request.failed\": \"banana\", \
         \"http.response.status_code\": 503}'",
    )
    .execute(&database.pool)
    .await
    .unwrap();
    let found = ask(&database, text, at - TimeDelta::hours(1), at).await;
    assert_eq!(found.rows[0].values[2], Cell::Number(1.0), "{found:?}");
}
