//! Errors in the period that a window is held against.

use std::collections::HashMap;

use outcrop_api::{Period, Then};
use outcrop_core::Reference;
use outcrop_core::deploy::{Change, Side, changes};
use outcrop_store::errors::Summary;
use outcrop_store::{Database, Scope, StoreError, asking, errors};

pub(super) type Earlier = (HashMap<Reference, Summary>, Period);

/// The errors and the requests of the period that a window is held against.
pub(super) async fn then(database: &Database, earlier: Option<&Scope>) -> Result<Option<Earlier>, StoreError> {
    let Some(earlier) = earlier else { return Ok(None) };
    let (summaries, (requests, failed)) = futures_util::try_join!(
        asking::list_errors(database, earlier),
        errors::traffic_of(database, earlier)
    )?;
    let summaries: HashMap<_, _> = summaries
        .into_iter()
        .filter(|summary| summary.count > 0)
        .map(|summary| (summary.reference, summary))
        .collect();
    let errors = i64::try_from(summaries.len()).unwrap_or(i64::MAX);
    Ok(Some((
        summaries,
        Period {
            from: earlier.from,
            to: earlier.to,
            requests,
            failed,
            errors,
            gone: 0,
        },
    )))
}

/// How many errors of then do not occur now.
pub(super) fn gone(now: &[Summary], then: &HashMap<Reference, Summary>) -> i64 {
    let still = now
        .iter()
        .filter(|summary| summary.count > 0 && then.contains_key(&summary.reference))
        .count();
    i64::try_from(then.len() - still).unwrap_or(i64::MAX)
}

/// An error then, and whether there is more or less of it now.
pub(super) fn held_against(now: &Summary, then: Option<&Summary>) -> Then {
    let side = |summary: Option<&Summary>| Side {
        requests: summary.map_or(0, |summary| summary.requests.unsigned_abs()),
        failed: summary.map_or(0, |summary| summary.count.unsigned_abs()),
        ..Side::default()
    };
    // Where it did not occur, no endpoint of then is known for it: as many requests as now are taken to have come.
    let before = then.map_or_else(
        || Side {
            requests: now.requests.unsigned_abs(),
            ..Side::default()
        },
        |then| side(Some(then)),
    );
    let change = changes(&before, &side(Some(now)))
        .first()
        .and_then(|change| match change {
            Change::FailsMore => Some("more"),
            Change::FailsLess => Some("less"),
            Change::Slower | Change::Faster => None,
        });
    Then {
        count: then.map_or(0, |then| then.count),
        users: then.map_or(0, |then| then.users),
        request_share: then.and_then(Summary::request_share),
        change: change.map(str::to_owned),
    }
}
