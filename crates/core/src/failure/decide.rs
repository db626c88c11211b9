//! Which reports of one service's part of one trace are the same failure.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use super::report::{OccurrenceId, ReportFacts, Source};
use crate::failure::one::Failure;
use crate::failure::span_facts::SpanFacts;
use crate::telemetry::SpanId;

/// How far clocks of one process' span events and log records may disagree, in milliseconds.
const CLOCK_SLACK_MS: i64 = 100;
/// How long after an exception a line may say that its request failed, in milliseconds.
const LOGGED_WITHIN_MS: i64 = 2_000;
/// Longest chain of parents followed; also what ends a chain that runs in a circle.
const MAX_DEPTH: usize = 256;

/// Decides which reports are the same failure: a pure function of the set of spans and reports, whatever their order.
///
/// Reports on one chain of ancestors and descendants are one failure when they speak of the same exception, when one
/// holds the other, or when the outer span failed because the inner one ended in error and nothing else did. A report
/// joins one failure at most, so that retries below one span stay as many failures as there were tries. Two reports
/// written by the same place on the same span are two failures. A span that ended in error without
/// an exception is part of any failure on its chain; a line logged as an error without one is part
/// of an exception on its chain that came shortly before.
#[must_use]
pub fn decide(spans: &[SpanFacts], reports: &[ReportFacts]) -> Vec<Failure> {
    let tree = Tree::new(spans);
    let mut order: Vec<&ReportFacts> = reports.iter().collect();
    // Events from the innermost outwards, then log records, which attach to what events made known;
    // last what only says that something failed.
    order.sort_by_key(|report| {
        let is_of_span = matches!(report.source, Source::SpanEvent | Source::SpanStatus);
        let depth = if is_of_span { tree.depth(report.span) } else { 0 };
        (report.source, Reverse(depth), report.at, report.id)
    });
    let mut failures: Vec<Gathering<'_>> = Vec::new();
    for report in order {
        let best = failures
            .iter_mut()
            .filter(|failure| failure.takes(&tree, report))
            .min_by_key(|failure| (failure.distance(report), failure.reports[0].id));
        match best {
            Some(failure) => failure.reports.push(report),
            None => failures.push(Gathering { reports: vec![report] }),
        }
    }
    let with_event = failures
        .iter()
        .filter(|failure| failure.has_event())
        .flat_map(|failure| &failure.reports);
    let ended: HashSet<SpanId> = with_event
        .filter_map(|report| Some(tree.entry(report.span)?.id))
        .collect();
    let mut decided: Vec<Failure> = failures.iter().map(|failure| failure.sum_up(&tree, &ended)).collect();
    decided.sort_unstable_by_key(|failure| failure.occurrence);
    decided
}

struct Tree<'a> {
    spans: HashMap<SpanId, &'a SpanFacts>,
}

impl<'a> Tree<'a> {
    fn new(spans: &'a [SpanFacts]) -> Self {
        Self {
            spans: spans.iter().map(|span| (span.id, span)).collect(),
        }
    }

    /// The span itself, its parent and so on, as far as this service's spans are known.
    fn path(&self, span: SpanId) -> impl Iterator<Item = &'a SpanFacts> {
        let mut next = self.spans.get(&span).copied();
        std::iter::from_fn(move || {
            let here = next?;
            next = here
                .parent
                .filter(|parent| *parent != here.id)
                .and_then(|parent| self.spans.get(&parent).copied());
            Some(here)
        })
        .take(MAX_DEPTH)
    }

    fn depth(&self, span: Option<SpanId>) -> usize {
        span.map_or(0, |span| self.path(span).count())
    }

    /// Whether `above` is `below` or one of its ancestors. A span not known yet still knows its own id.
    fn is_on_path(&self, above: SpanId, below: SpanId) -> bool {
        above == below
            || self
                .path(below)
                .any(|span| span.id == above || span.parent == Some(above))
    }

    fn entry(&self, span: Option<SpanId>) -> Option<&'a SpanFacts> {
        match span {
            Some(span) if self.spans.contains_key(&span) => self.path(span).find(|span| span.endpoint.is_some()),
            // No span, or one that has not arrived: unambiguous only where there is one entry.
            _ => {
                let mut entries = self.spans.values().filter(|span| span.endpoint.is_some());
                entries.next().filter(|_| entries.next().is_none()).copied()
            }
        }
    }
}

