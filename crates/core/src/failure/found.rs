//! What a request of a sender holds once it was searched.

use std::sync::Arc;

use super::lines::FoundLine;
use super::platform::PlatformEvent;
use super::report::Report;
use super::state::SpanFacts;
use super::uses::{FoundCalls, FoundInstance};
use crate::Timestamp;
use crate::telemetry::TraceId;
use crate::telemetry::names::Identity;

/// A span seen, of whatever outcome.
#[derive(Clone, Debug)]
pub struct SeenSpan {
    /// Who sent it.
    pub identity: Arc<Identity>,
    /// Its trace.
    pub trace_id: TraceId,
    /// What is remembered of it; the endpoint's number is filled in by the store.
    pub facts: SpanFacts,
    /// The request or run, where the service's work begins with this span.
    pub entry: Option<EntrySpan>,
}

/// A request or run to be counted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntrySpan {
    /// Its endpoint.
    pub endpoint: String,
    /// When it began.
    pub at: Timestamp,
    /// Whether it failed: status ERROR, or an HTTP status of 500 and above.
    pub failed: bool,
    /// Its HTTP status code, if it has one.
    pub status: Option<u16>,
    /// How long it took, in microseconds.
    pub duration_us: u64,
    /// The instance group that served it, of a service that has groups.
    pub group: Option<String>,
    /// How many requests it counts for.
    pub weight: u32,
    /// Whether that is said by its sampling threshold.
    pub is_weighed: bool,
    /// What it said of itself, scrubbed, of a request that is kept by itself: failed, or answered 4xx.
    pub told: Option<Box<serde_json::Map<String, serde_json::Value>>>,
    /// What it said of itself and its resource, scrubbed; kept of one request in [`SAMPLED_ONE_IN`], evenly.
    pub sampled: Option<Box<serde_json::Map<String, serde_json::Value>>>,
}

/// One request in so many is a candidate for the sample that occurrences are compared with. Which one is decided by its
/// ids, so that the same request sent again, or to another instance, is decided alike.
pub const SAMPLED_ONE_IN: u32 = 4;

/// Records that could not be used, and why.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Refused {
    /// How many.
    pub count: u64,
    /// The reason, of the first one.
    pub reason: String,
}

impl Refused {
    /// Counts records refused; the first reason stays.
    pub fn add(&mut self, count: u64, reason: impl FnOnce() -> String) {
        if count > 0 && self.count == 0 {
            self.reason = reason();
        }
        self.count += count;
    }
}

/// Spans of one trace by one sender, to be stored.
#[derive(Clone, Debug)]
pub struct FoundChunk {
    /// Who sent them.
    pub identity: Arc<Identity>,
    /// Their trace.
    pub trace_id: TraceId,
    /// When the first began and the last ended, in event time.
    pub bounds: (Timestamp, Timestamp),
    /// Whether any of them failed.
    pub has_failure: bool,
    /// The longest request among them: its endpoint, and how long it took in microseconds.
    pub request: Option<(String, u64)>,
    /// How many.
    pub spans: usize,
    /// The chunk, encoded.
    pub body: Vec<u8>,
}

/// What a request holds.
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// Reports of failures.
    pub reports: Vec<Report>,
    /// Spans, of whatever outcome.
    pub spans: Vec<SeenSpan>,
    /// The same spans to be stored: one chunk per trace and sender.
    pub chunks: Vec<FoundChunk>,
    /// Log records to be stored.
    pub lines: Vec<FoundLine>,
    /// What was called, summed.
    pub calls: Vec<FoundCalls>,
    /// The instances that sent it.
    pub instances: Vec<FoundInstance>,
    /// What the platform says of instances.
    pub platform_events: Vec<PlatformEvent>,
    /// Log records that belong to a trace, by sender: how many, and of how many the trace is not sampled.
    pub traced_lines: Vec<(Arc<Identity>, u64, u64)>,
    /// What could not be used.
    pub refused: Refused,
    /// How far the sender's clock is ahead, in milliseconds, where it was corrected for.
    pub clock_ahead_ms: i64,
}
