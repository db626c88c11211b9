//! Spans as they are stored: gathered by trace and sender.

use std::collections::HashMap;
use std::sync::Arc;

use super::found::FoundChunk;
use super::senders::Sender;
use crate::Timestamp;
use crate::failure::entry::EntrySpan;
use crate::failure::reports::SentBy;
use crate::failure::span_facts::{SpanFacts, tells_of_failure};
use crate::telemetry::{Attributes, Span, SpanEvent, TraceId};
use crate::trace::{Chunk, StoredEvent, StoredLink, StoredSpan};

/// Spans of a request, gathered by trace and sender in the order in which these first came.
#[derive(Default)]
pub(super) struct Chunks {
    places: HashMap<(TraceId, *const Sender), usize>,
    gathered: Vec<(FoundChunk, Chunk)>,
    resource_bytes: usize,
}

/// Bytes that resources may take in the chunks of one request: each chunk repeats its sender's, and
/// a sender may put each span into a trace of its own.
const MAX_RESOURCE_BYTES: usize = 32 << 20;

/// The resource as a chunk repeats it; past [`MAX_RESOURCE_BYTES`] without what only describes the process.
fn resource(sender: &Sender, bytes: &mut usize) -> Attributes {
    let attributes = &sender.resource.attributes;
    if *bytes <= MAX_RESOURCE_BYTES {
        *bytes += attributes.weight();
        return attributes.clone();
    }
    let names = ["service.instance.id", "host.name", "k8s.pod.name"];
    names
        .iter()
        .filter_map(|name| Some((*name, attributes.text(&[name])?)))
        .map(|(name, text)| (name, text.into()))
        .collect()
}

impl Chunks {
    /// Adds a span that was scrubbed and lies within `bounds`.
    pub(super) fn add(
        &mut self,
        from: SentBy<'_>,
        span: Span,
        facts: &SpanFacts,
        entry: Option<&EntrySpan>,
        bounds: (Timestamp, Timestamp),
    ) {
        let place = self.place(from.sender, span.trace_id, bounds);
        let Some((found, chunk)) = self.gathered.get_mut(place) else {
            return;
        };
        found.bounds = (found.bounds.0.min(bounds.0), found.bounds.1.max(bounds.1));
        found.has_failure |= facts.is_error || tells_of_failure(&span);
        let is_longest = |entry: &&EntrySpan| {
            found
                .request
                .as_ref()
                .is_none_or(|(_, longest)| entry.duration_us > *longest)
        };
        if let Some(entry) = entry.filter(is_longest) {
            found.request = Some((entry.endpoint.clone(), entry.duration_us));
        }
        chunk.spans.push(stored(span, from, facts.is_error, bounds));
    }

    /// Where the spans of a trace and sender are gathered.
    fn place(&mut self, sender: &Arc<Sender>, trace_id: TraceId, bounds: (Timestamp, Timestamp)) -> usize {
        let resource_bytes = &mut self.resource_bytes;
        let gathered = &mut self.gathered;
        *self.places.entry((trace_id, Arc::as_ptr(sender))).or_insert_with(|| {
            let identity = &sender.identity;
            let chunk = Chunk {
                namespace: identity.namespace.clone(),
                service: identity.service.clone(),
                environment: identity.environment.clone(),
                version: identity.version.clone(),
                resource: resource(sender, resource_bytes),
                spans: vec![],
            };
            let found = FoundChunk {
                identity: identity.clone(),
                trace_id,
                bounds,
                has_failure: false,
                request: None,
                spans: 0,
                body: vec![],
            };
            gathered.push((found, chunk));
            gathered.len() - 1
        })
    }

    pub(super) fn finish(self) -> Vec<FoundChunk> {
        let encode = |(found, chunk): (FoundChunk, Chunk)| FoundChunk {
            spans: chunk.spans.len(),
            body: chunk.encode(),
            ..found
        };
        self.gathered.into_iter().map(encode).collect()
    }
}

/// A span as it is stored, with its events held to its bounds.
fn stored(span: Span, from: SentBy<'_>, is_error: bool, bounds: (Timestamp, Timestamp)) -> StoredSpan {
    let (start, end) = bounds;
    let event = |event: SpanEvent| StoredEvent {
        at: from.clock.within(event.time.or(span.start), bounds),
        name: event.name,
        attributes: event.attributes,
    };
    StoredSpan {
        id: span.span_id,
        parent: span.parent_id,
        name: span.name,
        kind: i8::try_from(span.kind.to_otlp()).unwrap_or(1),
        start,
        duration_ns: u64::try_from(end.0 - start.0).unwrap_or_default(),
        is_error,
        status_message: span.status_message,
        scope: from.scope.name.clone(),
        attributes: span.attributes,
        events: span.events.into_iter().map(event).collect(),
        links: span
            .links
            .iter()
            .map(|(trace, span)| StoredLink {
                trace: trace.0,
                span: *span,
            })
            .collect(),
    }
}
