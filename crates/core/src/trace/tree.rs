//! Chunks of a trace put together: one tree, clocks made to agree, what is missing shown as such.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use super::chunk::{Chunk, StoredEvent, StoredLink};
use crate::Timestamp;
use crate::telemetry::{Attributes, SpanId, SpanKind};

/// A span in its place in the trace.
#[derive(Clone, Debug, PartialEq)]
pub struct TraceSpan {
    /// Its id.
    pub id: SpanId,
    /// Its parent, also where that never came.
    pub parent: Option<SpanId>,
    /// The service's namespace; may be empty.
    pub namespace: Arc<str>,
    /// The service; of a span that never came, that of its first child.
    pub service: Arc<str>,
    /// The service's environment.
    pub environment: Arc<str>,
    /// The service's version.
    pub version: Arc<str>,
    /// The resource's attributes.
    pub resource: Arc<Attributes>,
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: SpanKind,
    /// When it began, by the clock of the trace's root.
    pub start: Timestamp,
    /// How long it took, in nanoseconds.
    pub duration_ns: i64,
    /// Whether it failed: by its status, or an exception that it tells of.
    pub is_error: bool,
    /// The status message; may be empty.
    pub status_message: String,
    /// The library that recorded it; may be empty.
    pub scope: String,
    /// Its attributes.
    pub attributes: Attributes,
    /// Its events, by the clock of the trace's root.
    pub events: Vec<StoredEvent>,
    /// Spans elsewhere that it names.
    pub links: Vec<StoredLink>,
    /// How many spans stand above it.
    pub depth: usize,
    /// Whether it never came: others name it as their parent.
    pub is_missing: bool,
    /// How far its times were moved so that it lies within the call that caused it, in nanoseconds.
    pub moved_ns: i64,
    /// Time in which none of its children ran, in nanoseconds.
    pub self_ns: i64,
}

impl TraceSpan {
    /// When it ended.
    #[must_use]
    pub const fn end(&self) -> i64 {
        self.start.0.saturating_add(self.duration_ns)
    }
}

/// A trace: spans in the order of the tree, each after its parent, children by their start.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Trace {
    /// The spans.
    pub spans: Vec<TraceSpan>,
    /// Children of each span, as places in `spans`.
    pub children: Vec<Vec<usize>>,
}

impl Trace {
    /// Puts chunks together, whatever their order and however often a span came: of two spans with one id, the one that
    /// ended later is taken.
    #[must_use]
    pub fn new(chunks: impl IntoIterator<Item = Chunk>) -> Self {
        let mut by_id: BTreeMap<SpanId, TraceSpan> = BTreeMap::new();
        for span in chunks.into_iter().flat_map(spans_of) {
            match by_id.get(&span.id) {
                Some(known) if order(known, &span).is_ge() => {}
                _ => drop(by_id.insert(span.id, span)),
            }
        }
        let missing = missing(&by_id);
        by_id.extend(missing.into_iter().map(|span| (span.id, span)));
        let mut below: HashMap<Option<SpanId>, Vec<SpanId>> = HashMap::new();
        for span in by_id.values() {
            below.entry(span.parent).or_default().push(span.id);
        }
        repair_clocks(&mut by_id, &below);
        let mut trace = Self::default();
        let mut seen: HashSet<SpanId> = HashSet::with_capacity(by_id.len());
        trace.grow(&by_id, &below, below.get(&None).cloned().unwrap_or_default(), &mut seen);
        // Spans that name each other as parents hang below nothing: each such ring is cut at its smallest id.
        let cut: Vec<SpanId> = by_id.keys().copied().collect();
        for id in cut {
            if !seen.contains(&id) {
                trace.grow(&by_id, &below, vec![id], &mut seen);
            }
        }
        trace.link();
        trace
    }

