//! What a request has in common over services, and what their spans have in common.

use opentelemetry_proto::tonic::trace::v1::Span;

/// What a request has in common over services.
#[derive(Clone)]
pub(super) struct Case {
    pub(super) trace: u128,
    pub(super) user: String,
    pub(super) time: u64,
    pub(super) millis: u64,
    /// Minutes before now.
    pub(super) ago: i64,
    /// Whether it asks for winter's fares.
    pub(super) is_winter: bool,
}

/// A span of a fleet that sends every request, and says so.
pub(super) fn whole() -> Span {
    Span {
        trace_state: "ot=th:0".to_owned(),
        ..Span::default()
    }
}
