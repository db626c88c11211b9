//! What an error's past told by itself: bursts that are its usual way are no surges.

use super::event::Minute;
use crate::deploy::clumps::Clumps;

/// Hours for which it is remembered what the past told.
const REMEMBERED: Minute = 7 * 24;
/// Evidence from which on, in nats, it is noted at all.
const NOTED: f64 = 2.0;
/// Past evidence from which on, in nats, it was a burst: what comes in bursts is held against its bursts.
const BURST: f64 = 10.0;
/// Evidence that no error has in many of its hours by chance, in nats; and so many hours.
const OFTEN: f64 = 7.0;
const MANY_HOURS: usize = 4;
/// Minutes before a rise in which what it tells of may have begun to build up.
const BUILD_UP: Minute = 120;
/// How many times what the past told must be told where it is a habit, and the nats besides where it comes often.
const HABIT: f64 = 2.2;
const HABIT_BESIDES: f64 = 4.0;
/// Minutes by which a burst may lie apart from the time of the day of an earlier one.
const SAME_TIME: Minute = 60;
const DAY: Minute = 1_440;

/// What a rise tells, in nats.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Nats {
    /// By its occurrences.
    pub by_count: f64,
    /// By its incidents and their sizes.
    pub by_incident: f64,
}

impl Nats {
    fn or(self, other: Self) -> Self {
        Self {
            by_count: self.by_count.max(other.by_count),
            by_incident: self.by_incident.max(other.by_incident),
        }
    }

    /// What is held against the past.
    pub fn of(self, clumps: Clumps) -> f64 {
        if clumps == Clumps::Incidents {
            self.by_incident
        } else {
            self.by_count
        }
    }

    /// What is left of it for an error that may come in clumps.
    pub fn least(self, clumps: Clumps) -> f64 {
        if clumps == Clumps::None {
            self.by_count
        } else {
            self.by_incident.min(self.by_count)
        }
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Habits {
    /// The strongest evidence of each hour.
    records: Vec<(Minute, Nats)>,
    /// Raised rates that went back by themselves soon: when, and how strongly they told.
    bursts: Vec<(Minute, f64)>,
}

impl Habits {
    /// Begins anew: what was before is no measure.
    pub fn forget(&mut self) {
        self.records.clear();
    }

    /// Forgets what was told from a minute on.
    pub fn forget_since(&mut self, since: Minute) {
        self.records.retain(|(hour, _)| *hour < since.div_euclid(60));
    }

    /// Notes what a rise told.
    pub fn record(&mut self, minute: Minute, told: Nats) {
        if told.by_count < NOTED {
            return;
        }
        let hour = minute.div_euclid(60);
        match self.records.last_mut() {
            Some((last, strongest)) if *last == hour => *strongest = strongest.or(told),
            _ => self.records.push((hour, told)),
        }
        self.records.retain(|(of, _)| hour - of < REMEMBERED);
    }

    /// Notes a raised rate that went back by itself.
    pub fn burst(&mut self, minute: Minute, evidence: f64) {
        self.bursts.push((minute, evidence));
    }

    /// Whether raised rates at this time of the day, or again and again, are its usual way.
    fn is_habit(&self, minute: Minute) -> bool {
        let near = |then: &Minute| {
            let apart = (minute - then).rem_euclid(DAY);
            apart.min(DAY - apart) <= SAME_TIME
        };
        self.bursts.len() >= 2 || self.bursts.iter().any(|(then, _)| near(then))
    }

    /// The evidence that a rise of a length must exceed to be more than what the past had, before
    /// the hours that it may belong to; by incidents or by occurrences.
    pub fn hurdle(&self, length: Minute, minute: Minute, clumps: Clumps) -> f64 {
        let hour = (minute - length - BUILD_UP).div_euclid(60);
        let past = || {
            self.records
                .iter()
                .filter(|(of, _)| *of < hour)
                .map(|(_, told)| told.of(clumps))
        };
        let strongest = past().fold(0.0, f64::max);
        let known = self
            .bursts
            .iter()
            .map(|(_, evidence)| *evidence)
            .fold(strongest, f64::max);
        let hours = |least: f64| past().filter(|told| *told > least).count();
        // Counted by incidents, what one error often does by chance is gone already.
        if strongest
            < if clumps == Clumps::Incidents {
                BURST
            } else {
                2.0 * BURST
            }
        {
            return if self.is_habit(minute) {
                HABIT * known
            } else if hours(OFTEN) >= MANY_HOURS {
                HABIT * strongest + HABIT_BESIDES
            } else {
                strongest
            };
        }
        // Of few bursts it is not known how large they get.
        let margin = match hours(strongest / 4.0) {
            0..=3 => 7.0,
            4..=8 => 3.5,
            _ => 2.5,
        };
        margin * known
    }
}
