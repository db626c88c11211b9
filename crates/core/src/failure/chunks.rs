//! Spans as they are stored: gathered by trace and sender.

use std::collections::HashMap;
use std::sync::Arc;

use super::clock::Clock;
use super::find::tells_of_failure;
use super::found::{EntrySpan, FoundChunk};
use super::senders::Sender;
use super::state::SpanFacts;
use crate::telemetry::{Scope, Span, TraceId};
use crate::trace::{Chunk, StoredEvent, StoredLink, StoredSpan};

/// Spans of a request, gathered by trace and sender in the order in which these first came.
#[derive(Default)]
pub(super) struct Chunks {
    places: HashMap<(TraceId, *const Sender), usize>,
    chunks: Vec<(FoundChunk, Chunk)>,
}

impl Chunks {
    pub(super) fn add(
        &mut self,
        sender: &Arc<Sender>,
        scope: &Scope,
        span: &Span,
        facts: &SpanFacts,
        entry: Option<&EntrySpan>,
        clock: Clock,
    ) {
        let start = facts.start;
        let end = clock.time(span.end.or(span.start)).max(start);
        let place = *self.places.entry((span.trace_id, Arc::as_ptr(sender))).or_insert_with(|| {
            let identity = &sender.identity;
            let chunk = Chunk {
                namespace: identity.namespace.clone(),
                service: identity.service.clone(),
                environment: identity.environment.clone(),
                version: identity.version.clone(),
                resource: sender.resource.attributes.clone(),
                spans: vec![],
            };
            let found = FoundChunk {
                identity: identity.clone(),
                trace_id: span.trace_id,
                bounds: (start, end),
                has_failure: false,
                request: None,
                spans: 0,
                body: vec![],
            };
            self.chunks.push((found, chunk));
            self.chunks.len() - 1
        });
        let Some((found, chunk)) = self.chunks.get_mut(place) else { return };
        found.bounds = (found.bounds.0.min(start), found.bounds.1.max(end));
        found.has_failure |= facts.is_error || tells_of_failure(span);
        if let Some(entry) = entry.filter(|entry| found.request.as_ref().is_none_or(|(_, longest)| entry.duration_us > *longest)) {
            found.request = Some((entry.endpoint.clone(), entry.duration_us));
        }
        chunk.spans.push(StoredSpan {
            id: span.span_id,
            parent: span.parent_id,
            name: span.name.clone(),
            kind: i8::try_from(span.kind.to_otlp()).unwrap_or(1),
            start,
            duration_ns: u64::try_from(end.0 - start.0).unwrap_or_default(),
            is_error: facts.is_error,
            status_message: span.status_message.clone(),
            scope: scope.name.clone(),
            attributes: span.attributes.clone(),
            events: span
                .events
                .iter()
                .map(|event| StoredEvent {
                    name: event.name.clone(),
                    at: clock.time(event.time.or(span.start)),
                    attributes: event.attributes.clone(),
                })
                .collect(),
            links: span.links.iter().map(|(trace, span)| StoredLink { trace: trace.0, span: *span }).collect(),
        });
    }

    pub(super) fn finish(self) -> Vec<FoundChunk> {
        let encode = |(found, chunk): (FoundChunk, Chunk)| FoundChunk { spans: chunk.spans.len(), body: chunk.encode(), ..found };
        self.chunks.into_iter().map(encode).collect()
    }
}