    fn grow(
        &mut self,
        by_id: &BTreeMap<SpanId, TraceSpan>,
        below: &HashMap<Option<SpanId>, Vec<SpanId>>,
        roots: Vec<SpanId>,
        seen: &mut HashSet<SpanId>,
    ) {
        let latest_first = |mut ids: Vec<SpanId>| {
            ids.sort_unstable_by_key(|id| (by_id[id].start, *id));
            ids.reverse();
            ids
        };
        let mut waiting: Vec<(SpanId, usize)> = latest_first(roots).into_iter().map(|id| (id, 0)).collect();
        while let Some((id, depth)) = waiting.pop() {
            if seen.insert(id) {
                self.spans.push(TraceSpan {
                    depth,
                    ..by_id[&id].clone()
                });
                let children = latest_first(below.get(&Some(id)).cloned().unwrap_or_default());
                waiting.extend(children.into_iter().map(|child| (child, depth + 1)));
            }
        }
    }

    fn link(&mut self) {
        let places: HashMap<SpanId, usize> = self.spans.iter().enumerate().map(|(at, span)| (span.id, at)).collect();
        self.children = vec![vec![]; self.spans.len()];
        for (at, span) in self.spans.iter().enumerate().filter(|(_, span)| span.depth > 0) {
            if let Some(parent) = span.parent.and_then(|parent| places.get(&parent)) {
                self.children[*parent].push(at);
            }
        }
        for at in 0..self.spans.len() {
            let (from, to) = (self.spans[at].start.0, self.spans[at].end());
            let mut busy: Vec<(i64, i64)> = self.children[at]
                .iter()
                .map(|child| {
                    (
                        self.spans[*child].start.0.clamp(from, to),
                        self.spans[*child].end().clamp(from, to),
                    )
                })
                .collect();
            busy.sort_unstable();
            let mut reached = from;
            let mut idle = 0;
            for (start, end) in busy {
                idle += (start - reached).max(0);
                reached = reached.max(end);
            }
            self.spans[at].self_ns = if self.spans[at].is_missing {
                0
            } else {
                idle + (to - reached).max(0)
            };
        }
    }

    /// When the first span began and the last one ended, in nanoseconds since 1970.
    #[must_use]
    pub fn bounds(&self) -> (i64, i64) {
        let from = self.spans.iter().map(|span| span.start.0).min().unwrap_or_default();
        (from, self.spans.iter().map(TraceSpan::end).max().unwrap_or(from))
    }

    /// The place of a span.
    #[must_use]
    pub fn place(&self, id: SpanId) -> Option<usize> {
        self.spans.iter().position(|span| span.id == id)
    }

    /// The place of the span above another.
    #[must_use]
    pub fn parent(&self, at: usize) -> Option<usize> {
        let span = self.spans.get(at).filter(|span| span.depth > 0)?;
        // A parent stands before its children.
        self.spans
            .get(..at)?
            .iter()
            .rposition(|above| Some(above.id) == span.parent)
    }

    /// The span that tells how long the request took: of the topmost ones, the one that lasted longest.
    #[must_use]
    pub fn root(&self) -> Option<usize> {
        let tops = self.spans.iter().enumerate().filter(|(_, span)| span.depth == 0);
        tops.max_by_key(|(at, span)| (span.duration_ns, std::cmp::Reverse(*at)))
            .map(|(at, _)| at)
    }

    /// The services that took part, in the order in which they were reached.
    #[must_use]
    pub fn services(&self) -> Vec<Arc<str>> {
        let mut services: Vec<Arc<str>> = vec![];
        for span in self.spans.iter().filter(|span| !span.is_missing) {
            if !services.contains(&span.service) {
                services.push(span.service.clone());
            }
        }
        services
    }
}

/// Of two spans with one id the greater is taken, whichever came first: the one that ended later, then the one that tells
/// more. Only equal spans are equal.
fn order(one: &TraceSpan, other: &TraceSpan) -> Ordering {
    let told = |span: &TraceSpan| (span.end(), span.attributes.0.len() + span.events.len(), span.is_error);
    let all = |span: &TraceSpan| format!("{span:?}");
    told(one).cmp(&told(other)).then_with(|| all(one).cmp(&all(other)))
}

