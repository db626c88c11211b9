//! What a body carries, and what is read of it.

use outcrop_core::failure::Refused;
use outcrop_core::telemetry::{Attributes, ScopeRecords, Span, SpanId, SpanKind, TraceId};

/// How a body is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// `application/x-protobuf`
    Protobuf,
    /// `application/json`
    Json,
}

impl Encoding {
    /// Reads a `Content-Type`, ignoring case and parameters.
    #[must_use]
    pub fn of_content_type(content_type: &str) -> Option<Self> {
        let essence = content_type.split(';').next().unwrap_or_default().trim();
        if essence.eq_ignore_ascii_case("application/x-protobuf") {
            Some(Self::Protobuf)
        } else if essence.eq_ignore_ascii_case("application/json") {
            Some(Self::Json)
        } else {
            None
        }
    }

    /// The `Content-Type` of an answer.
    #[must_use]
    pub const fn content_type(self) -> &'static str {
        match self {
            Self::Protobuf => "application/x-protobuf",
            Self::Json => "application/json",
        }
    }
}

/// What a body carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Signal {
    /// `/v1/traces`
    Traces,
    /// `/v1/logs`
    Logs,
    /// `/v1/metrics`
    Metrics,
}

impl Signal {
    /// Its name in paths and messages.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Traces => "traces",
            Self::Logs => "logs",
            Self::Metrics => "metrics",
        }
    }
}

/// A body read into the model.
#[derive(Clone, Debug)]
pub struct Decoded<T> {
    /// The records by resource and scope.
    pub groups: Vec<ScopeRecords<T>>,
    /// Records that could not be used.
    pub refused: Refused,
}

impl<T> Default for Decoded<T> {
    fn default() -> Self {
        Self {
            groups: vec![],
            refused: Refused::default(),
        }
    }
}

/// A body that cannot be read at all.
#[derive(Debug, thiserror::Error)]
pub enum DecodeError {
    /// Not protobuf, or cut off.
    #[error("the body is no OTLP protobuf message: {0}")]
    Protobuf(String),
    /// Not JSON, or cut off.
    #[error("the body is no JSON: {0}")]
    Json(#[from] serde_json::Error),
    /// JSON of another shape.
    #[error("the body is no OTLP/JSON request: {0}")]
    Shape(String),
    /// What it holds takes more memory than there is for it.
    #[error("the body holds more than there is memory for; send smaller batches")]
    NoRoom,
}

/// Why a span without valid ids is left out.
pub(super) const INVALID_SPAN: &str = "span without a valid trace id and span id";

/// A span of which nothing is read yet.
pub(crate) fn empty_span() -> Span {
    Span {
        trace_id: TraceId([0; 16]),
        span_id: SpanId(0),
        parent_id: None,
        name: String::new(),
        kind: SpanKind::Internal,
        start: None,
        end: None,
        attributes: Attributes::default(),
        events: vec![],
        links: vec![],
        is_error: false,
        status_message: String::new(),
        flags: 0,
        one_in: None,
    }
}
