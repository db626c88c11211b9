//! Tables of spans that have just come, one for each quarter of an hour, and the marks of their chunks.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::Digest;
use outcrop_core::telemetry::TraceId;

/// How much time of reception one hot table holds.
pub(crate) const SLOT: TimeDelta = TimeDelta::minutes(15);

/// One trace in so many is kept without any other reason.
const SAMPLED_ONE_IN: u64 = 100;

/// Why a trace is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Marks {
    /// A span failed, or tells of an exception.
    pub failed: bool,
    /// A request took longer than its endpoint's threshold.
    pub slow: bool,
    /// It is of the even sample.
    pub sampled: bool,
}

impl Marks {
    /// As stored: a bit each.
    #[must_use]
    pub const fn bits(self) -> i16 {
        self.failed as i16 | (self.slow as i16) << 1 | (self.sampled as i16) << 2
    }

    /// Reads [`Self::bits`].
    #[must_use]
    pub const fn of_bits(bits: i16) -> Self {
        Self {
            failed: bits & 1 != 0,
            slow: bits & 2 != 0,
            sampled: bits & 4 != 0,
        }
    }

    /// Whether a trace is of the even sample: decided by its id, so that all services' parts agree.
    #[must_use]
    pub fn is_sampled(trace: TraceId) -> bool {
        Digest::of_bytes(&trace.0).short().is_multiple_of(SAMPLED_ONE_IN)
    }
}

/// The beginning of the hot table that holds what was received at a time.
pub(crate) fn slot(received: DateTime<Utc>) -> DateTime<Utc> {
    received.duration_trunc(SLOT).unwrap_or(received)
}

/// The name of a hot table: made from a time alone.
pub(crate) fn hot_name(begins: DateTime<Utc>) -> String {
    format!("hot_{}", begins.format("%Y%m%d%H%M"))
}
