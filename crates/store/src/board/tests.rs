//! What the board shows is what a list counted now would show.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use proptest::prelude::*;

use super::{Listing, WINDOWS, listing, numbers, refresh};
use crate::asking::list_errors;
use crate::errors::{Summary, reach};
use crate::ids::number;
use crate::testing::{database, failing, of, resource_of, spans, store, trace, writer};
use crate::{Database, Scope, from_utc};

fn scope(minutes: i32, environment: Option<&str>, now: DateTime<Utc>) -> Scope {
    super::scope_of(minutes, environment, now)
}

/// Runs the jobs until they have nothing left.
async fn settle(database: &Database, now: DateTime<Utc>) {
    while reach::fold(database).await.unwrap() {}
    while refresh(database, now).await.unwrap() {}
}

/// All numbers of a listing, by error.
async fn whole(database: &Database, listing: &Listing, scope: &Scope) -> BTreeMap<i32, Summary> {
    let keys: Vec<i32> = listing.keys.iter().map(|key| key.error_id).collect();
    let kept = numbers(database, listing, &keys, scope).await.unwrap();
    assert_eq!(kept.len(), keys.len());
    let counted = listing.counted.iter().filter(|summary| summary.count > 0);
    kept.into_iter()
        .chain(counted.map(|summary| (number(summary.reference), summary.clone())))
        .collect()
}

/// What is compared of an error: all but what people do, which is read where it is shown.
fn told(errors: impl IntoIterator<Item = Summary>) -> BTreeMap<i32, serde_json::Value> {
    let occurred = errors.into_iter().filter(|summary| summary.count > 0);
    occurred
        .map(|summary| {
            let value = serde_json::to_value(&summary).expect("plain values");
            (number(summary.reference), value)
        })
        .collect()
}

async fn expect_the_same(database: &Database, now: DateTime<Utc>) {
    for minutes in [WINDOWS[0], WINDOWS[2], WINDOWS[4]] {
        for environment in [None, Some("production"), Some("staging")] {
            let scope = scope(minutes, environment, now);
            let kept = listing(database, &scope, now)
                .await
                .unwrap()
                .expect("the board is there");
            let kept = whole(database, &kept, &scope).await;
            let counted = list_errors(database, &scope).await.unwrap();
            assert_eq!(told(kept.into_values()), told(counted), "{minutes} {environment:?}");
        }
    }
}

/// A failure of one of four errors, so many minutes ago.
async fn fail(database: &Database, id: u64, (message, minutes_ago, service): (u8, i64, &str), now: DateTime<Utc>) {
    let at = from_utc(now - TimeDelta::minutes(minutes_ago));
    let messages = ["no berth", "no tariff", "no crew", "no tide"];
    let failure = failing(trace(id), id, None, at, messages[usize::from(message) % 4]);
    let environment = if id.is_multiple_of(3) { "staging" } else { "production" };
    let sender = resource_of(&[
        ("service.name", service),
        ("service.version", "2.4.0"),
        ("deployment.environment.name", environment),
    ]);
    store(&writer(database), &[spans(vec![of(sender, vec![failure])], at)]).await;
}

#[tokio::test]
async fn a_list_is_counted_until_the_job_has_looked_and_when_it_is_behind() {
    let database = database().await;
    let now = Utc::now();
    fail(&database, 1, (0, 5, "fares"), now).await;
    let day = scope(1_440, None, now);
    assert!(
        listing(&database, &day, now).await.unwrap().is_none(),
        "nobody has looked"
    );
    settle(&database, now).await;
    let kept = listing(&database, &day, now).await.unwrap().unwrap();
    assert_eq!((kept.keys.len(), kept.counted.len()), (1, 0));
    // What came since stands beside it, counted while it is read.
    fail(&database, 2, (0, 4, "fares"), now).await;
    fail(&database, 4, (1, 4, "fares"), now).await;
    let kept = listing(&database, &day, now).await.unwrap().unwrap();
    let counts: Vec<i64> = kept.counted.iter().map(|summary| summary.count).collect();
    assert_eq!((kept.keys.len(), counts), (0, vec![2, 1]));
    let later = now + TimeDelta::minutes(5);
    let day = scope(1_440, None, later);
    assert!(
        listing(&database, &day, later).await.unwrap().is_none(),
        "the job is away"
    );
    let odd = Scope {
        from: now - TimeDelta::minutes(77),
        ..scope(1_440, None, now)
    };
    assert!(listing(&database, &odd, now).await.unwrap().is_none(), "of no window");
}

