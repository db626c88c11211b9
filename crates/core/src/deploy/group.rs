//! One error in one service and environment: its counts, its incidents, what its past told, its raised rates.

use std::collections::{BTreeMap, BTreeSet};

use super::event::Minute;
use super::evidence::{Dispersion, rate_evidence, scattered_evidence, size_evidence};
use super::place::{Due, Told};
use super::series::{Sums, span};

/// Share of errors whose rate follows the requests, as long as nothing is known of one.
pub(super) const FOLLOWS: f64 = 0.88;
/// Relative variance of minutes and of hours among errors: its mean, and its standard deviation.
pub(super) const FAST: (f64, f64) = (0.11, 0.07);
pub(super) const SLOW: (f64, f64) = (0.005, 0.0045);
/// Hours for which it is remembered what windows told.
const REMEMBERED: Minute = 7 * 24;
/// Past evidence from which on, in nats, it was a burst: what comes in bursts is held against its bursts.
const BURST: f64 = 10.0;
/// Evidence that no error has in many of its hours by chance, in nats.
const OFTEN: f64 = 7.0;
/// Minutes within which a raised rate that goes back by itself is a burst.
const SHORT: Minute = 90;
/// Minutes before a window in which what it tells of may have begun to build up.
const BUILD_UP: Minute = 120;
/// Occurrences a minute below which an error is rare: it comes in incidents.
const RARE: f64 = 0.04;
/// How many times larger incidents must be than chance makes them for an error to come in clumps.
const CLUMPED: f64 = 1.4;
/// The mean size of incidents from which on they are bursts.
const JOB: f64 = 2.5;
/// Minutes that an incident lasts from its first occurrence on.
const INCIDENT: Minute = 3;
/// Fewer incidents are none that goes on, however many occurrences they have.
const LEAST_INCIDENTS: f64 = 3.0;
/// The mean size of incidents as long as nothing is known of an error, and for how many of them this counts.
const SIZE: (f64, f64) = (1.6, 4.0);
/// The smallest mean size of incidents that is reckoned with.
const LEAST_SIZE: f64 = 1.3;

/// One error in one service and environment.
#[derive(Clone, Debug, Default)]
pub(super) struct Group {
    pub counts: Sums,
    /// Incidents per minute: occurrences that lie more than some minutes after the beginning of the one before.
    pub incidents: Sums,
    incident: Option<Minute>,
    /// Minute, version, count, in order of time.
    pub events: Vec<(Minute, u32, f64)>,
    pub episode: Option<Episode>,
    /// Until when nothing is said of its rate: it is new, or was back.
    pub quiet_until: Minute,
    /// Times that are no part of its usual past.
    pub excluded: Vec<(Minute, Minute)>,
    /// Times in which a version without it ran.
    pub gone: Vec<(Minute, Minute)>,
    /// Where its present past begins: before, another rate held.
    pub since: Minute,
    /// The strongest evidence of late, and when.
    pub lately: (f64, Minute),
    /// Raised rates that went back by themselves soon: when, and how strongly they told.
    bursts: Vec<(Minute, f64)>,
    pub nature: Nature,
    pub learnt: Minute,
    /// The strongest evidence of each hour, by the length of the window.
    records: BTreeMap<Minute, Vec<(Minute, Nats)>>,
}

/// What a window tells, in nats, less what scatter explains.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Nats {
    /// By its occurrences.
    pub by_count: f64,
    /// By its incidents and their sizes.
    pub by_incident: f64,
}

impl Nats {
    fn or(self, other: Self) -> Self {
        Self { by_count: self.by_count.max(other.by_count), by_incident: self.by_incident.max(other.by_incident) }
    }

    /// What is held against the past.
    pub fn of(self, clumps: Clumps) -> f64 {
        if clumps == Clumps::Incidents { self.by_incident } else { self.by_count }
    }

    /// What is left of it for an error that may come in clumps.
    pub fn least(self, clumps: Clumps) -> f64 {
        if clumps == Clumps::None { self.by_count } else { self.by_incident.min(self.by_count) }
    }
}

/// How the occurrences of an error come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Clumps {
    /// By themselves.
    None,
    /// Rarely, some at once: incidents are counted.
    Incidents,
    /// In bursts, as of a job: bursts are held against bursts.
    Bursts,
}

/// How an error behaves, learnt from its past.
#[derive(Clone, Copy, Debug)]
pub(super) struct Nature {
    /// How likely it is that its rate follows the requests rather than the clock.
    pub follows: f64,
    pub dispersion: Dispersion,
}

