//! The critical path: which span the request was waiting for, at every moment of it.

use std::collections::{BTreeMap, BTreeSet};

use super::in_words;
use super::tree::{Trace, TraceSpan};
use crate::telemetry::{SpanKind, names};

/// A part of the critical path, in the order of time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PathStep {
    /// The span, as a place in the trace.
    pub span: usize,
    /// When it begins, in nanoseconds since 1970.
    pub from: i64,
    /// When it ends.
    pub to: i64,
}

/// How far two calls after each other may overlap by the grain of clocks, in nanoseconds.
const GRAIN_NS: i64 = 1_000_000;

/// The chain of spans that decided how long a span took: from its end back in time, always the child that ended last
/// before what came after it began; where none ran, the span itself. The steps' durations add up to the span's own.
#[must_use]
pub fn critical_path(trace: &Trace, root: usize) -> Vec<PathStep> {
    struct Frame {
        span: usize,
        from: i64,
        to: i64,
        cursor: i64,
        children: Vec<usize>,
    }
    let frame = |span: usize, from: i64, to: i64| {
        let mut children: Vec<usize> = trace.children[span].clone();
        // The one that ended last stands last, to be taken first.
        children.sort_unstable_by_key(|child| (trace.spans[*child].end(), *child));
        Frame {
            span,
            from,
            to,
            cursor: to,
            children,
        }
    };
    let Some(span) = trace.spans.get(root) else {
        return vec![];
    };
    let mut steps = vec![];
    let mut frames = vec![frame(root, span.start.0, span.end())];
    while let Some(top) = frames.last_mut() {
        let Some(child) = top.children.pop() else {
            if top.cursor > top.from {
                steps.push(PathStep {
                    span: top.span,
                    from: top.from,
                    to: top.cursor,
                });
            }
            frames.pop();
            continue;
        };
        let span = &trace.spans[child];
        let overlap = span.end() - top.cursor;
        let is_beside = overlap > 0 && top.cursor != top.to && overlap > GRAIN_NS.min(span.duration_ns / 2);
        let (start, end) = (span.start.0.max(top.from), span.end().min(top.cursor));
        if is_beside || start >= end {
            continue;
        }
        if end < top.cursor {
            steps.push(PathStep {
                span: top.span,
                from: end,
                to: top.cursor,
            });
        }
        top.cursor = start;
        frames.push(frame(child, start, end));
    }
    steps.reverse();
    steps
}

/// What a request was mostly waiting for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Share {
    /// The service that did it.
    pub service: String,
    /// What it did, in words, values left out.
    pub what: String,
    /// How much of the critical path it took, in nanoseconds.
    pub nanos: i64,
    /// How many spans did it.
    pub times: usize,
}

/// Sums up the critical path by service and what was done, and tells the largest part.
#[must_use]
pub fn main_share(trace: &Trace, path: &[PathStep]) -> Option<Share> {
    let mut shares: BTreeMap<(String, String), (i64, BTreeSet<usize>)> = BTreeMap::new();
    for step in path {
        let span = &trace.spans[step.span];
        let share = shares.entry((span.service.to_string(), doing(span))).or_default();
        share.0 += step.to - step.from;
        share.1.insert(step.span);
    }
    let ((service, what), (nanos, spans)) = shares.into_iter().max_by_key(|(_, (nanos, _))| *nanos)?;
    Some(Share {
        service,
        what,
        nanos,
        times: spans.len(),
    })
}

impl Share {
    /// In words: `stowage’s query …, run 48 times`.
    #[must_use]
    pub fn in_words(&self) -> String {
        let times = if self.times > 1 {
            format!(", run {} times", self.times)
        } else {
            String::new()
        };
        let whose = if self.service.ends_with('s') { "’" } else { "’s" };
        format!("{}{whose} {}{times}", self.service, self.what)
    }
}

/// Says in one sentence what the request was mostly waiting for.
#[must_use]
pub fn sentence(trace: &Trace, root: usize, path: &[PathStep]) -> String {
    let total = trace.spans.get(root).map_or(0, |span| span.duration_ns);
    match main_share(trace, path) {
        Some(share) => format!(
            "{} of {} is {}.",
            in_words(share.nanos),
            in_words(total),
            share.in_words()
        ),
        None => "No time passed.".to_owned(),
    }
}

/// What a span does, in words.
pub(super) fn doing(span: &TraceSpan) -> String {
    let attributes = &span.attributes;
    if span.is_missing {
        return "part of the work that was not received".to_owned();
    }
    if let Some(statement) = statement(span) {
        return format!("query `{}`", crate::text::prefix(&statement, 80));
    }
    match span.kind {
        SpanKind::Client if attributes.text(&["http.request.method", "http.method"]).is_some() => {
            let to = attributes
                .text(&["server.address", "net.peer.name", "peer.service"])
                .unwrap_or("elsewhere");
            format!("call to {to} ({})", span.name)
        }
        SpanKind::Client => format!("call {}", span.name),
        SpanKind::Producer => format!("message {}", span.name),
        SpanKind::Consumer => format!("work on {}", span.name),
        SpanKind::Server | SpanKind::Internal => format!("own work in {}", span.name),
    }
}

/// The database statement of a span, its values left out.
pub(super) fn statement(span: &TraceSpan) -> Option<String> {
    names::statement(&span.attributes)
}