#[tokio::test]
async fn a_predicate_on_services_is_answered_and_one_on_more_is_not() {
    let database = database().await;
    let now = Utc::now();
    fail(&database, 1, (0, 5, "fares"), now).await;
    fail(&database, 2, (0, 5, "gangway"), now).await;
    settle(&database, now).await;
    let asked = async |text: &str| {
        let scope = Scope {
            predicate: Some(std::sync::Arc::new(outcrop_core::query::parse(text).unwrap())),
            ..scope(1_440, None, now)
        };
        let kept = listing(&database, &scope, now).await.unwrap();
        let counted = list_errors(&database, &scope).await.unwrap();
        let counted = counted.iter().filter(|summary| summary.count > 0).count();
        (kept.map(|kept| kept.keys.len()), counted)
    };
    assert_eq!(asked("service = fares").await, (Some(1), 1));
    assert_eq!(
        asked("service in (fares, gangway) and not service = gangway").await,
        (Some(1), 1)
    );
    assert_eq!(asked("service like \"*a*\"").await, (Some(2), 2));
    assert_eq!(asked("service = fares and uncaught").await, (None, 1));
}

#[tokio::test]
async fn what_else_changes_an_error_makes_it_stale() {
    let database = database().await;
    let now = Utc::now();
    fail(&database, 1, (0, 5, "fares"), now).await;
    for change in [
        "INSERT INTO weight (service, factor) VALUES ('fares', 3)",
        "UPDATE error_group SET title = 'another'",
        "UPDATE service SET display_name = 'fares of the north'",
        "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, count, \
         expected, evidence) SELECT g.id, g.service_id, e.id, 'new', '', false, now(), now(), 1, 0, 9 FROM error_group g, \
         environment e",
    ] {
        settle(&database, now).await;
        sqlx::query(change).execute(&database.pool).await.unwrap();
        let kept = listing(&database, &scope(1_440, None, now), now)
            .await
            .unwrap()
            .unwrap();
        assert_eq!((kept.keys.len(), kept.counted.len()), (0, 1), "{change}");
        settle(&database, now).await;
        expect_the_same(&database, now).await;
    }
}

#[tokio::test]
async fn a_window_that_moves_on_loses_what_left_it() {
    let database = database().await;
    let now = Utc::now();
    fail(&database, 1, (0, 5, "fares"), now).await;
    fail(&database, 2, (1, 100, "fares"), now).await;
    settle(&database, now).await;
    let later = now + TimeDelta::minutes(90);
    settle(&database, later).await;
    let mut counts = vec![];
    for minutes in WINDOWS {
        let kept = listing(&database, &scope(minutes, None, later), later)
            .await
            .unwrap()
            .unwrap();
        counts.push(kept.keys.len());
    }
    assert_eq!(counts, [0, 1, 2, 2, 2], "what is 95 and 190 minutes old by now");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6, ..ProptestConfig::default() })]

    #[test]
    fn the_board_equals_what_is_counted_after_any_order_of_reports(
        failures in proptest::collection::vec((0_u8..4, 0_i64..12_000, prop_oneof!["fares", "gangway"]), 1..14),
        rounds in proptest::collection::vec(any::<bool>(), 14),
    ) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(async {
            let database = database().await;
            let now = Utc::now();
            for ((failure, is_settled), id) in failures.iter().zip(rounds).zip(1..) {
                fail(&database, id, (failure.0, failure.1, &failure.2), now).await;
                if is_settled {
                    settle(&database, now).await;
                }
            }
            settle(&database, now).await;
            expect_the_same(&database, now).await;
        });
    }
}
