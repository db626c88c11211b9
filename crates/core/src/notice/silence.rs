//! Silence: whether something that usually reports should have, by its own course.

use std::collections::{BTreeMap, BTreeSet};

use statrs::distribution::{ChiSquared, ContinuousCDF};

use crate::Timestamp;

/// How unlikely it must be that a sender that is well says nothing for so long. Each sender is looked
/// at every minute; looks at one silence are no independent chances, so one in a million.
pub const UNLIKELY: f64 = 1e-6;
/// The shortest silence that is told, in minutes: exporters and networks hold telemetry up for some.
pub const LEAST_MINUTES: i64 = 5;
/// Days of the past that must be known before silence means anything.
const LEAST_DAYS: usize = 3;
const HOUR_MS: i64 = 3_600_000;
const DAY_HOURS: i64 = 24;

/// What speaks for a silence.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Silence {
    /// Reports that the past lets expect in that time.
    pub expected: f64,
    /// The chance that none comes where nothing is wrong, by the past.
    pub chance: f64,
}

/// Whether it is unlikely that nothing came from a time on until now, by how many came in each hour of
/// the past (hours since 1970; those without any may be left out).
///
/// The rate of an hour of the day is the mean of that hour over the past days, or over the same days of
/// the week where those are known and say less. Counts scatter more than by chance: the rate of the whole
/// silence is taken as gamma distributed with the dispersion of the past, so that none comes with the
/// chance of the negative binomial, `(1 + expected / r)^-r`.
///
/// # Example
/// ```
/// use outcrop_core::Timestamp;
/// use outcrop_core::notice::silence_since;
/// let hour = |n: i64| Timestamp::from_millis(n * 3_600_000);
/// let steady: Vec<(i64, u64)> = (0..240).map(|hour| (hour, 600)).collect();
/// assert!(silence_since(&steady, hour(240), Timestamp::from_millis(240 * 3_600_000 + 600_000)).is_some());
/// let seldom: Vec<(i64, u64)> = (0..240).map(|hour| (hour, 2)).collect();
/// assert!(silence_since(&seldom, hour(240), Timestamp::from_millis(240 * 3_600_000 + 600_000)).is_none());
/// ```
#[must_use]
pub fn silence_since(past: &[(i64, u64)], since: Timestamp, now: Timestamp) -> Option<Silence> {
    let (from, to) = (since.millis(), now.millis());
    let first = past.iter().map(|(hour, _)| *hour).min()?;
    let last = from.div_euclid(HOUR_MS) - 1;
    let days = usize::try_from((last - first + 1) / DAY_HOURS).unwrap_or_default();
    if to - from < LEAST_MINUTES * 60_000 || days < LEAST_DAYS {
        return None;
    }
    let counts: BTreeMap<i64, u64> = past.iter().copied().filter(|(hour, _)| *hour <= last).collect();
    let of_hour = Past {
        counts: &counts,
        first,
        last,
    };
    let mut expected = 0.0;
    let mut hour = from.div_euclid(HOUR_MS);
    while hour * HOUR_MS < to {
        #[expect(clippy::cast_precision_loss, reason = "milliseconds of an hour")]
        let share = ((to.min((hour + 1) * HOUR_MS) - from.max(hour * HOUR_MS)) as f64) / HOUR_MS as f64;
        expected += share * of_hour.rate(hour);
        hour += 1;
    }
    let dispersion = of_hour.dispersion();
    let chance = (1.0 + expected / dispersion).powf(-dispersion);
    (chance < UNLIKELY).then_some(Silence { expected, chance })
}

/// What speaks for a run that is overdue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Overdue {
    /// It ran in each spell of so many hours; 24: on each day that it runs on.
    pub every_hours: i64,
    /// In how many of them: where days are like each other, one of so many more is the first without a run.
    pub of: usize,
}

