//! Hours of the day in a time zone: when somebody may be told, and when not.

use chrono::{DateTime, Datelike, Days, NaiveDate, NaiveTime, TimeDelta, TimeZone, Timelike, Utc};
use serde::{Deserialize, Serialize};

use crate::Timestamp;

/// A time zone by its name in the IANA database, such as `Europe/Oslo`.
pub type Zone = chrono_tz::Tz;

/// Days looked ahead for the next time: a week, and a day for what the clocks skip.
const AHEAD: u64 = 8;

/// A spell of each of some days: from a minute on, up to another, which lies on the next day where it
/// is not later. The days are those on which it begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spell {
    /// Its first minute, 0 to 1,439.
    pub from: u16,
    /// The minute after its last, 0 to 1,439; the same as `from` is all day.
    pub to: u16,
    /// Whether it begins on a Monday, Tuesday and so on.
    pub days: [bool; 7],
}

impl Spell {
    /// The spell from one minute to another, each day.
    #[must_use]
    pub const fn daily(from: u16, to: u16) -> Self {
        Self {
            from,
            to,
            days: [true; 7],
        }
    }

    fn begins_on(self, day: NaiveDate) -> bool {
        self.days[day.weekday().num_days_from_monday() as usize]
    }

    /// Minutes it lasts by the clock.
    fn lasts(self) -> u16 {
        if self.to > self.from {
            self.to - self.from
        } else {
            1_440 - self.from + self.to
        }
    }
}

/// A spell in a time zone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hours {
    /// The spell.
    pub spell: Spell,
    /// Where its clock stands.
    pub zone: Zone,
}

impl Hours {
    /// Whether a time lies within, by the clock of the zone.
    #[must_use]
    pub fn contains(self, at: Timestamp) -> bool {
        let local = utc(at).with_timezone(&self.zone);
        let minute = local.num_seconds_from_midnight() / 60;
        let (from, lasts) = (u32::from(self.spell.from), u32::from(self.spell.lasts()));
        let day = local.date_naive();
        let is_within = |begun: Option<NaiveDate>, minute: u32| {
            begun.is_some_and(|begun| self.spell.begins_on(begun)) && minute >= from && minute < from + lasts
        };
        is_within(Some(day), minute) || is_within(day.checked_sub_days(Days::new(1)), minute + 1_440)
    }

    /// The first time at or after one that lies within; `None` where no day is chosen.
    #[must_use]
    pub fn next_within(self, at: Timestamp) -> Option<Timestamp> {
        self.next(at, self.spell.from, true)
    }

    /// The first time at or after one that lies outside; `None` where it is all hours of all days.
    #[must_use]
    pub fn next_outside(self, at: Timestamp) -> Option<Timestamp> {
        self.next(at, self.spell.to, false)
    }

    /// When its spells begin between two times, the earliest first; of a month at most.
    #[must_use]
    pub fn beginnings(self, from: Timestamp, to: Timestamp) -> Vec<Timestamp> {
        let first = utc(from).with_timezone(&self.zone).date_naive();
        (0..=31)
            .filter_map(|days| first.checked_add_days(Days::new(days)))
            .filter(|day| self.spell.begins_on(*day))
            .filter_map(|day| self.clock(day, self.spell.from))
            .filter(|time| *time >= from && *time < to)
            .collect()
    }

    /// Spells change between within and outside at one minute of the day alone, and where the clocks are set.
    fn next(self, at: Timestamp, minute: u16, within: bool) -> Option<Timestamp> {
        if self.contains(at) == within {
            return Some(at);
        }
        let today = utc(at).with_timezone(&self.zone).date_naive();
        (0..=AHEAD)
            .filter_map(|days| today.checked_add_days(Days::new(days)))
            .filter_map(|day| self.clock(day, minute))
            .find(|time| *time > at && self.contains(*time) == within)
    }

    /// When the zone's clock shows a minute of a day; the first time after, where the clocks skip it.
    fn clock(self, day: NaiveDate, minute: u16) -> Option<Timestamp> {
        clock(self.zone, day, minute)
    }
}

/// When a zone's clock shows a minute of a day: the earlier time, where it does so twice; the first
/// minute after, where the clocks skip it.
pub(super) fn clock(zone: Zone, day: NaiveDate, minute: u16) -> Option<Timestamp> {
    let wanted = day.and_time(NaiveTime::MIN) + TimeDelta::minutes(minute.into());
    // No zone ever skipped more than a day.
    (0..=1_440)
        .map(|more| wanted + TimeDelta::minutes(more))
        .find_map(|local| zone.from_local_datetime(&local).earliest())
        .map(|time| Timestamp::from_millis(time.timestamp_millis()))
}

