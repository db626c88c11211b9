//! Chunks of spans, packed and unpacked within bounds.

use outcrop_core::trace::Chunk;

/// Compresses an encoded chunk or body. Level 1: the fastest that still finds repeated attributes.
/// Each thread keeps its compressor: to make one costs more than to compress a small chunk.
pub(crate) fn pack(body: &[u8]) -> std::io::Result<Vec<u8>> {
    thread_local! {
        static COMPRESSOR: std::cell::RefCell<Option<zstd::bulk::Compressor<'static>>> = const {
            std::cell::RefCell::new(None) };
    }
    COMPRESSOR.with_borrow_mut(|kept| {
        if kept.is_none() {
            *kept = Some(zstd::bulk::Compressor::new(1)?);
        }
        kept.as_mut()
            .map_or_else(|| zstd::bulk::compress(body, 1), |compressor| compressor.compress(body))
    })
}

/// Largest chunk read back, in bytes: above what one request may hold inflated.
const MAX_CHUNK_BYTES: usize = 128 << 20;

pub(super) fn unpack(body: &[u8]) -> Option<Chunk> {
    let bytes = zstd::bulk::decompress(
        body,
        zstd::zstd_safe::get_frame_content_size(body)
            .ok()??
            .try_into()
            .ok()
            .filter(|size| *size <= MAX_CHUNK_BYTES)?,
    )
    .ok()?;
    Chunk::decode(&bytes)
        .inspect_err(|error| tracing::warn!(%error, "stored spans are left out"))
        .ok()
}

/// About how many bytes a chunk takes in memory.
pub(super) fn weight(chunk: &Chunk) -> usize {
    let spans = chunk.spans.iter().map(|span| {
        let events: usize = span
            .events
            .iter()
            .map(|event| size_of_val(event) + event.name.len() + event.attributes.weight())
            .sum();
        size_of_val(span) + span.name.len() + span.attributes.weight() + events + size_of_val(span.links.as_slice())
    });
    chunk.resource.weight() + spans.sum::<usize>()
}

/// The name that a service has for those who may not read it.
pub const CLOSED_SERVICE: &str = "(closed)";

/// Leaves of the spans of a service that whoever reads may not read what their time and their place in the trace are.
pub(super) fn close(chunk: &mut Chunk) {
    without_details(chunk);
    for span in &mut chunk.spans {
        CLOSED_SERVICE.clone_into(&mut span.name);
        span.events.clear();
    }
    CLOSED_SERVICE.clone_into(&mut chunk.service);
    chunk.namespace.clear();
    chunk.version.clear();
}

/// Leaves a chunk's spans with what tells where a failure began: their place in the trace and their status.
pub(super) fn without_details(chunk: &mut Chunk) {
    chunk.resource.0.clear();
    for span in &mut chunk.spans {
        span.attributes.0.clear();
        span.events
            .retain(|event| event.name == outcrop_core::telemetry::names::EXCEPTION_EVENT);
        span.events.truncate(1);
        span.events.iter_mut().for_each(|event| event.attributes.0.clear());
        span.links.clear();
        span.status_message.clear();
    }
}
