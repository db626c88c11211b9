//! Senders' clocks, and what is done about those that are ahead.

use std::collections::HashMap;

use crate::failure::limits::Limits;
use crate::{Digest, Timestamp};

/// A resource whose newest time lies further in the future than this is shifted, in milliseconds: a sender's clock may
/// be a minute off without anybody noticing.
const MAX_AHEAD_MS: i64 = 60_000;
/// How far apart the times of one resource in one request may lie to be shifted together, in
/// milliseconds. Exporters retry for minutes, so a resource whose times span more than a day holds
/// a stray time, not a wrong clock.
const MAX_SPREAD_MS: i64 = 86_400_000;

/// How far the clock of one instance is ahead, by what one request holds of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Clock {
    /// How far its times are moved back, in milliseconds; 0 for a clock that is right.
    pub(super) ahead_ms: i64,
    received: Timestamp,
}

impl Clock {
    /// The clock behind times between `oldest` and `newest`.
    fn of_times(oldest: Timestamp, newest: Timestamp, received: Timestamp) -> Self {
        let ahead_ms = newest.millis().saturating_sub(received.millis());
        let spread_ms = newest.millis().saturating_sub(oldest.millis());
        let is_shifted = ahead_ms > MAX_AHEAD_MS && spread_ms <= MAX_SPREAD_MS;
        Self {
            ahead_ms: if is_shifted { ahead_ms } else { 0 },
            received,
        }
    }

    /// A clock that is right.
    pub(super) const fn right(received: Timestamp) -> Self {
        Self { ahead_ms: 0, received }
    }

    /// The event time of a record: as sent, corrected, and never later than [`MAX_AHEAD_MS`] after
    /// the request came. A record without a time happened when it was received.
    pub(super) fn time(self, sent: Option<Timestamp>) -> Timestamp {
        let Some(sent) = sent else { return self.received };
        let at = sent.plus_millis(-self.ahead_ms);
        if at > self.received.plus_millis(MAX_AHEAD_MS) {
            self.received
        } else {
            at
        }
    }

    /// The event time of something inside a span: held to the span's own bounds.
    pub(super) fn within(self, sent: Option<Timestamp>, (start, end): (Timestamp, Timestamp)) -> Timestamp {
        sent.map_or(end, |sent| self.time(Some(sent)).clamp(start, end.max(start)))
    }
}

/// The clocks of one request, one per instance of a service: a wrong one never moves its neighbours' times.
pub(super) struct Clocks {
    ranges: HashMap<Digest, (Timestamp, Timestamp)>,
    received: Timestamp,
}

impl Clocks {
    pub(super) fn new(limits: Limits<'_>) -> Self {
        Self {
            ranges: HashMap::new(),
            received: limits.received,
        }
    }

    /// Takes the times that an instance sent.
    pub(super) fn see(&mut self, instance: Digest, times: impl Iterator<Item = Timestamp>) {
        for at in times {
            let range = self.ranges.entry(instance).or_insert((at, at));
            *range = (range.0.min(at), range.1.max(at));
        }
    }

    /// The clock of an instance.
    pub(super) fn of(&self, instance: Digest) -> Clock {
        let range = self.ranges.get(&instance);
        range.map_or(Clock::right(self.received), |(oldest, newest)| {
            Clock::of_times(*oldest, *newest, self.received)
        })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const RECEIVED: Timestamp = Timestamp::from_millis(1_795_000_000_000);

    fn at(seconds: i64) -> Timestamp {
        RECEIVED.plus_millis(seconds * 1_000)
    }

    #[rstest]
    #[case::right(at(-5), at(0), 0)]
    #[case::a_little_ahead(at(-5), at(59), 0)]
    #[case::an_hour_ahead(at(3_590), at(3_600), 3_600_000)]
    #[case::a_year_ahead(at(31_536_000), at(31_536_001), 31_536_001_000)]
    #[case::one_stray_time_among_right_ones(at(-5), at(31_536_000), 0)]
    fn a_clock_is_shifted_where_all_its_times_are_ahead(
        #[case] oldest: Timestamp,
        #[case] newest: Timestamp,
        #[case] ahead_ms: i64,
    ) {
        assert_eq!(Clock::of_times(oldest, newest, RECEIVED).ahead_ms, ahead_ms);
    }

    #[test]
    fn an_event_is_held_to_its_span() {
        let clock = Clock::right(RECEIVED);
        let span = (at(-10), at(-5));
        for (sent, expected) in [
            (Some(-7), -7),
            (Some(-99), -10),
            (Some(0), -5),
            (Some(86_400 * 40), -5),
            (None, -5),
        ] {
            assert_eq!(clock.within(sent.map(at), span), at(expected), "{sent:?}");
        }
    }

    proptest! {
        #[test]
        fn no_time_is_later_than_a_minute_after_reception(
            offsets in proptest::collection::vec(-1_000_000_000_i64..4_000_000_000, 1..6),
        ) {
            let times: Vec<Timestamp> = offsets.into_iter().map(at).collect();
            let (oldest, newest) = (*times.iter().min().unwrap(), *times.iter().max().unwrap());
            let clock = Clock::of_times(oldest, newest, RECEIVED);
            for time in &times {
                prop_assert!(clock.time(Some(*time)) <= at(60));
            }
        }

        #[test]
        fn a_shift_keeps_the_order_of_one_instances_times(first in 0_i64..80_000, second in 0_i64..80_000,
            ahead in 0_i64..4_000_000_000) {
            let (first, second) = (at(ahead + first), at(ahead + second));
            let clock = Clock::of_times(first.min(second), first.max(second), RECEIVED);
            let (a, b) = (clock.time(Some(first)), clock.time(Some(second)));
            prop_assert!(clock.ahead_ms == 0 || a.cmp(&b) == first.cmp(&second));
        }
    }
}
