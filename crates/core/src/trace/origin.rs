//! Where a failing request first failed.

use super::tree::Trace;
use crate::telemetry::SpanKind;

/// The call through which a failing span failed: the last of its failed calls to another service whose request failed
/// there too, and that was not tried again with success. `None` where the span failed by itself.
///
/// Looked for below the span within its own service; a failure that a span in between took care of
/// does not count. A call that its caller gave up (the other side did not fail) is no failure of
/// the other side.
#[must_use]
pub fn failing_call(trace: &Trace, at: usize) -> Option<(usize, usize)> {
    let service = &trace.spans.get(at)?.service;
    let mut calls: Vec<(usize, usize)> = vec![];
    let mut succeeded: Vec<usize> = vec![];
    let mut waiting = vec![at];
    while let Some(span) = waiting.pop() {
        for child in trace.children[span].iter().copied() {
            let below = &trace.spans[child];
            let is_elsewhere = below.service != *service && !below.is_missing;
            if is_elsewhere {
                // Called without a client span of its own, as some libraries do.
                if below.is_error && trace.spans[span].is_error {
                    calls.push((span, child));
                }
            } else if matches!(below.kind, SpanKind::Client | SpanKind::Producer) && !below.is_error {
                succeeded.push(child);
            } else if below.is_error || matches!(below.kind, SpanKind::Internal) {
                waiting.push(child);
            }
        }
    }
    let is_retried = |call: usize| {
        let tried = &trace.spans[call];
        succeeded.iter().any(|other| {
            trace.spans[*other].start >= tried.start
                && trace.spans[*other].name == tried.name
                && trace.spans[*other].parent == tried.parent
        })
    };
    calls
        .into_iter()
        .filter(|(call, _)| *call == at || !is_retried(*call))
        .max_by_key(|(call, _)| (trace.spans[*call].end(), *call))
}

/// The span in another service where a failing span's request first failed, following its calls; `None` where it failed
/// by itself, or did not fail.
#[must_use]
pub fn origin_of(trace: &Trace, at: usize) -> Option<usize> {
    trace.spans.get(at).filter(|span| span.is_error)?;
    origin_of_report(trace, at)
}

/// The same for a failure that was reported on a span: an exception recorded on it does not make a span end in error.
#[must_use]
pub fn origin_of_report(trace: &Trace, at: usize) -> Option<usize> {
    // Each step goes down the tree, to a span in error: it ends.
    let below = |span: usize| failing_call(trace, span).map(|(_, reached)| reached);
    std::iter::successors(below(at), |reached| below(*reached)).last()
}