/// Whole hours within which runs are looked for.
const RHYTHMS: [i64; 8] = [1, 2, 3, 4, 6, 8, 12, DAY_HOURS];
/// Spells of the past without which a rhythm is not known.
const LEAST_SPELLS: usize = 14;
/// How likely counts as even as those seen would be if runs came by chance: below it they come by a clock.
const BY_CHANCE: f64 = 1e-4;

/// Whether something that runs by a clock has not run though its time is over, by how often it ran in each hour of the
/// past, as [`silence_since`] takes them. For what reports too seldom to be missed by its rate: a job of the night.
///
/// It runs by a clock where each spell of the past (of an hour, of a few, of a day) has a run, and the runs of these
/// spells scatter less than chance does (the lower tail of the index of dispersion, R. A. Fisher, 1922, below
/// [`BY_CHANCE`]). Days may differ by the day of the week: a day of the week with a run in no week is left out, and one
/// with a run in some weeks only makes no rhythm. What is overdue has its twentieth and half an hour on top. Where days
/// are like each other, that the next spell has none is no likelier than 1 of the number of spells and one.
///
/// # Example
/// ```
/// use outcrop_core::Timestamp;
/// use outcrop_core::notice::overdue_since;
/// let nightly: Vec<(i64, u64)> = (0..20).map(|day| (day * 24 + 2, 1)).collect();
/// let at = |hour: i64| Timestamp::from_millis(hour * 3_600_000);
/// assert_eq!(overdue_since(&nightly, at(19 * 24 + 3), at(20 * 24 + 1)), None);
/// assert_eq!(overdue_since(&nightly, at(19 * 24 + 3), at(20 * 24 + 6)).map(|overdue| overdue.every_hours), Some(24));
/// ```
#[must_use]
pub fn overdue_since(past: &[(i64, u64)], since: Timestamp, now: Timestamp) -> Option<Overdue> {
    let first = past.iter().filter(|(_, n)| *n > 0).map(|(hour, _)| *hour).min()?;
    let counts: BTreeMap<i64, u64> = past.iter().copied().collect();
    RHYTHMS.into_iter().find_map(|every| {
        // Half an hour and a twentieth of the spell later than at the latest.
        let then = now.millis() - HOUR_MS / 2 - every * HOUR_MS / 20;
        let end = then.div_euclid(HOUR_MS);
        let overdue = (end * HOUR_MS - since.millis()).div_euclid(every * HOUR_MS);
        if overdue < 1 {
            return None;
        }
        let spells = spells(&counts, (first, end), every, overdue)?;
        is_by_clock(&spells).then_some(Overdue {
            every_hours: every,
            of: spells.len(),
        })
    })
}

/// How often it ran in each spell of so many hours, up to the one of its last run, the spells that are overdue (so many up
/// to `end`) left out; `None` where one has none, too few are known, or it runs on none of the days that are overdue.
#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn spells(counts: &BTreeMap<i64, u64>, (first, end): (i64, i64), every: i64, overdue: i64) -> Option<Vec<f64>> {
    let of = |ago: i64| {
        let until = end - ago * every;
        let runs = counts.range(until - every..until).map(|(_, n)| *n).sum::<u64>() as f64;
        (ago, runs)
    };
    let mut seen: Vec<(i64, f64)> = (overdue..(end - first) / every).map(of).collect();
    if every == DAY_HOURS {
        let on: BTreeSet<i64> = seen.iter().filter(|(_, n)| *n > 0.0).map(|(ago, _)| ago % 7).collect();
        if !(0..overdue).any(|ago| on.contains(&(ago % 7))) {
            return None;
        }
        seen.retain(|(ago, _)| on.contains(&(ago % 7)));
    }
    let seen: Vec<f64> = seen.into_iter().map(|(_, n)| n).collect();
    (seen.len() >= LEAST_SPELLS && seen.iter().all(|n| *n > 0.0)).then_some(seen)
}

