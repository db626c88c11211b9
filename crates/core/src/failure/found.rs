//! What a request of a sender holds once it was searched.

use std::sync::Arc;

use super::compact::CountedOnly;
use super::lines::FoundLine;
use super::platform::PlatformEvent;
use super::points::FoundPoint;
use super::refused::Refused;
use super::report::Report;
use super::uses::{FoundCalls, FoundInstance};
use crate::Timestamp;
use crate::failure::entry::EntrySpan;
use crate::failure::span_facts::SpanFacts;
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

/// One request in so many is a candidate for the sample that occurrences are compared with. Which one is decided by its
/// ids, so that the same request sent again, or to another instance, is decided alike.
pub const SAMPLED_ONE_IN: u32 = 4;

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
    /// Points of metrics.
    pub points: Vec<FoundPoint>,
    /// What the platform says of instances, and who sent it.
    pub platform_events: Vec<(Arc<Identity>, PlatformEvent)>,
    /// Log records that belong to a trace, by sender: how many, and of how many the trace is not sampled.
    pub traced_lines: Vec<(Arc<Identity>, u64, u64)>,
    /// What could not be used.
    pub refused: Refused,
    /// Failures of one span that are counted without a row of their own.
    pub counted_only: Vec<CountedOnly>,
    /// Clocks that are ahead, by whom, in milliseconds.
    pub clocks_ahead: Vec<(Arc<Identity>, i64)>,
}

impl Found {
    /// Who sent anything that is in here, with repetitions: what a store must know before it stores any of it.
    pub fn identities(&self) -> impl Iterator<Item = &Arc<Identity>> {
        let spans = self
            .spans
            .iter()
            .map(|span| &span.identity)
            .chain(self.chunks.iter().map(|chunk| &chunk.identity));
        let reports = self
            .reports
            .iter()
            .map(|report| &report.identity)
            .chain(self.lines.iter().map(|line| &line.identity));
        let uses = self
            .calls
            .iter()
            .map(|calls| &calls.identity)
            .chain(self.instances.iter().map(|instance| &instance.identity));
        let counted = self
            .counted_only
            .iter()
            .map(|counted| &counted.identity)
            .chain(self.clocks_ahead.iter().map(|(identity, _)| identity));
        let told = self
            .platform_events
            .iter()
            .map(|(identity, _)| identity)
            .chain(self.points.iter().map(|point| &point.identity))
            .chain(self.traced_lines.iter().map(|(identity, ..)| identity));
        spans.chain(reports).chain(uses).chain(counted).chain(told)
    }

    /// Leaves out all that senders sent for whom `refuse` has a reason. Spans and log records are
    /// counted as refused; what was made of them goes with them.
    pub fn refuse(&mut self, refuse: impl Fn(&Identity) -> Option<String>) {
        let mut refused = Refused::default();
        let mut is_taken = |identity: &Identity| {
            let reason = refuse(identity);
            refused.add(u64::from(reason.is_some()), || reason.clone().unwrap_or_default());
            reason.is_none()
        };
        self.spans.retain(|span| is_taken(&span.identity));
        self.lines.retain(|line| is_taken(&line.identity));
        self.points.retain(|point| is_taken(&point.identity));
        let is_kept = |identity: &Identity| refuse(identity).is_none();
        self.chunks.retain(|chunk| is_kept(&chunk.identity));
        self.reports.retain(|report| is_kept(&report.identity));
        self.calls.retain(|calls| is_kept(&calls.identity));
        self.instances.retain(|instance| is_kept(&instance.identity));
        self.platform_events.retain(|(identity, _)| is_kept(identity));
        self.traced_lines.retain(|(identity, ..)| is_kept(identity));
        self.counted_only.retain(|counted| is_kept(&counted.identity));
        self.clocks_ahead.retain(|(identity, _)| is_kept(identity));
        self.refused.join(refused);
    }
}
