//! OTLP's encodings: request bodies into the model of `outcrop-core`, and the answers OTLP prescribes.
//!
//! [`decode_traces`] and [`decode_logs`] take protobuf and JSON alike. One unusable record never fails its neighbours:
//! it is left out and counted in [`Decoded::refused`]. Both encodings are read in one pass straight
//! into the model, within the limits of `bounds.rs` and the memory that a [`Room`] grants.

#![warn(missing_docs)]

mod answer;
mod bounds;
mod decoded;
mod json;
mod metrics;
mod protobuf;
mod render;
mod wire;

use decoded::INVALID_SPAN;

pub use decoded::{DecodeError, Decoded, Encoding, Signal};

pub(crate) use decoded::empty_span;

use outcrop_core::telemetry::{LogRecord, Reading, Span};

pub use answer::{StatusCode, export_answer, retry_details, status_body};
pub use bounds::{MAX_RECORDS, MAX_RESOURCES, Room};
pub use render::sent_as_json;

/// Reads the body of a trace export request.
///
/// # Errors
/// [`DecodeError`] when nothing of it can be used.
pub fn decode_traces(body: &[u8], encoding: Encoding, room: &mut Room<'_>) -> Result<Decoded<Span>, DecodeError> {
    match encoding {
        Encoding::Protobuf => protobuf::traces(body, room),
        Encoding::Json => json::traces(body, room),
    }
}

/// Reads the body of a log export request.
///
/// # Errors
/// [`DecodeError`] when nothing of it can be used.
pub fn decode_logs(body: &[u8], encoding: Encoding, room: &mut Room<'_>) -> Result<Decoded<LogRecord>, DecodeError> {
    match encoding {
        Encoding::Protobuf => protobuf::logs(body, room),
        Encoding::Json => json::logs(body, room),
    }
}

/// Reads the points of a metric export request: of a distribution its sum and count.
///
/// # Errors
/// [`DecodeError`] when it is none.
pub fn decode_metrics(body: &[u8], encoding: Encoding, room: &mut Room<'_>) -> Result<Decoded<Reading>, DecodeError> {
    match encoding {
        Encoding::Protobuf => metrics::metrics(body, room),
        Encoding::Json => json::metrics(body, room),
    }
}
