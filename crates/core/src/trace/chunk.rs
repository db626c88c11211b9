//! How spans are stored: all that one request brought of one trace and one sender, in one piece.

use serde::{Deserialize, Serialize};

use crate::Timestamp;
use crate::telemetry::{Attributes, SpanId, SpanKind, TraceId};

/// Spans of one trace by one sender.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Chunk {
    /// The service's namespace; may be empty.
    pub namespace: String,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// The resource's attributes, scrubbed.
    pub resource: Attributes,
    /// The spans, in the sender's order.
    pub spans: Vec<StoredSpan>,
}

/// A span as it is stored, scrubbed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StoredSpan {
    /// Its id.
    pub id: SpanId,
    /// Its parent, perhaps in another service.
    pub parent: Option<SpanId>,
    /// Its name.
    pub name: String,
    /// Its kind as OTLP numbers it.
    pub kind: i8,
    /// When it began, in event time.
    pub start: Timestamp,
    /// How long it took, in nanoseconds.
    pub duration_ns: u64,
    /// Whether its status is ERROR, or an HTTP server's status says so.
    pub is_error: bool,
    /// The status message; may be empty.
    pub status_message: String,
    /// The name of the library that recorded it; may be empty.
    pub scope: String,
    /// Its attributes.
    pub attributes: Attributes,
    /// Its events.
    pub events: Vec<StoredEvent>,
    /// Spans elsewhere that it names.
    pub links: Vec<StoredLink>,
}

/// An event of a stored span.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StoredEvent {
    /// Its name.
    pub name: String,
    /// When it happened.
    pub at: Timestamp,
    /// Its attributes.
    pub attributes: Attributes,
}

/// A link to a span of this or another trace.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredLink {
    /// The trace.
    pub trace: [u8; 16],
    /// The span.
    pub span: SpanId,
}

impl StoredLink {
    /// The trace it leads to.
    #[must_use]
    pub const fn trace_id(&self) -> TraceId {
        TraceId(self.trace)
    }
}

impl StoredSpan {
    /// Its kind.
    #[must_use]
    pub fn kind(&self) -> SpanKind {
        SpanKind::from_otlp(self.kind.into())
    }
}

/// First byte of a stored chunk: which form follows.
const FORM: u8 = 1;

/// Stored bytes are no chunk: another release's form, or damage.
#[derive(Debug, thiserror::Error)]
#[error("stored spans cannot be read: {0}")]
pub struct BrokenChunk(String);

impl Chunk {
    /// Writes it down; a store compresses the bytes.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        postcard::to_extend(self, vec![FORM]).unwrap_or_default()
    }

    /// Reads what [`Chunk::encode`] wrote.
    ///
    /// # Errors
    /// [`BrokenChunk`] when the bytes are of another form.
    pub fn decode(bytes: &[u8]) -> Result<Self, BrokenChunk> {
        match bytes.split_first() {
            Some((&FORM, rest)) => postcard::from_bytes(rest).map_err(|error| BrokenChunk(error.to_string())),
            Some((form, _)) => Err(BrokenChunk(format!("form {form} is not known here"))),
            None => Err(BrokenChunk("nothing is there".to_owned())),
        }
    }
}
