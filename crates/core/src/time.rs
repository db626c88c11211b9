//! Times in nanoseconds since the epoch.

use serde::{Deserialize, Serialize};

/// The days of the week from Monday on, as ISO 8601 counts them.
pub const WEEKDAYS: [&str; 7] = [
    "Monday",
    "Tuesday",
    "Wednesday",
    "Thursday",
    "Friday",
    "Saturday",
    "Sunday",
];

/// A point in time in nanoseconds since 1970-01-01T00:00:00Z, as OTLP counts it (until the year 2262).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Timestamp(pub i64);

impl Timestamp {
    /// Takes OTLP's unsigned nanoseconds; `None` for 0, which means "not set", and for times past 2262.
    #[must_use]
    pub fn from_otlp(nanos: u64) -> Option<Self> {
        i64::try_from(nanos).ok().filter(|n| *n > 0).map(Self)
    }

    /// Makes a time from milliseconds since 1970, held within what nanoseconds can express.
    #[must_use]
    pub const fn from_millis(millis: i64) -> Self {
        Self(millis.saturating_mul(1_000_000))
    }

    /// Milliseconds since 1970, rounded down.
    #[must_use]
    pub const fn millis(self) -> i64 {
        self.0.div_euclid(1_000_000)
    }

    /// Microseconds since 1970, rounded down.
    #[must_use]
    pub const fn micros(self) -> i64 {
        self.0.div_euclid(1_000)
    }

    /// Milliseconds until a time that is not earlier, to the microsecond: the same wherever the two lie.
    ///
    /// ```
    /// use outcrop_core::Timestamp;
    /// for start in [0, 499, 999] {
    ///     assert_eq!(Timestamp(start).millis_until(Timestamp(start + 62_084_501)), Some(62.085));
    /// }
    /// assert_eq!(Timestamp(7).millis_until(Timestamp(7)), Some(0.0));
    /// assert_eq!(Timestamp(7).millis_until(Timestamp(6)), None);
    /// ```
    #[must_use]
    #[expect(
        clippy::cast_precision_loss,
        reason = "microseconds of anything that is timed are far below 2^53"
    )]
    pub fn millis_until(self, end: Self) -> Option<f64> {
        let nanos = end.0.checked_sub(self.0).filter(|nanos| *nanos >= 0)?;
        Some((nanos.saturating_add(500) / 1_000) as f64 / 1_000.0)
    }

    /// The start of this time's minute.
    #[must_use]
    pub const fn minute(self) -> Self {
        self.floor(60)
    }

    /// The start of this time's hour.
    #[must_use]
    pub const fn hour(self) -> Self {
        self.floor(3_600)
    }

    /// The start of this time's day (UTC).
    #[must_use]
    pub const fn midnight(self) -> Self {
        self.floor(86_400)
    }

    /// Whole days since 1970-01-01 (UTC).
    #[must_use]
    pub const fn day(self) -> i64 {
        self.0.div_euclid(86_400 * 1_000_000_000)
    }

    /// This time moved by a number of milliseconds, which may be negative.
    #[must_use]
    pub const fn plus_millis(self, millis: i64) -> Self {
        Self(self.0.saturating_add(millis.saturating_mul(1_000_000)))
    }

    const fn floor(self, secs: i64) -> Self {
        let step = secs * 1_000_000_000;
        Self(self.0.div_euclid(step) * step)
    }
}
