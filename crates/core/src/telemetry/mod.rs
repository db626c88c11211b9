//! The normalised model of what senders say: OTLP's shapes without its encodings.

pub mod facts;
pub mod frame_data;
pub(super) mod groups;
pub mod names;
pub mod request;
pub mod sampling;
pub mod tidy;
mod value;

use std::sync::Arc;

pub use groups::{InstanceGroups, NO_GROUPS};
pub use value::{Attributes, Value};

use crate::Timestamp;

/// Who sent it: the resource of OpenTelemetry.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Resource {
    /// Resource attributes in the sender's order.
    pub attributes: Attributes,
}

/// The instrumentation scope or logger a record came through.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Scope {
    /// The library's or logger's name; may be empty.
    pub name: String,
    /// Its version; may be empty.
    pub version: String,
    /// Scope attributes.
    pub attributes: Attributes,
}

/// Records of one resource and scope.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ScopeRecords<T> {
    /// Shared by the groups of one resource.
    pub resource: Arc<Resource>,
    /// The scope of these records.
    pub scope: Arc<Scope>,
    /// The records in the sender's order.
    pub records: Vec<T>,
}

/// A W3C trace id: 16 bytes, not all zero.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TraceId(pub [u8; 16]);

/// A W3C span id: 8 bytes as a big-endian number, not zero.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub struct SpanId(pub u64);

impl TraceId {
    /// Takes 16 bytes that are not all zero.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        <[u8; 16]>::try_from(bytes).ok().filter(|id| *id != [0; 16]).map(Self)
    }
}

impl SpanId {
    /// Takes 8 bytes that are not all zero.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        <[u8; 8]>::try_from(bytes)
            .ok()
            .map(u64::from_be_bytes)
            .filter(|id| *id != 0)
            .map(Self)
    }
}

/// A span's kind, as OTLP numbers it; unknown numbers count as internal.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SpanKind {
    /// Work inside the service.
    #[default]
    Internal,
    /// A request served.
    Server,
    /// A call made.
    Client,
    /// A message sent.
    Producer,
    /// A message processed.
    Consumer,
}

impl SpanKind {
    /// Reads OTLP's number.
    #[must_use]
    pub const fn from_otlp(number: i64) -> Self {
        match number {
            2 => Self::Server,
            3 => Self::Client,
            4 => Self::Producer,
            5 => Self::Consumer,
            _ => Self::Internal,
        }
    }

    /// OTLP's number.
    #[must_use]
    pub const fn to_otlp(self) -> i64 {
        match self {
            Self::Internal => 1,
            Self::Server => 2,
            Self::Client => 3,
            Self::Producer => 4,
            Self::Consumer => 5,
        }
    }
}

/// One span.
#[derive(Clone, Debug, PartialEq)]
pub struct Span {
    /// Its trace.
    pub trace_id: TraceId,
    /// Its own id.
    pub span_id: SpanId,
    /// Its parent, perhaps in another service; `None` for a root.
    pub parent_id: Option<SpanId>,
    /// The span's name.
    pub name: String,
    /// Its kind.
    pub kind: SpanKind,
    /// Start, as sent; `None` where the sender left it at 0.
    pub start: Option<Timestamp>,
    /// End, as sent; `None` where the sender left it at 0.
    pub end: Option<Timestamp>,
    /// Attributes in the sender's order.
    pub attributes: Attributes,
    /// Events in the sender's order.
    pub events: Vec<SpanEvent>,
    /// Links to other spans, with their traces.
    pub links: Vec<(TraceId, SpanId)>,
    /// Whether the status is ERROR.
    pub is_error: bool,
    /// The status message; may be empty.
    pub status_message: String,
    /// Trace flags as sent.
    pub flags: u32,
    /// How many spans it stands for, 1 or more, where its trace state has a sampling threshold.
    pub one_in: Option<f64>,
}

/// One event of a span.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SpanEvent {
    /// The event's name; exceptions are named `exception`.
    pub name: String,
    /// When it happened, as sent.
    pub time: Option<Timestamp>,
    /// Attributes in the sender's order.
    pub attributes: Attributes,
}

/// One point of a metric.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reading {
    /// The metric's name.
    pub name: String,
    /// Its unit, as sent.
    pub unit: String,
    /// What its numbers are.
    pub kind: crate::metric::Kind,
    /// What tells its series from others of the metric.
    pub attributes: Attributes,
    /// The value, in the metric's own unit; of a distribution the sum of its measurements.
    pub value: f64,
    /// Of a distribution the number of measurements, else 0.
    pub count: u64,
    /// Of a distribution its buckets, where they were sent and can be read.
    pub buckets: Option<crate::metric::Buckets>,
    /// From when on it counts, as sent.
    pub start: Option<Timestamp>,
    /// When it was read, as sent.
    pub at: Option<Timestamp>,
}

/// One log record.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LogRecord {
    /// When it happened, as sent.
    pub time: Option<Timestamp>,
    /// When the collection system saw it, as sent.
    pub observed: Option<Timestamp>,
    /// OTLP severity number, 1 (TRACE) to 24 (FATAL4); 0 where unset.
    pub severity: i32,
    /// The sender's own word for the severity.
    pub severity_text: String,
    /// The body, if any.
    pub body: Value,
    /// Attributes in the sender's order.
    pub attributes: Attributes,
    /// The trace it belongs to, if any.
    pub trace_id: Option<TraceId>,
    /// The span it belongs to, if any.
    pub span_id: Option<SpanId>,
    /// Trace flags as sent; bit 0 says that the trace is sampled.
    pub flags: u32,
    /// The event's name, if it is an event.
    pub event_name: String,
}
