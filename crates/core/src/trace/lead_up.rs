//! What a request did just before it failed, over all services it had reached by then.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::critical::doing;
use super::tree::Trace;
use crate::Timestamp;
use crate::telemetry::SpanId;

/// A log line of the request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineSeen {
    /// When it was written, by its own service's clock.
    pub at: Timestamp,
    /// The service that wrote it.
    pub service: Arc<str>,
    /// The span it was written in, if any.
    pub span: Option<SpanId>,
    /// OTLP severity number; 0 where unknown.
    pub severity: i16,
    /// What it says.
    pub message: String,
}

/// What a step is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepKind {
    /// A span began that was still running when it failed.
    Began,
    /// A span ended.
    Done,
    /// An event of a span.
    Event,
    /// A log line.
    Line,
}

/// One thing that happened before the failure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// When, by the clock of the trace's root.
    pub at: Timestamp,
    /// The service.
    pub service: Arc<str>,
    /// What it is.
    pub kind: StepKind,
    /// In words.
    pub what: String,
    /// How long it took, in nanoseconds; of steps folded into one, all together. `None` where it
    /// took no time of its own.
    pub took_ns: Option<i64>,
    /// Whether it failed.
    pub failed: bool,
    /// OTLP severity number of a line; 0 else.
    pub severity: i16,
    /// The span, where there is one.
    pub span: Option<SpanId>,
    /// How many times in a row.
    pub times: usize,
}

/// Says what happened before a failure at `at`, reported on `span` where that is known: spans that
/// ended, spans that had begun and held the failure, their events, log lines; in the order of time,
/// equal steps in a row as one.
///
/// A line written in a span whose times were moved to make clocks agree is moved with it.
#[must_use]
pub fn what_led_to(trace: &Trace, span: Option<SpanId>, at: Timestamp, lines: &[LineSeen]) -> Vec<Step> {
    let places: HashMap<SpanId, usize> = trace
        .spans
        .iter()
        .enumerate()
        .map(|(place, span)| (span.id, place))
        .collect();
    let failing = span.and_then(|id| places.get(&id).copied());
    let at = failing.map_or(at, |place| Timestamp(at.0.saturating_add(trace.spans[place].moved_ns)));
    let around: HashSet<usize> = std::iter::successors(failing, |place| trace.parent(*place)).collect();
    let mut steps = of_spans(trace, &around, at);
    for line in lines {
        let moved = line
            .span
            .and_then(|id| places.get(&id))
            .map_or(0, |place| trace.spans[*place].moved_ns);
        let written = Timestamp(line.at.0.saturating_add(moved));
        if written <= at {
            steps.push(Step {
                at: written,
                service: line.service.clone(),
                kind: StepKind::Line,
                what: line.message.lines().next().unwrap_or_default().to_owned(),
                took_ns: None,
                failed: line.severity >= 17,
                severity: line.severity,
                span: line.span,
                times: 1,
            });
        }
    }
    in_order(steps)
}

/// Spans that ended before a time, spans `around` the failure that had begun, and their events.
fn of_spans(trace: &Trace, around: &HashSet<usize>, at: Timestamp) -> Vec<Step> {
    let mut steps: Vec<Step> = vec![];
    for (place, span) in trace
        .spans
        .iter()
        .enumerate()
        .filter(|(_, span)| !span.is_missing && span.start <= at)
    {
        let is_done = span.end() <= at.0 && !around.contains(&place);
        // What runs beside the failing chain tells nothing until it has ended.
        if is_done || around.contains(&place) {
            steps.push(Step {
                at: if is_done { Timestamp(span.end()) } else { span.start },
                service: span.service.clone(),
                kind: if is_done { StepKind::Done } else { StepKind::Began },
                what: if is_done { doing(span) } else { span.name.clone() },
                took_ns: is_done.then_some(span.duration_ns),
                failed: is_done && span.is_error,
                severity: 0,
                span: Some(span.id),
                times: 1,
            });
        }
        steps.extend(
            span.events
                .iter()
                .filter(|event| event.at <= at && event.name != "exception")
                .map(|event| Step {
                    at: event.at,
                    service: span.service.clone(),
                    kind: StepKind::Event,
                    what: event.name.clone(),
                    took_ns: None,
                    failed: false,
                    severity: 0,
                    span: Some(span.id),
                    times: 1,
                }),
        );
    }
    steps
}

/// Steps by their time, equal ones in a row as one.
fn in_order(mut steps: Vec<Step>) -> Vec<Step> {
    steps.sort_by_key(|step| step.at);
    steps.dedup_by(|next, kept| {
        let is_same = next.kind == kept.kind
            && next.what == kept.what
            && next.service == kept.service
            && next.failed == kept.failed;
        if is_same {
            kept.times += next.times;
            kept.took_ns = kept
                .took_ns
                .zip(next.took_ns)
                .map(|(one, other)| one.saturating_add(other));
            kept.span = next.span;
        }
        is_same
    });
    steps
}
