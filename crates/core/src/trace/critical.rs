//! The critical path: which span the request was waiting for, at every moment of it.

use std::collections::BTreeMap;

use super::in_words;
use super::tree::{Trace, TraceSpan};
use crate::grouping::template;
use crate::telemetry::SpanKind;

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
        Frame { span, from, to, cursor: to, children }
    };
    let Some(span) = trace.spans.get(root) else { return vec![] };
    let mut steps = vec![];
    let mut frames = vec![frame(root, span.start.0, span.end())];
    while let Some(top) = frames.last_mut() {
        let Some(child) = top.children.pop() else {
            if top.cursor > top.from {
                steps.push(PathStep { span: top.span, from: top.from, to: top.cursor });
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
            steps.push(PathStep { span: top.span, from: end, to: top.cursor });
        }
        top.cursor = start;
        frames.push(frame(child, start, end));
    }
    steps.reverse();
    steps
}

/// Says in one sentence what the request was mostly waiting for.
#[must_use]
pub fn sentence(trace: &Trace, root: usize, path: &[PathStep]) -> String {
    let mut shares: BTreeMap<(String, String), (i64, Vec<usize>)> = BTreeMap::new();
    for step in path {
        let span = &trace.spans[step.span];
        let share = shares.entry((span.service.to_string(), doing(span))).or_default();
        share.0 += step.to - step.from;
        if share.1.last() != Some(&step.span) {
            share.1.push(step.span);
        }
    }
    let total = trace.spans.get(root).map_or(0, |span| span.duration_ns);
    let Some(((service, what), (nanos, spans))) = shares.into_iter().max_by_key(|(_, (nanos, _))| *nanos) else {
        return "No time passed.".to_owned();
    };
    let mut spans = spans;
    spans.sort_unstable();
    spans.dedup();
    let times = if spans.len() > 1 { format!(", run {} times", spans.len()) } else { String::new() };
    let whose = if service.ends_with('s') { format!("{service}\u{2019}") } else { format!("{service}\u{2019}s") };
    format!("{} of {} is {whose} {what}{times}.", in_words(nanos), in_words(total))
}

/// What a span does, in words.
fn doing(span: &TraceSpan) -> String {
    let attributes = &span.attributes;
    if span.is_missing {
        return "part of the work that was not received".to_owned();
    }
    if let Some(statement) = statement(span) {
        return format!("query `{}`", crate::text::prefix(&statement, 80));
    }
    match span.kind {
        SpanKind::Client if attributes.text(&["http.request.method", "http.method"]).is_some() => {
            let to = attributes.text(&["server.address", "net.peer.name", "peer.service"]).unwrap_or("elsewhere");
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
    let text = span.attributes.text(&["db.query.summary", "db.query.text", "db.statement"])?;
    (!text.is_empty()).then(|| template(text))
}
