//! The clock, read at the edges only.

use outcrop_core::Timestamp;

/// The clock, read at the edges only: everything further in takes the time as an argument.
pub(crate) fn now() -> Timestamp {
    Timestamp(chrono::Utc::now().timestamp_nanos_opt().unwrap_or_default())
}

/// Nanoseconds as milliseconds, as the API gives durations.
#[expect(clippy::cast_precision_loss, reason = "milliseconds of a request")]
pub(crate) fn millis(nanos: i64) -> f64 {
    nanos as f64 / 1e6
}