/// Whether counts scatter less than those of a Poisson process of their mean.
fn is_by_clock(counts: &[f64]) -> bool {
    let Some(middle) = mean(counts).filter(|middle| *middle > 0.0) else {
        return false;
    };
    #[expect(clippy::cast_precision_loss, reason = "spells of weeks")]
    let freedom = counts.len() as f64 - 1.0;
    let index: f64 = counts.iter().map(|count| (count - middle).powi(2) / middle).sum();
    ChiSquared::new(freedom).is_ok_and(|by_chance| by_chance.cdf(index) < BY_CHANCE)
}

/// Counts of past hours: those between the first and the last that are not there are none.
struct Past<'p> {
    counts: &'p BTreeMap<i64, u64>,
    first: i64,
    last: i64,
}

impl Past<'_> {
    /// Counts of the same hour of the past, each so many hours apart.
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    fn same(&self, hour: i64, apart: i64) -> Vec<f64> {
        let back = (1..)
            .map(|times| hour - times * apart)
            .take_while(|each| *each >= self.first);
        back.filter(|each| *each <= self.last)
            .map(|each| self.counts.get(&each).copied().unwrap_or_default() as f64)
            .collect()
    }

    fn rate(&self, hour: i64) -> f64 {
        let by_day = mean(&self.same(hour, DAY_HOURS)).unwrap_or_default();
        let of_week = self.same(hour, 7 * DAY_HOURS);
        // One same day of the past says little; a day off within it says nothing of this one.
        let by_week = (of_week.len() > 1).then(|| mean(&of_week)).flatten();
        by_week.map_or(by_day, |by_week| by_week.min(by_day))
    }

    /// The size of the negative binomial: how much counts of the same hour scatter beyond chance over days,
    /// by moments; large where they do not.
    fn dispersion(&self) -> f64 {
        const MOST: f64 = 1e6;
        /// Beside what was seen, as much again as a tenth of the mean squared: a few days show little of it.
        const PRIOR: f64 = 0.1;
        let (mut squares, mut beyond) = (0.0, 0.0);
        for hour in self.last - DAY_HOURS + 1..=self.last {
            let mut counts = self.same(hour + DAY_HOURS, DAY_HOURS);
            counts.truncate(14);
            let Some(middle) = mean(&counts) else { continue };
            #[expect(clippy::cast_precision_loss, reason = "days of two weeks")]
            let variance =
                counts.iter().map(|count| (count - middle).powi(2)).sum::<f64>() / (counts.len() as f64 - 1.0).max(1.0);
            squares += middle * middle;
            beyond += (variance - middle).max(0.0) + PRIOR * middle * middle;
        }
        if beyond <= 0.0 {
            MOST
        } else {
            (squares / beyond).min(MOST)
        }
    }
}

