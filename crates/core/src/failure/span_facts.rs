//! What is known of a span.

use serde::{Deserialize, Serialize};

use crate::Timestamp;
use crate::telemetry::names::{EXCEPTION_EVENT, EXCEPTION_MESSAGE, EXCEPTION_STACKTRACE, EXCEPTION_TYPE};
use crate::telemetry::{Attributes, Span, SpanEvent, SpanId, SpanKind, Value, names};

/// What is remembered of a span.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SpanFacts {
    /// The span's id.
    pub id: SpanId,
    /// Its parent, perhaps in another service.
    pub parent: Option<SpanId>,
    /// Start, in event time.
    pub start: Timestamp,
    /// Whether its status is ERROR.
    pub is_error: bool,
    /// Whether it calls something else: of kind client or producer.
    pub is_call: bool,
    /// Hash of the user it names; 0 for none.
    pub user: u64,
    /// The number of its endpoint, where the service's work begins with it.
    pub endpoint: Option<u32>,
}

/// Whether a span reports a failure: by an exception, or by its status. An inner span that calls
/// nobody and has an HTTP status has the request's own answer: its entry span tells of it.
pub(super) fn tells_of_failure(span: &Span) -> bool {
    let is_answer = || span.kind == SpanKind::Internal && names::http_status(&span.attributes).is_some();
    span.events.iter().any(is_exception_event) || span.is_error && !is_answer()
}

pub(super) fn is_exception_event(event: &SpanEvent) -> bool {
    event.name == EXCEPTION_EVENT && carries_exception(&event.attributes)
}

pub(super) fn carries_exception(attributes: &Attributes) -> bool {
    attributes.0.iter().any(|(name, value)| {
        matches!(name.as_str(), EXCEPTION_TYPE | EXCEPTION_MESSAGE | EXCEPTION_STACKTRACE)
            && !matches!(value, Value::Empty)
    })
}
