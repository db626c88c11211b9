//! What is known of one service's part of a trace, and what more reports change.

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

use super::decide::decide;
use super::report::{OccurrenceId, ReportFacts};
use crate::failure::one::Failure;
use crate::failure::span_facts::SpanFacts;
use crate::telemetry::SpanId;

/// What a request says of one service's part of one trace.
#[derive(Clone, Debug, Default)]
pub struct TraceNews {
    /// Spans.
    pub spans: Vec<SpanFacts>,
    /// Reports.
    pub reports: Vec<ReportFacts>,
}

/// What must change in the store after news.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changes {
    /// Failures counted from now on, for which a new report stands.
    pub counted: Vec<Failure>,
    /// Failures counted from now on, for which a report stands that was part of another failure until now.
    pub restored: Vec<Failure>,
    /// Occurrences that turned out to be part of another.
    pub withdrawn: Vec<(OccurrenceId, OccurrenceId)>,
    /// Failures already counted of which more is known now.
    pub completed: Vec<Failure>,
    /// New reports that are part of a failure another report stands for: report, failure.
    pub absorbed: Vec<(OccurrenceId, OccurrenceId)>,
    /// Entry spans not seen before.
    pub new_entries: Vec<SpanId>,
    /// Spans not seen before, of whatever kind.
    pub new_spans: Vec<SpanId>,
    /// Reports past [`MAX_REPORTS`], each a failure by itself unless it is stored already: what was
    /// seen of them is not remembered.
    pub surplus: Vec<OccurrenceId>,
}

/// Reports remembered and compared in one trace of one service. Deciding is quadratic in the worst
/// case and a state is read and written with each batch, so a trace that fails without end must not
/// make its state grow. With the last of them what was decided stays, and each further report is a
/// failure of its own.
pub const MAX_REPORTS: usize = 1_000;
/// Spans remembered in one trace of one service.
pub const MAX_SPANS: usize = 5_000;

/// All that is known of one service's part of one trace.
///
/// What was decided is kept beside what it was decided from, so that a release with other rules corrects exactly what
/// an earlier one stored.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TraceState {
    spans: Vec<SpanFacts>,
    reports: Vec<ReportFacts>,
    decided: Vec<Failure>,
}

/// Stored bytes are no state: another release's form, or damage.
#[derive(Debug, thiserror::Error)]
#[error("the stored state of a trace cannot be read: {0}")]
pub struct BrokenState(String);

/// First byte of a stored state: which form follows.
const FORM: u8 = 1;

impl TraceState {
    /// Reads what [`TraceState::encode`] wrote.
    ///
    /// # Errors
    /// [`BrokenState`] when the bytes are of another form.
    pub fn decode(bytes: &[u8]) -> Result<Self, BrokenState> {
        decode(bytes)
    }

    /// Writes the state down, some 30 bytes a span and 70 a report.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        encode(self)
    }

    /// The failures decided so far.
    #[must_use]
    pub fn failures(&self) -> &[Failure] {
        &self.decided
    }

    /// What is remembered of a report.
    #[must_use]
    pub fn report(&self, id: OccurrenceId) -> Option<&ReportFacts> {
        self.reports.iter().find(|report| report.id == id)
    }

    /// Whether any report has been seen.
    #[must_use]
    pub fn has_reports(&self) -> bool {
        !self.reports.is_empty()
    }

    /// Adds news and says what changes by them. News seen before change nothing, save those past the limits: these are
    /// not remembered.
    pub fn add(&mut self, news: TraceNews) -> Changes {
        let was_full = self.reports.len() >= MAX_REPORTS;
        let mut changes = Changes::default();
        self.add_spans(news.spans, &mut changes);
        let added = self.add_reports(news.reports, &mut changes);
        if self.reports.is_empty() || was_full {
            return changes;
        }
        let decided = decide(&self.spans, &self.reports);
        let before: HashMap<OccurrenceId, &Failure> = self
            .decided
            .iter()
            .map(|failure| (failure.occurrence, failure))
            .collect();
        let stands_for: HashMap<OccurrenceId, OccurrenceId> = decided
            .iter()
            .flat_map(|failure| failure.reports.iter().map(|report| (*report, failure.occurrence)))
            .collect();
        let now: HashSet<OccurrenceId> = decided.iter().map(|failure| failure.occurrence).collect();
        for failure in &decided {
            match before.get(&failure.occurrence) {
                None if added.contains(&failure.occurrence) => changes.counted.push(failure.clone()),
                None => changes.restored.push(failure.clone()),
                Some(known) if !known.says_the_same(failure) => changes.completed.push(failure.clone()),
                Some(_) => {}
            }
        }
        for known in &self.decided {
            if !now.contains(&known.occurrence)
                && let Some(other) = stands_for.get(&known.occurrence)
            {
                changes.withdrawn.push((known.occurrence, *other));
            }
        }
        for report in added {
            if let Some(other) = stands_for.get(&report)
                && *other != report
            {
                changes.absorbed.push((report, *other));
            }
        }
        self.decided = decided;
        changes
    }

    fn add_spans(&mut self, spans: Vec<SpanFacts>, changes: &mut Changes) {
        let mut known: HashSet<SpanId> = self.spans.iter().map(|span| span.id).collect();
        for span in spans {
            if known.insert(span.id) {
                changes.new_spans.push(span.id);
                if span.endpoint.is_some() {
                    changes.new_entries.push(span.id);
                }
                if self.spans.len() < MAX_SPANS {
                    self.spans.push(span);
                }
            }
        }
        self.spans.sort_unstable_by_key(|span| span.id);
    }

    fn add_reports(&mut self, reports: Vec<ReportFacts>, changes: &mut Changes) -> HashSet<OccurrenceId> {
        let mut known: HashSet<OccurrenceId> = self.reports.iter().map(|report| report.id).collect();
        let mut added = HashSet::new();
        for report in reports {
            if !known.insert(report.id) {
                continue;
            }
            if self.reports.len() < MAX_REPORTS {
                added.insert(report.id);
                self.reports.push(report);
            } else {
                changes.surplus.push(report.id);
            }
        }
        self.reports.sort_unstable_by_key(|report| report.id);
        added
    }
}

pub(super) fn encode<T: Serialize>(state: &T) -> Vec<u8> {
    postcard::to_extend(state, vec![FORM]).expect("a state of plain values always encodes")
}

pub(super) fn decode<T: for<'a> Deserialize<'a> + Default>(bytes: &[u8]) -> Result<T, BrokenState> {
    match bytes.split_first() {
        None => Ok(T::default()),
        Some((&FORM, rest)) => postcard::from_bytes(rest).map_err(|error| BrokenState(error.to_string())),
        Some((form, _)) => Err(BrokenState(format!("form {form} is not known here"))),
    }
}