fn mean(counts: &[f64]) -> Option<f64> {
    #[expect(clippy::cast_precision_loss, reason = "days of the past")]
    let number = counts.len() as f64;
    (!counts.is_empty()).then(|| counts.iter().sum::<f64>() / number)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    /// So many minutes after the first hour of the tenth day.
    fn at(minutes: i64) -> Timestamp {
        Timestamp::from_millis(10 * DAY_HOURS * HOUR_MS + minutes * 60_000)
    }

    fn past(count: impl Fn(i64) -> u64) -> Vec<(i64, u64)> {
        (0..10 * DAY_HOURS).map(|hour| (hour, count(hour))).collect()
    }

    #[rstest]
    #[case::busy(2_000, 6, true)]
    #[case::too_short(2_000, 4, false)]
    #[case::seldom(6, 60, false)]
    #[case::seldom_and_long(6, 23 * 60, true)]
    fn silence_is_told_where_much_should_have_come(#[case] an_hour: u64, #[case] minutes: i64, #[case] expected: bool) {
        assert_eq!(
            silence_since(&past(|_| an_hour), at(0), at(minutes)).is_some(),
            expected
        );
    }

    #[test]
    fn a_night_without_traffic_is_no_silence() {
        // From 22:00 to 06:00 nothing comes; the tenth day begins at midnight.
        let by_day = past(|hour| if (6..22).contains(&(hour % 24)) { 600 } else { 0 });
        assert_eq!(silence_since(&by_day, at(-120), at(6 * 60)), None);
        assert!(
            silence_since(&by_day, at(-120), at(6 * 60 + 45)).is_some(),
            "and then it should have begun"
        );
    }

    #[test]
    fn what_scatters_widely_must_be_silent_for_longer() {
        let wild = past(|hour| if hour % 48 < 24 { 900 } else { 300 });
        let calm = past(|_| 600);
        let first = |past: &[(i64, u64)]| {
            (5..3_000)
                .find(|minutes| silence_since(past, at(0), at(*minutes)).is_some())
                .unwrap()
        };
        assert!(first(&wild) > 4 * first(&calm), "{} {}", first(&wild), first(&calm));
    }

    #[test]
    fn a_weekend_that_is_always_still_is_no_silence() {
        // Two days of each week without anything, over five weeks; now is the first of these days again.
        let weeks: Vec<(i64, u64)> = (0..35 * DAY_HOURS)
            .map(|hour| (hour, if (hour / 24) % 7 < 5 { 600 } else { 0 }))
            .collect();
        let saturday = |minutes: i64| Timestamp::from_millis((33 * DAY_HOURS) * HOUR_MS + minutes * 60_000);
        let known: Vec<(i64, u64)> = weeks.into_iter().filter(|(hour, _)| *hour < 33 * DAY_HOURS).collect();
        assert_eq!(silence_since(&known, saturday(0), saturday(600)), None);
    }

    #[test]
    fn of_a_short_past_nothing_is_said() {
        let short: Vec<(i64, u64)> = (8 * DAY_HOURS..10 * DAY_HOURS).map(|hour| (hour, 5_000)).collect();
        assert_eq!(silence_since(&short, at(0), at(300)), None);
        assert_eq!(silence_since(&[], at(0), at(300)), None);
    }

    /// The stated error rate, by simulation: senders whose counts are negative binomial as the model has it,
    /// looked at each minute over a day, are told silent seldom.
    #[test]
    fn senders_that_are_well_are_seldom_told_silent() {
        let mut seed = 0x9e37_79b9_u64;
        let mut next = || {
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            #[expect(clippy::cast_precision_loss, reason = "a share of 2^53")]
            let share = (seed >> 11) as f64 / (1_u64 << 53) as f64;
            share.max(1e-12)
        };
        let mut told = 0;
        for sender in 0..400 {
            let rate = [2.0, 20.0, 120.0, 900.0][sender % 4];
            // A day's level scatters by a factor; within it requests come by chance.
            let level = |share: f64| 0.5 + share;
            let past: Vec<(i64, u64)> = (0..10 * DAY_HOURS)
                .map(|hour| {
                    let mean: f64 = rate * level(next());
                    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a count")]
                    let count = (mean + mean.sqrt() * (2.0 * next() - 1.0) * 1.7).max(0.0).round() as u64;
                    (hour, count)
                })
                .collect();
            // A day of requests, each a while after the one before.
            let (mut minute, mut last) = (0.0, 0.0);
            let a_minute = rate * level(next()) / 60.0;
            let mut was_told = false;
            while minute < 1_440.0 {
                minute += -next().ln() / a_minute;
                #[expect(clippy::cast_possible_truncation, reason = "minutes of a day")]
                let (from, to) = (at(last as i64), at(minute.min(1_440.0) as i64));
                was_told |= silence_since(&past, from, to).is_some();
                last = minute;
            }
            told += u32::from(was_told);
        }
        assert!(told <= 1, "{told} of 400 senders that were well in a day");
    }

    /// Runs of so many weeks by the hour, at the minutes and on the days of the week that are given; the first day is 0.
    fn runs(weeks: i64, on: impl Fn(i64) -> bool, minutes: &[i64]) -> Vec<i64> {
        let days = (0..weeks * 7).filter(|day| on(day % 7));
        days.flat_map(|day| minutes.iter().map(move |minute| day * 1_440 + minute))
            .collect()
    }

    /// When a run is first said to be overdue, in minutes after the last of these; `None` within so many hours.
    fn told_after(runs: &[i64], hours: i64) -> Option<i64> {
        (0..hours * 6)
            .map(|tens| tens * 10)
            .find(|minutes| is_overdue(runs, *minutes))
    }

    /// Whether a run is overdue so many minutes after the last of these.
    fn is_overdue(runs: &[i64], minutes: i64) -> bool {
        let mut by_hour = BTreeMap::new();
        for minute in runs {
            *by_hour.entry(minute.div_euclid(60)).or_default() += 1;
        }
        let past: Vec<(i64, u64)> = by_hour.into_iter().collect();
        let last = runs.iter().max().unwrap() + 1;
        let time = |minute: i64| Timestamp::from_millis(minute * 60_000);
        overdue_since(&past, time(last), time(last + minutes)).is_some()
    }

    #[rstest]
    #[case::nightly(runs(3, |_| true, &[150]), 28)]
    #[case::on_weekdays(runs(4, |day| day < 5, &[150]), 76)]
    #[case::every_six_hours(runs(2, |_| true, &[10, 370, 730, 1_090]), 9)]
    fn what_is_missed_stays_so_until_it_runs(#[case] runs: Vec<i64>, #[case] from_hours: i64) {
        let told: Vec<i64> = (from_hours..240)
            .filter(|hours| !is_overdue(&runs, hours * 60))
            .collect();
        assert_eq!(told, [] as [i64; 0], "hours at which it is not missed any more");
    }

    #[rstest]
    #[case::nightly(runs(3, |_| true, &[150]), Some((24, 27)))]
    #[case::on_weekdays_after_a_friday(runs(4, |day| day < 5, &[150]), Some((72, 75)))]
    #[case::every_six_hours(runs(2, |_| true, &[10, 370, 730, 1_090]), Some((6, 8)))]
    #[case::known_for_a_week(runs(1, |_| true, &[150]), None)]
    fn what_runs_by_a_clock_is_missed_once_its_time_is_over(
        #[case] runs: Vec<i64>,
        #[case] expected: Option<(i64, i64)>,
    ) {
        let told = told_after(&runs, 120);
        let fits = match (told, expected) {
            (Some(minutes), Some((from, to))) => (from * 60..to * 60).contains(&minutes),
            (told, expected) => told.is_none() && expected.is_none(),
        };
        assert!(fits, "{told:?}, not within {expected:?} hours");
    }

    #[test]
    fn what_people_do_now_and_then_is_no_clock() {
        // Four a day by chance on each of 35 days: often enough that no day is without, too uneven for a clock.
        let mut seed = 7_u64;
        let mut next = || {
            seed = seed
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            seed >> 33
        };
        let told = (0..100).filter(|_| {
            let counts = [1, 2, 3, 4, 4, 5, 5, 6, 7, 8];
            let runs: Vec<i64> = (0..35)
                .flat_map(|day| {
                    let count = counts[usize::try_from(next() % 10).unwrap()];
                    let minutes: Vec<i64> = (0..count).map(|_| i64::try_from(next() % 1_440).unwrap()).collect();
                    minutes.into_iter().map(move |minute| day * 1_440 + minute)
                })
                .collect();
            told_after(&runs, 40).is_some()
        });
        assert_eq!(told.count(), 0);
    }

    proptest! {
        #[test]
        fn the_longer_the_silence_the_less_likely(
            counts in proptest::collection::vec(0u64..500, 24 * 6), minutes in 5i64..600, more in 1i64..600,
        ) {
            let past: Vec<(i64, u64)> = (4 * DAY_HOURS..).zip(counts).collect();
            let chance = |minutes| silence_since(&past, at(0), at(minutes)).map(|silence| silence.chance);
            if let Some(short) = chance(minutes) {
                prop_assert!(chance(minutes + more).is_some_and(|long| long <= short));
            }
        }
    }
}
