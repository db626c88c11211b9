//! What made slow requests slow.

use std::collections::{BTreeMap, HashSet};

use outcrop_api::{SlowItem, SlowList};
use outcrop_core::telemetry::SpanId;
use outcrop_core::trace::{Chunk, Trace, critical_path, main_share};
use outcrop_store::traffic;

use crate::clock::millis;

/// What made requests slow, worst first; `chunks` gives the spans of a trace.
pub(crate) fn reasons<F>(requests: Vec<traffic::Request>, limit: usize, mut chunks: F) -> SlowList
where
    F: FnMut(&outcrop_store::TraceNumber) -> Vec<Chunk>,
{
    // A request and what it called are one, though each is slow where it is served.
    let looked_at = requests
        .iter()
        .map(|request| request.trace_id)
        .collect::<HashSet<_>>()
        .len();
    let mut groups: BTreeMap<(String, String, String, String), SlowItem> = BTreeMap::new();
    let mut known: BTreeMap<_, Trace> = BTreeMap::new();
    for request in requests {
        let trace = known
            .entry(request.trace_id)
            .or_insert_with(|| Trace::new(chunks(&request.trace_id)));
        let root = trace.place(SpanId(u64::from_ne_bytes(request.span_id.to_ne_bytes())));
        let share = root.and_then(|root| main_share(trace, &critical_path(trace, root)));
        let (by_service, why, nanos) = share.map_or_else(
            || (request.service.clone(), "its spans are gone".to_owned(), 0),
            |share| (share.service.clone(), share.in_words(), share.nanos),
        );
        // Runs differ in number from request to request: they are the same reason.
        let reason = why.split(", run ").next().unwrap_or_default().to_owned();
        let worst_ms = millis(request.duration_us * 1_000);
        let item = groups
            .entry((
                request.service.clone(),
                request.endpoint.clone(),
                by_service.clone(),
                reason,
            ))
            .or_insert_with(|| SlowItem {
                service: request.service.clone(),
                endpoint: request.endpoint.clone(),
                why,
                by_service,
                count: 0,
                worst_ms,
                total_ms: 0.0,
                trace_id: request.trace_id.simple().to_string(),
            });
        item.count += 1;
        item.total_ms += millis(nanos);
    }
    let mut items: Vec<SlowItem> = groups.into_values().collect();
    items.sort_by(|one, other| other.total_ms.total_cmp(&one.total_ms));
    items.truncate(limit);
    SlowList { looked_at, items }
}
