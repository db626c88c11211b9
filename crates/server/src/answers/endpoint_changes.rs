//! What changed of endpoints between two sides: before a deploy and after it, or beside a canary and in it.

use std::collections::BTreeMap;

use chrono::TimeDelta;
use outcrop_api::EndpointChange;
use outcrop_core::deploy::{Change, changes};
use outcrop_store::deploys::comparison::Compared;

/// How long after a deploy its endpoints are held against those of before.
pub const COMPARED: TimeDelta = TimeDelta::hours(24);

/// Those that changed first, worse before better, then by requests.
#[must_use]
pub fn changed(compared: BTreeMap<String, Compared>) -> Vec<EndpointChange> {
    let mut found: Vec<(Vec<Change>, EndpointChange)> = compared.into_iter().map(endpoint_change).collect();
    found.retain(|(_, item)| item.requests > 0);
    found.sort_by(|(one, a), (other, b)| {
        let first = |changes: &[Change]| changes.iter().min().map_or(9, |change| *change as u8);
        first(one).cmp(&first(other)).then(b.requests.cmp(&a.requests))
    });
    found.into_iter().map(|(_, item)| item).collect()
}

fn endpoint_change((endpoint, Compared { before, after, .. }): (String, Compared)) -> (Vec<Change>, EndpointChange) {
    let found = changes(&before, &after);
    let count = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let p95 =
        |latency: &outcrop_core::latency::Latency| latency.quantile(0.95).map(|micros| (micros / 10.0).round() / 100.0);
    let item = EndpointChange {
        endpoint,
        requests_before: count(before.requests),
        failed_before: count(before.failed),
        p95_before_ms: p95(&before.latency),
        requests: count(after.requests),
        failed: count(after.failed),
        p95_ms: p95(&after.latency),
        changes: found.iter().map(|change| change.word().to_owned()).collect(),
    };
    (found, item)
}