fn utc(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_millis(at.millis()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn time(text: &str) -> Timestamp {
        Timestamp::from_millis(DateTime::parse_from_rfc3339(text).unwrap().timestamp_millis())
    }

    fn minutes(text: &str) -> u16 {
        let (hours, minutes) = text.split_once(':').unwrap();
        hours.parse::<u16>().unwrap() * 60 + minutes.parse::<u16>().unwrap()
    }

    fn hours(from: &str, to: &str, zone: &str) -> Hours {
        Hours {
            spell: Spell::daily(minutes(from), minutes(to)),
            zone: zone.parse().unwrap(),
        }
    }

    const WORKING: [bool; 7] = [true, true, true, true, true, false, false];

    #[rstest]
    #[case::before("22:00", "06:00", "Europe/Oslo", "2026-11-30T20:59:00Z", false)]
    #[case::at_its_start("22:00", "06:00", "Europe/Oslo", "2026-11-30T21:00:00Z", true)]
    #[case::after_midnight("22:00", "06:00", "Europe/Oslo", "2026-12-01T04:59:59Z", true)]
    #[case::at_its_end("22:00", "06:00", "Europe/Oslo", "2026-12-01T05:00:00Z", false)]
    #[case::in_summer("22:00", "06:00", "Europe/Oslo", "2026-07-01T20:00:00Z", true)]
    #[case::within_a_day("08:00", "17:30", "Asia/Kolkata", "2026-11-30T11:59:00Z", true)]
    #[case::within_a_day_after("08:00", "17:30", "Asia/Kolkata", "2026-11-30T12:00:00Z", false)]
    #[case::all_day("00:00", "00:00", "UTC", "2026-11-30T12:00:00Z", true)]
    fn a_time_lies_within(
        #[case] from: &str,
        #[case] to: &str,
        #[case] zone: &str,
        #[case] at: &str,
        #[case] expected: bool,
    ) {
        assert_eq!(hours(from, to, zone).contains(time(at)), expected);
    }

    #[rstest]
    #[case::at_night("22:00", "06:00", "Europe/Oslo", "2026-11-30T23:30:00Z", "2026-12-01T05:00:00Z")]
    #[case::outside_already("22:00", "06:00", "Europe/Oslo", "2026-11-30T12:00:00Z", "2026-11-30T12:00:00Z")]
    // The clocks are put forward at 01:00 UTC: the night is an hour shorter.
    #[case::forward("22:00", "06:00", "Europe/Oslo", "2026-03-28T23:00:00Z", "2026-03-29T04:00:00Z")]
    // And back: an hour longer.
    #[case::back("22:00", "06:00", "Europe/Oslo", "2026-10-24T23:00:00Z", "2026-10-25T05:00:00Z")]
    // 02:30 does not exist on that day: the first minute after is 03:00, 01:00 UTC.
    #[case::a_time_that_is_skipped("22:00", "02:30", "Europe/Oslo", "2026-03-28T23:00:00Z", "2026-03-29T01:00:00Z")]
    // 02:30 is twice on that day: the earlier.
    #[case::a_time_that_is_twice("22:00", "02:30", "Europe/Oslo", "2026-10-24T23:00:00Z", "2026-10-25T00:30:00Z")]
    #[case::half_an_hour_zone(
        "22:00",
        "06:00",
        "Australia/Adelaide",
        "2026-06-01T13:00:00Z",
        "2026-06-01T20:30:00Z"
    )]
    fn a_quiet_spell_ends_by_the_clock_of_its_zone(
        #[case] from: &str,
        #[case] to: &str,
        #[case] zone: &str,
        #[case] at: &str,
        #[case] ends: &str,
    ) {
        assert_eq!(hours(from, to, zone).next_outside(time(at)), Some(time(ends)));
    }

    #[rstest]
    #[case::in_the_morning("2026-11-30T03:00:00Z", "2026-11-30T07:00:00Z")]
    #[case::at_work("2026-11-30T12:00:00Z", "2026-11-30T12:00:00Z")]
    #[case::on_friday_evening("2026-12-04T18:00:00Z", "2026-12-07T07:00:00Z")]
    #[case::over_the_change_of_clocks("2026-03-27T20:00:00Z", "2026-03-30T06:00:00Z")]
    fn working_hours_begin_on_working_days(#[case] at: &str, #[case] begins: &str) {
        let working = Hours {
            spell: Spell {
                days: WORKING,
                ..Spell::daily(8 * 60, 17 * 60)
            },
            zone: "Europe/Oslo".parse().unwrap(),
        };
        assert_eq!(working.next_within(time(at)), Some(time(begins)));
    }

    #[test]
    fn hours_of_no_day_never_come_and_all_hours_never_end() {
        let never = Hours {
            spell: Spell {
                days: [false; 7],
                ..Spell::daily(0, 600)
            },
            zone: Zone::UTC,
        };
        assert_eq!(never.next_within(time("2026-11-30T00:00:00Z")), None);
        assert_eq!(
            hours("00:00", "00:00", "UTC").next_outside(time("2026-11-30T00:00:00Z")),
            None
        );
    }

    proptest! {
        #[test]
        fn the_next_time_is_not_earlier_and_lies_as_asked(
            from in 0u16..1_440, to in 0u16..1_440, days in proptest::array::uniform7(any::<bool>()),
            at in 1_700_000_000i64..1_900_000_000, zone in proptest::sample::select(&["UTC", "Europe/Oslo",
            "America/New_York", "Asia/Kathmandu", "Australia/Lord_Howe", "Pacific/Apia"][..]),
        ) {
            let hours = Hours { spell: Spell { from, to, days }, zone: zone.parse().unwrap() };
            let at = Timestamp::from_millis(at * 1_000);
            if let Some(next) = hours.next_within(at) {
                prop_assert!(next >= at && hours.contains(next));
            }
            if let Some(next) = hours.next_outside(at) {
                prop_assert!(next >= at && !hours.contains(next));
            }
            prop_assert_eq!(hours.next_within(at).is_none(), days == [false; 7]);
        }
    }
}