impl Default for Nature {
    fn default() -> Self {
        Self { follows: FOLLOWS, dispersion: Dispersion { clump: 1.1, slow: SLOW.0, fast: FAST.0 } }
    }
}

/// A raised rate that was flagged.
#[derive(Clone, Debug)]
pub(super) struct Episode {
    pub since: Minute,
    pub said: Minute,
    /// How many times the usual rate it was when flagged.
    pub ratio: f64,
    /// The evidence it had then, in nats.
    pub evidence: f64,
    /// Whether it began with a deploy.
    pub by_deploy: bool,
}

impl Group {
    pub fn add(&mut self, minute: Minute, version: u32, count: f64) {
        self.counts.add(minute, count);
        if self.incident.is_none_or(|began| minute - began >= INCIDENT) {
            self.incident = Some(minute);
            self.incidents.add(minute, 1.0);
        }
        self.events.push((minute, version, count));
    }

    /// The mean size of its incidents before a minute.
    pub fn size(&self, before: Minute) -> f64 {
        let (counts, incidents) = (self.counts.between(Minute::MIN, before), self.incidents.between(Minute::MIN, before));
        ((counts + SIZE.0 * SIZE.1) / (incidents + SIZE.1)).max(LEAST_SIZE)
    }

    pub fn of_version(&self, version: u32, from: Minute, until: Minute) -> f64 {
        let first = self.events.partition_point(|(minute, _, _)| *minute < from);
        let events = self.events.get(first..).unwrap_or_default();
        events.iter().take_while(|(minute, _, _)| *minute < until).filter(|(_, of, _)| *of == version).map(|(_, _, n)| n).sum()
    }

    /// Incidents of a version in a window.
    fn incidents_of(&self, version: u32, from: Minute, until: Minute) -> f64 {
        let first = self.events.partition_point(|(minute, _, _)| *minute < from);
        let events = self.events.get(first..).unwrap_or_default().iter().take_while(|(minute, _, _)| *minute < until);
        let (mut incidents, mut began) = (0.0, None);
        for (minute, _, _) in events.filter(|(_, of, _)| *of == version) {
            if began.is_none_or(|began| minute - began >= INCIDENT) {
                began = Some(*minute);
                incidents += 1.0;
            }
        }
        incidents
    }

    /// How its occurrences come.
    pub fn clumps(&self, minute: Minute) -> Clumps {
        let Some((first, _, _)) = self.events.first() else { return Clumps::Incidents };
        let rate = self.counts.between(*first, minute) / span(*first, minute).max(60.0);
        // Occurrences that come by themselves make incidents too, where one falls near another.
        let by_chance = rate / (1.0 - (-rate).exp()) + 2.0 * rate;
        let size = self.size(minute);
        let is_large = size > CLUMPED * by_chance;
        match (rate <= RARE, is_large) {
            (_, true) if size > JOB => Clumps::Bursts,
            (true, _) | (_, true) => Clumps::Incidents,
            (false, false) => Clumps::None,
        }
    }

    /// Evidence of a window in nats. `is_anywhere`: the window was laid where the error occurs, so that its first occurrence or
    /// incident tells nothing.
    ///
    /// By incidents these are counted, and each further occurrence of one says only as much as the size of incidents makes it
    /// rare.
    pub fn evidence(&self, count: f64, (from, until): (Minute, Minute), by_version: Option<u32>, due: &Due, is_anywhere: bool) -> Nats {
        let length = span(from, until);
        let free = if is_anywhere { 1.0 } else { 0.0 };
        let incidents = match by_version {
            Some(version) => self.incidents_of(version, from, until),
            // One that began before the window is none of it, unless it goes on.
            None => self.incidents.between(from, until).max(1.0),
        };
        let (expected, basis) = due.incidents;
        let by_incident = if incidents < LEAST_INCIDENTS {
            0.0
        } else {
            rate_evidence(incidents - free, expected, basis) + size_evidence(incidents, count - incidents, due.size)
        };
        Nats { by_count: scattered_evidence(count - free, due.expected, due.basis, due.dispersion, length), by_incident }
    }

    /// Notes anew what the windows of its first day told, now that its rate is known.
    pub fn look_back(&mut self, place_due: impl Fn(&Self, Minute, Minute) -> Option<Due>, windows: &[Minute]) {
        let minutes: Vec<Minute> = self.events.iter().map(|(minute, _, _)| *minute).collect();
        self.records.clear();
        for minute in minutes {
            for window in windows {
                let (from, until) = (minute + 1 - window, minute + 1);
                let count = self.counts.between(from, until);
                if count >= 3.0
                    && let Some(due) = place_due(self, from, until)
                {
                    let told = self.evidence(count, (from, until), None, &due, true);
                    self.record(*window, minute, told);
                }
            }
        }
    }

