//! Failures counted without a row of their own: what keeps a request small that tells of very many.
//!
//! A span may hold tens of thousands of exception events, each with its span's attributes beside
//! it. All of them are failures and all are counted; told in full are the first [`MAX_EXCEPTIONS`]
//! of a span, and as many of a request as fit into [`MAX_REPORT_BYTES`]. Each further one is
//! counted with a full report of the same request that has its grouping key. Where there is none,
//! one more is told in full if there is room, and else it is counted under the service's other
//! error.

use std::collections::HashMap;
use std::sync::Arc;

use super::report::{OccurrenceId, Report};
use crate::telemetry::names::Identity;
use crate::telemetry::{SpanId, TraceId};
use crate::{Digest, Timestamp};

/// Exception events of a span that are told in full.
pub const MAX_EXCEPTIONS: usize = 128;
/// Bytes that the failures of one request's spans may take that are told in full.
pub const MAX_REPORT_BYTES: usize = 32 << 20;

/// Failures of one span and minute that are counted without a row of their own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CountedOnly {
    /// Who sent them.
    pub identity: Arc<Identity>,
    /// Their trace.
    pub trace_id: TraceId,
    /// Their span: they are counted when it is first seen, so that a span sent again counts nothing twice.
    pub span: SpanId,
    /// The report of the same request with whose cause they are counted; `None` for the service's other error.
    pub like: Option<OccurrenceId>,
    /// The minute in which they happened, in event time.
    pub minute: Timestamp,
    /// OTLP severity number.
    pub severity: i16,
    /// How many.
    pub count: u64,
}

/// What of a request is told in full so far, and what is only counted.
#[derive(Default)]
pub(super) struct Compact {
    bytes: usize,
    full: HashMap<(*const Identity, Digest), OccurrenceId>,
    counted: HashMap<(SpanId, Option<OccurrenceId>, Timestamp), CountedOnly>,
}

impl Compact {
    /// Whether one more failure may be told in full.
    pub(super) const fn has_room(&self) -> bool {
        self.bytes < MAX_REPORT_BYTES
    }

    /// Takes down a failure that is told in full; the request keeps its identity.
    pub(super) fn keep(&mut self, report: &Report) {
        self.bytes += weight(report);
        self.full
            .entry((Arc::as_ptr(&report.identity), report.grouping.key))
            .or_insert(report.facts.id);
    }

    /// The failure told in full with whose cause another of this key is counted.
    pub(super) fn like(&self, identity: &Arc<Identity>, key: Digest) -> Option<OccurrenceId> {
        self.full.get(&(Arc::as_ptr(identity), key)).copied()
    }

    /// Counts one failure.
    pub(super) fn count(&mut self, one: &CountedOnly) {
        let sum = self
            .counted
            .entry((one.span, one.like, one.minute))
            .or_insert_with(|| CountedOnly {
                count: 0,
                ..one.clone()
            });
        sum.count += one.count;
        sum.severity = sum.severity.max(one.severity);
    }

    pub(super) fn finish(self) -> Vec<CountedOnly> {
        let mut counted: Vec<CountedOnly> = self.counted.into_values().collect();
        counted.sort_unstable_by_key(|counted| (counted.span, counted.like, counted.minute));
        counted
    }
}

/// About how many bytes a report takes in memory and on its way to the store.
fn weight(report: &Report) -> usize {
    /// A report's own fields, and a frame of its stack.
    const REPORT: usize = 1_024;
    const FRAME: usize = 160;
    let attributes: usize = report
        .attributes
        .iter()
        .map(|(name, value)| name.len() + json_weight(value))
        .sum();
    let stack = report.stack.as_deref().map_or(0, |stack| stack.frame_count() * FRAME);
    // The attributes once more as text, the stack text once more in what is kept of what was sent.
    REPORT + 2 * attributes + stack + 2 * (report.stacktrace.len() + report.message.len())
}

fn json_weight(value: &serde_json::Value) -> usize {
    use serde_json::Value;
    64 + match value {
        Value::String(text) => text.len(),
        Value::Array(items) => items.iter().map(json_weight).sum(),
        Value::Object(entries) => entries
            .iter()
            .map(|(name, value)| name.len() + json_weight(value))
            .sum(),
        Value::Null | Value::Bool(_) | Value::Number(_) => 0,
    }
}