/// Reports gathered into one failure, the first of them the innermost.
struct Gathering<'a> {
    reports: Vec<&'a ReportFacts>,
}

impl<'a> Gathering<'a> {
    fn innermost(&self) -> &'a ReportFacts {
        self.reports[0]
    }

    fn takes(&self, tree: &Tree<'_>, report: &ReportFacts) -> bool {
        match report.source {
            Source::SpanStatus => return self.is_on_chain(tree, report),
            Source::LogMessage => return self.was_logged_of(tree, report),
            Source::SpanEvent | Source::LogRecord => {}
        }
        let speaks_of_it = self
            .reports
            .iter()
            .any(|known| is_same(known, report) || holds(known, report) || holds(report, known));
        if !speaks_of_it && !self.made_fail(tree, report) {
            return false;
        }
        self.is_on_chain(tree, report)
            && self.is_in_time(tree, report)
            && !self.reports.iter().any(|known| is_another_case(known, report))
    }

    /// Whether a line without an exception was logged of this failure: on its chain, shortly after an exception.
    fn was_logged_of(&self, tree: &Tree<'_>, report: &ReportFacts) -> bool {
        let mut exceptions = self.reports.iter().filter(|known| !known.source.is_bare());
        self.is_on_chain(tree, report)
            && exceptions.any(|known| {
                let after = report.at.millis() - known.at.millis();
                (-CLOCK_SLACK_MS..=LOGGED_WITHIN_MS).contains(&after)
            })
    }

    fn is_on_chain(&self, tree: &Tree<'_>, report: &ReportFacts) -> bool {
        let inner = self.innermost();
        match (inner.span, report.span) {
            (Some(inner_span), Some(span)) => {
                tree.is_on_path(span, inner_span)
                    || tree.is_on_path(inner_span, span)
                    || (inner.is_unsampled && report.is_unsampled)
            }
            _ => true,
        }
    }

    /// What propagates outwards is reported later; a log record on an inner span comes before the outer event.
    fn is_in_time(&self, tree: &Tree<'_>, report: &ReportFacts) -> bool {
        let Some(span) = report.span else { return true };
        self.reports.iter().all(|known| {
            let Some(known_span) = known.span.filter(|known_span| *known_span != span) else {
                return true;
            };
            let slack = if known.source == report.source {
                5
            } else {
                CLOCK_SLACK_MS
            };
            if tree.is_on_path(span, known_span) {
                report.at >= known.at.plus_millis(-slack)
            } else if tree.is_on_path(known_span, span) {
                report.at <= known.at.plus_millis(slack)
            } else {
                true
            }
        })
    }

    /// Whether the outer span failed because the inner one ended in error and nothing else did.
    fn made_fail(&self, tree: &Tree<'_>, report: &ReportFacts) -> bool {
        let (Some(inner), Some(outer)) = (self.innermost().span, report.span) else {
            return false;
        };
        if inner == outer || report.source != Source::SpanEvent || self.innermost().source != Source::SpanEvent {
            return false;
        }
        let mut below = None;
        for span in tree.path(inner) {
            if !span.is_error {
                return false;
            }
            if span.id == outer {
                break;
            }
            below = Some(span);
        }
        let Some(below) = below.filter(|below| below.parent == Some(outer)) else {
            return false;
        };
        if !tree.spans.contains_key(&outer) {
            return false;
        }
        let failed_at = self.reports.iter().map(|known| known.at).max().unwrap_or(report.at);
        tree.spans
            .values()
            .filter(|span| span.id != below.id && span.start <= report.at)
            .all(|span| {
                let failed_too = span.is_error && span.parent == Some(outer);
                // Work that went on after the failure shows that it was handled.
                let went_on = span.is_call && span.start > failed_at && tree.is_on_path(outer, span.id);
                !failed_too && !went_on
            })
    }

    /// How far in time a report is from this failure: the latest before it is the nearest.
    fn distance(&self, report: &ReportFacts) -> u64 {
        let nearest = |known: &ReportFacts| known.at.0.abs_diff(report.at.0);
        self.reports
            .iter()
            .map(|known| nearest(known))
            .min()
            .unwrap_or(u64::MAX)
    }

    fn has_event(&self) -> bool {
        self.reports.iter().any(|report| report.source == Source::SpanEvent)
    }

    /// The report that stands for the failure: with own frames rather than without, then the innermost exception, then
    /// of the reports of that exception the one with the fullest stack.
    fn representative(&self, tree: &Tree<'_>) -> &'a ReportFacts {
        let says_most = |report: &&ReportFacts| (report.has_own_frame, report.frames > 0);
        let most = self.reports.iter().map(says_most).max().unwrap_or_default();
        let inner = self
            .reports
            .iter()
            .filter(|report| says_most(report) == most)
            .min_by_key(|report| (report.source, Reverse(tree.depth(report.span)), report.at, report.id));
        let inner = inner.copied().unwrap_or(self.innermost());
        let same = self
            .reports
            .iter()
            .filter(|report| is_same(inner, report) && says_most(report) == most);
        same.min_by_key(|report| {
            (
                Reverse(report.frames),
                report.source,
                Reverse(tree.depth(report.span)),
                report.at,
                report.id,
            )
        })
        .copied()
        .unwrap_or(inner)
    }

    fn sum_up(&self, tree: &Tree<'_>, ended: &HashSet<SpanId>) -> Failure {
        let standing = self.representative(tree);
        let entry = self.reports.iter().find_map(|report| tree.entry(report.span));
        let on_path = standing
            .span
            .into_iter()
            .flat_map(|span| tree.path(span))
            .map(|span| span.user);
        let by_rank = std::iter::once(&standing).chain(&self.reports);
        let mut reports: Vec<OccurrenceId> = self.reports.iter().map(|report| report.id).collect();
        reports.sort_unstable();
        Failure {
            occurrence: standing.id,
            reports,
            uncaught: self.is_uncaught(tree, entry, ended),
            severity: self
                .reports
                .iter()
                .map(|report| report.severity)
                .max()
                .unwrap_or_default(),
            user: by_rank
                .map(|report| report.user)
                .chain(on_path)
                .find(|user| *user != 0)
                .unwrap_or_default(),
            endpoint: entry.and_then(|entry| entry.endpoint),
        }
    }

    /// `ended` holds the requests in which an exception was recorded on a span.
    fn is_uncaught(&self, tree: &Tree<'_>, entry: Option<&SpanFacts>, ended: &HashSet<SpanId>) -> bool {
        if self.reports.iter().any(|report| report.says_uncaught) {
            return true;
        }
        let Some(entry) = entry.filter(|entry| entry.is_error) else {
            return false;
        };
        if self.has_event() {
            // Every span from the failing one up to the entry ended in error: nothing caught it on the way.
            return self
                .reports
                .iter()
                .filter(|report| report.source == Source::SpanEvent)
                .filter_map(|report| report.span)
                .any(|span| {
                    tree.path(span)
                        .take_while(|above| above.id != entry.id)
                        .all(|above| above.is_error)
                        && tree.is_on_path(entry.id, span)
                });
        }
        // Only log records tell of it: it ended the request if nothing else did.
        !ended.contains(&entry.id)
    }
}

/// The same exception: innermost frame and message agree; where one has no frames, the message alone.
fn is_same(a: &ReportFacts, b: &ReportFacts) -> bool {
    a.exception == b.exception || ((a.frames == 0 || b.frames == 0) && a.message == b.message)
}

/// Whether one holds the other: in its cause chain, or its message wraps the other's.
fn holds(outer: &ReportFacts, inner: &ReportFacts) -> bool {
    outer.holds.contains(&inner.exception) || outer.holds.contains(&inner.message)
}

/// Whether two reports of one span, written by the same place, are two cases: three retries are three, and a batch's
/// items are as many as were logged. A stack that is longer, or a report made as the span ended, shows the same
/// exception passing by once more.
fn is_another_case(known: &ReportFacts, report: &ReportFacts) -> bool {
    let is_one_span = known.span == report.span || (known.is_unsampled && report.is_unsampled);
    let is_one_place = is_one_span && known.source == report.source && known.place == report.place;
    is_one_place
        && known.frames == report.frames
        && is_same(known, report)
        && !(known.at_span_end || report.at_span_end)
}
