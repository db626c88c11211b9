//! What a batch has to do within its transaction, and what it counted.

use std::collections::BTreeMap;

use outcrop_core::Timestamp;
use outcrop_core::completeness::Limit;
use outcrop_core::failure::{Changes, CountedOnly, Failure, OccurrenceId, SeenSpan};

use super::batch::{Numbered, Prepared};
use super::dictionary::names::SenderIds;
use super::limits::Reached;

/// What a batch's transaction has to do, and what it counted.
#[derive(Default)]
pub(super) struct Work<'a> {
    /// Reports that stand for a failure of their own.
    pub inserted: Vec<(Numbered<'a>, Failure)>,
    /// Reports that are part of a failure another stands for.
    pub absorbed: Vec<(Numbered<'a>, OccurrenceId)>,
    /// Stored occurrences that turned out to be part of another.
    pub withdrawn: Vec<(OccurrenceId, OccurrenceId)>,
    /// Stored reports that stand for a failure after all.
    pub restored: Vec<OccurrenceId>,
    /// Failures of which more is known than is stored.
    pub completed: Vec<Failure>,
    /// Failures another report stands for now: their parts must point to it.
    pub renamed: Vec<(OccurrenceId, Vec<OccurrenceId>)>,
    /// Requests to count: sender, endpoint, span.
    pub requests: Vec<(SenderIds, i32, &'a SeenSpan)>,
    /// When reports of a sender happened.
    pub seen: Vec<(SenderIds, Timestamp)>,
    /// What the counters change by.
    pub counted: Vec<Counted>,
    /// Traces in which a failure was stored.
    pub failed_traces: Vec<outcrop_core::telemetry::TraceId>,
    /// Failures that people's rules drop, by rule.
    pub dropped: BTreeMap<i64, i64>,
    /// Limits reached.
    pub reached: Reached,
}

/// One occurrence more or less.
#[derive(Clone, Copy, Debug)]
pub(super) struct Counted {
    pub occurrence: OccurrenceId,
    pub cause: i64,
    pub environment: i32,
    pub version: i32,
    pub uncaught: i64,
    pub severity: i16,
    /// 1 or more counted, −1 taken back, 0 only `uncaught` or `severity` changed.
    pub n: i64,
}

impl<'a> Work<'a> {
    /// Counts failures that have no row of their own: with the cause of the report that they are
    /// like, or under the other error.
    pub(super) fn count_only(&mut self, prepared: &Prepared<'_>, counted: &CountedOnly) {
        let sender = prepared.sender(&counted.identity);
        let n = i64::try_from(counted.count).unwrap_or(i64::MAX);
        let like = counted.like.and_then(|like| prepared.reports.get(&like));
        if let Some(rule) = like.and_then(|like| like.report.dropped_by) {
            *self.dropped.entry(rule).or_default() += n;
            return;
        }
        let cause = like.map_or_else(|| prepared.other_cause(sender.service), |like| like.cause);
        self.reached.add(sender.service, Limit::FailuresInFull, counted.count);
        self.seen.push((sender, counted.minute));
        self.counted.push(Counted {
            occurrence: OccurrenceId::first_at(counted.minute),
            cause,
            environment: sender.environment,
            version: sender.version,
            uncaught: 0,
            severity: counted.severity,
            n,
        });
    }

    /// Takes over what a trace's news change. `is_first`: nothing of this trace was stored before.
    pub(super) fn take_changes(&mut self, prepared: &Prepared<'a>, changes: Changes, is_first: bool) {
        for failure in changes
            .counted
            .iter()
            .chain(&changes.restored)
            .filter(|failure| !is_first && failure.reports.len() > 1)
        {
            self.renamed.push((failure.occurrence, failure.reports.clone()));
        }
        for failure in changes.counted {
            self.inserted.extend(
                prepared
                    .reports
                    .get(&failure.occurrence)
                    .map(|numbered| (*numbered, failure)),
            );
        }
        self.restored
            .extend(changes.restored.iter().map(|failure| failure.occurrence));
        self.completed.extend(changes.restored);
        for (report, other) in changes.absorbed {
            self.absorbed
                .extend(prepared.reports.get(&report).map(|numbered| (*numbered, other)));
        }
        self.withdrawn.extend(changes.withdrawn);
        self.completed.extend(changes.completed);
    }
}