    /// Whether it comes in bursts that its rate does not explain.
    pub fn is_bursty(&self) -> bool {
        self.records.values().flatten().any(|(_, told)| told.by_count > 2.0 * BURST)
    }

    /// Notes what a window of a length told.
    pub fn record(&mut self, length: Minute, minute: Minute, told: Nats) {
        if told.by_count < 2.0 {
            return;
        }
        let records = self.records.entry(length).or_default();
        let hour = minute.div_euclid(60);
        match records.last_mut() {
            Some((last, strongest)) if *last == hour => *strongest = strongest.or(told),
            _ => records.push((hour, told)),
        }
        records.retain(|(of, _)| hour - of < REMEMBERED);
    }

    /// Whether raised rates at this time of the day, or again and again, are its usual way.
    fn is_habit(&self, minute: Minute) -> bool {
        let near = |then: &Minute| {
            let apart = (minute - then).rem_euclid(1_440);
            apart.min(1_440 - apart) <= 60
        };
        self.bursts.len() >= 2 || self.bursts.iter().any(|(then, _)| near(then))
    }

    /// The evidence that a window of a length must exceed to be more than what its own past had, before the hours that the
    /// window may belong to; by incidents or by occurrences.
    pub fn hurdle(&self, length: Minute, minute: Minute, clumps: Clumps) -> f64 {
        let hour = (minute - length - BUILD_UP).div_euclid(60);
        let nats = |told: &Nats| told.of(clumps);
        let of_length = self.records.range(length..).next().or_else(|| self.records.iter().next_back()).map(|(_, records)| records);
        let is_past = |(of, _): &&(Minute, Nats)| *of < hour;
        let strongest = of_length.into_iter().flatten().filter(is_past).map(|(_, told)| nats(told)).fold(0.0, f64::max);
        // A burst tells most in a window of its own length; two of them may fall into a long one.
        let burst = self.records.values().flatten().filter(is_past).map(|(_, told)| nats(told)).fold(0.0, f64::max);
        let hours = |least: f64| -> usize {
            let hours: BTreeSet<Minute> =
                self.records.values().flatten().filter(is_past).filter(|(_, told)| nats(told) > least).map(|(of, _)| *of).collect();
            hours.len()
        };
        // Counted by incidents, what one error often does by chance is gone already.
        if burst < if clumps == Clumps::Incidents { BURST } else { 2.0 * BURST } {
            return if self.is_habit(minute) {
                2.2 * self.known_burst(strongest)
            } else if hours(OFTEN) >= 4 {
                2.2 * burst + 4.0
            } else {
                strongest + 1.0
            };
        }
        // Of few bursts it is not known how large they get.
        let margin = match hours(burst / 4.0) {
            0..=3 => 5.0,
            4..=8 => 2.5,
            _ => 2.0,
        };
        margin * self.known_burst(burst)
    }

    fn known_burst(&self, strongest: f64) -> f64 {
        self.bursts.iter().map(|(_, evidence)| *evidence).fold(strongest, f64::max)
    }

    /// The end of its last surge.
    pub fn calm_since(&self) -> Minute {
        self.excluded.last().map_or(Minute::MIN, |(_, end)| *end)
    }

    /// Begins anew: what was before is no measure.
    pub fn begin(&mut self, minute: Minute, quiet_until: Minute) {
        self.episode = None;
        self.since = minute;
        self.quiet_until = quiet_until;
        self.excluded.clear();
        self.records.clear();
    }

    /// Opens an episode of a raised rate.
    pub fn open(&mut self, told: &Told, said: Minute, by_deploy: bool) {
        let ratio = told.count / told.expected;
        self.episode = Some(Episode { since: told.from, said, ratio, evidence: told.nats.by_count, by_deploy });
    }

    /// Ends an episode: it is no part of the usual past.
    pub fn end(&mut self, until: Minute) {
        if let Some(episode) = self.episode.take() {
            if until - episode.since <= SHORT && !episode.by_deploy {
                self.bursts.push((episode.said, episode.evidence));
            }
            self.excluded.push((episode.since, until));
            self.forget_records(episode.since);
        }
    }

    fn forget_records(&mut self, since: Minute) {
        for records in self.records.values_mut() {
            records.retain(|(hour, _)| *hour < since.div_euclid(60));
        }
    }

    /// Takes the raised rate for the usual one from now on.
    pub fn settle_down(&mut self) {
        if let Some(episode) = self.episode.take() {
            self.since = episode.since;
            self.excluded.clear();
            self.records.clear();
        }
    }
}
