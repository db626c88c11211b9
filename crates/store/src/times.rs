//! Times as the database's library has them, and as the core has them.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::Timestamp;

/// Returns a time as the database's library has it, to the microsecond; the epoch where it is out of range.
#[must_use]
pub fn to_utc(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.micros()).unwrap_or_default()
}

/// Returns a time as the core has it, in nanoseconds.
#[must_use]
pub fn from_utc(at: DateTime<Utc>) -> Timestamp {
    Timestamp(at.timestamp_micros().saturating_mul(1_000))
}

/// Returns the start of the hour that a time is in.
#[must_use]
pub fn hour(at: DateTime<Utc>) -> DateTime<Utc> {
    at.duration_trunc(TimeDelta::hours(1)).unwrap_or(at)
}

/// Returns the number of the day, in UTC, that a time is in: days since the epoch.
pub(crate) fn day_number(at: Timestamp) -> i32 {
    i32::try_from(at.day()).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_pass_both_ways_to_the_microsecond() {
        let at = Timestamp(1_794_129_249_123_456_789);
        assert_eq!(from_utc(to_utc(at)), Timestamp(1_794_129_249_123_456_000));
        assert_eq!(to_utc(at).to_rfc3339(), "2026-11-08T09:14:09.123456+00:00");
        assert_eq!(hour(to_utc(at)).to_rfc3339(), "2026-11-08T09:00:00+00:00");
    }

    #[test]
    fn days_are_counted_from_the_epoch() {
        const DAY: i64 = 86_400_000_000_000;
        assert_eq!([0, DAY - 1, DAY, -1].map(|at| day_number(Timestamp(at))), [0, 0, 1, -1]);
    }
}