fn spans_of(chunk: Chunk) -> impl Iterator<Item = TraceSpan> {
    let [namespace, service, environment, version]: [Arc<str>; 4] = [
        chunk.namespace.into(),
        chunk.service.into(),
        chunk.environment.into(),
        chunk.version.into(),
    ];
    let resource = Arc::new(chunk.resource);
    chunk.spans.into_iter().map(move |span| {
        let has_exception = span
            .events
            .iter()
            .any(|event| event.name == crate::telemetry::names::EXCEPTION_EVENT);
        TraceSpan {
            kind: span.kind(),
            id: span.id,
            parent: span.parent.filter(|parent| *parent != span.id),
            namespace: namespace.clone(),
            service: service.clone(),
            environment: environment.clone(),
            version: version.clone(),
            resource: resource.clone(),
            name: span.name,
            start: span.start,
            duration_ns: i64::try_from(span.duration_ns).unwrap_or(i64::MAX),
            is_error: span.is_error || has_exception && span.parent.is_none(),
            status_message: span.status_message,
            scope: span.scope,
            attributes: span.attributes,
            events: span.events,
            links: span.links,
            depth: 0,
            is_missing: false,
            moved_ns: 0,
            self_ns: 0,
        }
    })
}

/// Parents that others name and that never came, as long as all their children.
fn missing(by_id: &BTreeMap<SpanId, TraceSpan>) -> Vec<TraceSpan> {
    let mut missing: BTreeMap<SpanId, TraceSpan> = BTreeMap::new();
    for child in by_id.values() {
        let Some(parent) = child.parent.filter(|parent| !by_id.contains_key(parent)) else {
            continue;
        };
        let gap = missing.entry(parent).or_insert_with(|| TraceSpan {
            id: parent,
            parent: None,
            name: "(not received)".to_owned(),
            kind: SpanKind::Internal,
            is_error: false,
            status_message: String::new(),
            scope: String::new(),
            attributes: Attributes::default(),
            events: vec![],
            links: vec![],
            is_missing: true,
            ..child.clone()
        });
        let end = gap.end().max(child.end());
        if child.start < gap.start {
            (gap.start, gap.service) = (child.start, child.service.clone());
        }
        gap.duration_ns = end.saturating_sub(gap.start.0);
    }
    missing.into_values().collect()
}

/// Moves what another service did within a call so that it lies within that call, where its clock says otherwise. All
/// below it moves along. What comes later by nature (messages, links) stays.
fn repair_clocks(by_id: &mut BTreeMap<SpanId, TraceSpan>, below: &HashMap<Option<SpanId>, Vec<SpanId>>) {
    let mut waiting: Vec<(SpanId, i64)> = below.get(&None).into_iter().flatten().map(|id| (*id, 0)).collect();
    let mut seen = HashSet::new();
    while let Some((id, moved)) = waiting.pop() {
        if !seen.insert(id) {
            continue;
        }
        let Some(span) = by_id.get_mut(&id) else { continue };
        span.start.0 = span.start.0.saturating_add(moved);
        span.events
            .iter_mut()
            .for_each(|event| event.at.0 = event.at.0.saturating_add(moved));
        span.moved_ns = moved;
        let (from, to, service, kind) = (span.start.0, span.end(), span.service.clone(), span.kind);
        for child in below.get(&Some(id)).into_iter().flatten() {
            let Some(span) = by_id.get(child) else { continue };
            let (start, end) = (span.start.0.saturating_add(moved), span.end().saturating_add(moved));
            let is_call = kind == SpanKind::Client && span.kind == SpanKind::Server && span.service != service;
            let is_outside = start < from || end > to;
            // Half of what the call took longer than the work behind it, before it and after it (RFC 5905 reckons
            // the offset of two clocks the same way).
            let within = if is_call && is_outside && end - start <= to - from {
                from + ((to - from) - (end - start)) / 2 - start
            } else {
                0
            };
            waiting.push((*child, moved.saturating_add(within)));
        }
    }
}
