//! Tests of the list of errors.

use std::sync::Arc;

use chrono::TimeDelta;
use outcrop_core::Timestamp;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use crate::{Scope, to_utc};
use crate::asking::list_errors::*;
use crate::asking::newest::*;
use crate::testing::{attributes, database, failing, now, number, of, resource, spans, store, trace, writer};
use super::labels::*;
use super::latest::*;
use super::read::*;
use super::summary::*;

fn window(from: DateTime<Utc>, to: DateTime<Utc>) -> Scope {
    Scope {
        service: None,
        environment: None,
        version: None,
        from,
        to,
        predicate: None,
    }
}

/// Failures of two errors over three days, some of them within a minute, with users that come again.
async fn filled(database: &Database) -> Vec<Timestamp> {
    let writer = writer(database);
    let mut runner = TestRunner::deterministic();
    let offsets = prop::collection::vec(0..3 * 86_400_i64, 300)
        .new_tree(&mut runner)
        .unwrap()
        .current();
    let start = now().plus_millis(-3 * 86_400_000);
    let times: Vec<Timestamp> = offsets
        .iter()
        .map(|seconds| start.plus_millis(seconds * 1_000))
        .collect();
    for (part, times) in times.chunks(50).enumerate() {
        let spans_of = times.iter().zip(0_u64..).map(|(at, n)| {
            let number = part as u64 * 50 + n;
            let mut span = failing(
                trace(number),
                number + 1,
                None,
                *at,
                if n % 3 == 0 {
                    "no tariff"
                } else {
                    "no such sailing today"
                },
            );
            span.attributes = attributes(&[("user.id", &format!("u-{}", number % 40))]);
            span
        });
        store(
            &writer,
            &[spans(vec![of(resource("fares"), spans_of.collect())], now())],
        )
        .await;
    }
    times
}

#[tokio::test]
async fn parts_of_days_hours_and_minutes_sum_to_the_plain_count_of_any_window() {
    let database = database().await;
    let times = filled(&database).await;
    // Windows are whole minutes.
    let end = Utc::now().duration_trunc(TimeDelta::minutes(1)).unwrap();
    let mut runner = TestRunner::deterministic();
    let windows = prop::collection::vec((0..4_400_i64, 1..4_400_i64), 40)
        .new_tree(&mut runner)
        .unwrap()
        .current();
    for (is_folded, windows) in windows.chunks(20).enumerate() {
        if is_folded == 1 {
            while crate::errors::reach::fold(&database).await.unwrap() {}
        }
        for (ends_before, minutes) in windows {
            let to = end - TimeDelta::minutes(*ends_before);
            let from = to - TimeDelta::minutes(*minutes);
            let summaries = list(&database, &window(from, to)).await.unwrap();
            let inside: Vec<usize> = (0..times.len())
                .filter(|at| (from..to).contains(&to_utc(times[*at])))
                .collect();
            let count: i64 = summaries.iter().map(|summary| summary.count).sum();
            assert_eq!(count, i64::try_from(inside.len()).unwrap(), "{from} to {to}");
            for summary in summaries.iter().filter(|summary| summary.count > 0) {
                let is_this = |at: &&usize| (**at % 50).is_multiple_of(3) == summary.title.contains("no tariff");
                let users: BTreeSet<usize> = inside.iter().filter(is_this).map(|at| at % 40).collect();
                assert_eq!(
                    summary.users,
                    i64::try_from(users.len()).unwrap(),
                    "{} from {from} to {to}",
                    summary.title
                );
            }
        }
    }
}

#[tokio::test]
async fn one_error_says_the_same_alone_as_in_the_list_and_a_condition_that_always_holds_changes_nothing() {
    let database = database().await;
    filled(&database).await;
    let other = failing(trace(9_000), 7, None, now(), "the ledger is closed");
    store(
        &writer(&database),
        &[spans(vec![of(resource("ledger"), vec![other])], now())],
    )
    .await;
    let scope = window(Utc::now() - TimeDelta::days(4), Utc::now() + TimeDelta::minutes(1));
    let always = Arc::new(outcrop_core::query::parse("type = BerthTaken or not type = BerthTaken").unwrap());
    let narrowed = Scope {
        predicate: Some(always),
        ..scope.clone()
    };
    let all = list(&database, &scope).await.unwrap();
    assert_eq!(all.len(), 3);
    for listed in &all {
        let alone = one(&database, listed.reference, &scope).await.unwrap().unwrap();
        let narrow = one(&database, listed.reference, &narrowed).await.unwrap().unwrap();
        let said = |summary: &Summary| (summary.count, summary.users, summary.versions.clone(), summary.requests);
        assert_eq!(said(&alone), said(listed));
        assert_eq!(said(&narrow), said(listed));
    }
    assert_eq!(number(&database, "SELECT count(*) FROM error_group").await, 3);
}
