//! One service in one environment: its deploys, its traffic, its errors.

use std::collections::{BTreeMap, HashMap};

use super::event::Minute;
use super::evidence::Dispersion;
use super::group::{Clumps, FAST, FOLLOWS, Group, Nats, Nature, SLOW};
use super::order::VersionOrder;
use super::series::{Sums, span};

/// Minutes of the past that a rate is learnt from.
pub(super) const PAST: Minute = 3 * 1_440;
/// The least relative variance of hours: no rate is quite steady.
const LEAST_SLOW: f64 = 0.0015;
/// Minutes of the latest past that tell where a slowly changing rate stands.
const LATEST: Minute = 180;
/// Occurrences by which the latest past must outweigh the long one: one over the relative variance of slow changes.
const SLOW_WEIGHT: f64 = 120.0;
/// How far slow changes move a rate.
const MOST_SLOW: f64 = 1.3;
/// Occurrences due of a version from which on it tells whether an error is gone in it, and the share of them that is left then.
const GONE_OF: f64 = 8.0;
const GONE_SHARE: f64 = 0.15;
/// Minutes from the first on in which a place is learnt.
const LEARNING: Minute = 1_440;
/// Minutes from the first on in which nothing is called new.
const YOUNG: Minute = 30;
/// Minutes after which it is learnt anew how an error behaves.
const LEARNT: Minute = 30;

/// A deploy that may have changed something.
#[derive(Clone, Debug)]
pub(super) struct Deployed {
    pub at: Minute,
    pub version: u32,
}

#[derive(Clone, Debug, Default)]
pub(super) struct Place {
    pub order: VersionOrder,
    pub deploys: Vec<Deployed>,
    /// Requests, or what stands in for them, per minute.
    pub exposure: Sums,
    pub by_version: HashMap<u32, Sums>,
    /// Minutes for which requests were reported.
    reported: Sums,
    /// Where no requests are reported: what all errors together had, and what was due of them.
    pooled: Sums,
    pooled_due: Sums,
    pub groups: BTreeMap<String, Group>,
    /// Requests of the minute that is being read, by version.
    pub now: BTreeMap<u32, f64>,
    first: Option<Minute>,
    last_shares: Vec<(u32, f64)>,
    /// Which versions run by what was announced, with their shares: what there is where no requests are reported.
    announced: Vec<(u32, f64)>,
    main: Option<u32>,
}

/// What is due in a window, and what it rests on.
#[derive(Clone, Copy, Debug)]
pub(super) struct Due {
    pub expected: f64,
    pub basis: f64,
    /// The same for incidents.
    pub incidents: (f64, f64),
    /// The mean size of incidents.
    pub size: f64,
    pub dispersion: Dispersion,
}

/// What is looked at in a window.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Of {
    /// All versions, in a window that begins with a deploy.
    Deploy,
    /// What one version did since its deploy.
    Version(u32),
    /// All versions, in a window that was laid where the error occurs.
    Anywhere,
}

/// A window that speaks for a raised rate.
#[derive(Clone, Copy, Debug)]
pub(super) struct Told {
    pub from: Minute,
    pub count: f64,
    pub expected: f64,
    pub nats: Nats,
    /// How the error's occurrences come.
    pub clumps: Clumps,
}

impl Told {
    pub fn evidence(&self) -> f64 {
        self.nats.least(self.clumps)
    }
}

impl Place {
    /// Whether it is known long enough that a first occurrence says something, and a rate too.
    pub fn is_learning(&self, minute: Minute) -> bool {
        self.first.is_none_or(|first| minute - first < LEARNING)
    }

    /// Whether it is known so shortly that every error of it occurs for the first time.
    pub fn is_young(&self, minute: Minute) -> bool {
        self.first.is_none_or(|first| minute - first < YOUNG)
    }

    /// Whether requests are reported at all, of late.
    fn reports(&self, minute: Minute) -> bool {
        self.reported.between(minute - 2_880, minute) > 0.0
    }

    /// A version is put in; as a canary, with a share of the traffic beside the one that runs.
    pub fn deploy(&mut self, at: Minute, version: u32, share: Option<f64>) {
        self.deploys.push(Deployed { at, version });
        match (share, self.main) {
            (Some(share), Some(main)) if main != version => self.announced = vec![(main, 1.0 - share), (version, share)],
            _ => self.run_alone(version),
        }
    }

    /// A canary is ended: the version beside it has all the traffic again.
    pub fn end_canary(&mut self) {
        if let Some(main) = self.main {
            self.run_alone(main);
        }
    }

    fn run_alone(&mut self, version: u32) {
        self.main = Some(version);
        self.announced = vec![(version, 1.0)];
    }

    /// Ends a minute: its exposure is what was reported, else what the past or the other errors say of it.
    pub fn close(&mut self, minute: Minute) {
        let first = *self.first.get_or_insert(minute);
        let now = std::mem::take(&mut self.now);
        let all: f64 = now.values().sum();
        if all > 0.0 {
            self.exposure.add(minute, all);
            self.reported.add(minute, 1.0);
            for (version, n) in &now {
                self.by_version.entry(*version).or_default().add(minute, *n);
            }
            self.last_shares = now.into_iter().map(|(version, n)| (version, n / all)).collect();
            return;
        }
        let estimate = if self.reports(minute) { self.missing(minute, first) } else { self.activity(minute) };
        self.exposure.add(minute, estimate);
        let shares = if self.last_shares.is_empty() { &self.announced } else { &self.last_shares };
        for (version, share) in shares {
            self.by_version.entry(*version).or_default().add(minute, estimate * share);
        }
    }

    /// Requests of a minute whose report is missing: as yesterday at this time, times how today stands to yesterday.
    fn missing(&self, minute: Minute, first: Minute) -> f64 {
        let lately = self.exposure.between(minute - 30, minute) / 30.0;
        if minute - 1_440 - 30 < first {
            return lately;
        }
        let then = self.exposure.between(minute - 1_440 - 2, minute - 1_440 + 3) / 5.0;
        let before = self.exposure.between(minute - 1_440 - 30, minute - 1_440) / 30.0;
        if before > 0.0 { lately * (then / before).clamp(0.5, 2.0) } else { lately }
    }

    /// How busy a service is that reports no requests: what its errors together say, each with at most a little weight, now and
    /// at this time yesterday.
    fn activity(&mut self, minute: Minute) -> f64 {
        let (seen, due) = self.pool(minute, minute);
        self.pooled.add(minute, seen);
        self.pooled_due.add(minute, due);
        if self.first.is_none_or(|first| minute - first <= LEARNING + 60) {
            return self.level(minute - 40, minute + 1);
        }
        // Yesterday's course, at today's height.
        let yesterday = minute - 1_440;
        let height = self.level(minute - 120, minute + 1) / self.level(yesterday - 120, yesterday + 1);
        self.level(yesterday - 20, yesterday + 21) * height.clamp(0.5, 2.0)
    }

    /// What all errors of a minute together had, and what was due of them by the day that ended with another minute.
    fn pool(&self, minute: Minute, known: Minute) -> (f64, f64) {
        let (mut seen, mut due) = (0.0, 0.0);
        let from = self.first.unwrap_or(known).max(known - 1_440);
        for group in self.groups.values().filter(|group| group.episode.is_none() && !group.is_bursty()) {
            let usual = group.counts.between(from, known) / span(from, known).max(60.0);
            if usual > 0.03 {
                // Of a busy error as much as of one of one a minute.
                let weight = (1.0 / usual).min(1.0);
                seen += weight * group.counts.between(minute, minute + 1).min(usual * 4.0 + 2.0);
                due += weight * usual;
            }
        }
        (seen, due)
    }

    fn level(&self, from: Minute, to: Minute) -> f64 {
        (self.pooled.between(from, to) + 8.0) / (self.pooled_due.between(from, to) + 8.0)
    }

    /// The course of the first day, now that it is over.
    fn course_of_first_day(&mut self, minute: Minute) {
        let Some(first) = self.first else { return };
        (self.pooled, self.pooled_due) = (Sums::default(), Sums::default());
        for at in first..=minute {
            let (seen, due) = self.pool(at, minute);
            self.pooled.add(at, seen);
            self.pooled_due.add(at, due);
        }
        self.exposure = Sums::default();
        for at in first..=minute {
            let level = self.level(at - 20, at + 21);
            self.exposure.add(at, level);
        }
    }

    /// What is due of a group over a window of a length, by its past before `until`: at an exposure, which is so large a share of
    /// all that the window had. `is_past`: the window lies within the past itself, so that the latest hours tell nothing of it.
    pub fn due(&self, group: &Group, until: Minute, length: Minute, (exposure, share): (f64, f64), is_past: bool) -> Due {
        let from = self.past_of(group, until);
        let (mut past, mut minutes) = (self.exposure.between(from, until), span(from, until));
        let left_out: Vec<(Minute, Minute)> = group
            .excluded
            .iter()
            .chain(&group.gone)
            .map(|(start, end)| ((*start).max(from), (*end).min(until)))
            .filter(|(start, end)| start < end)
            .collect();
        for (start, end) in &left_out {
            past -= self.exposure.between(*start, *end);
            minutes -= span(*start, *end);
        }
        let (past, minutes) = (past.max(1e-9), minutes.max(1.0));
        let nature = group.nature;
        let of = |sums: &Sums| {
            let gone: f64 = left_out.iter().map(|(start, end)| sums.between(*start, *end)).sum();
            // Half an occurrence more than were seen: a rate is never known to be nothing.
            let known = (sums.between(from, until) - gone).max(0.0) + 0.5;
            let latest = |usual: f64| {
                if is_past || group.gone.last().is_some_and(|(_, end)| *end > until - LATEST) {
                    1.0
                } else {
                    ((sums.between(until - LATEST, until) + SLOW_WEIGHT) / (usual + SLOW_WEIGHT)).clamp(1.0 / MOST_SLOW, MOST_SLOW)
                }
            };
            let following = known / past * exposure * latest(known / past * self.exposure.between(until - LATEST, until));
            let steady = known / minutes * span(0, length) * share * latest(known / minutes * span(0, LATEST));
            (nature.follows * following + (1.0 - nature.follows) * steady, known)
        };
        let (expected, basis) = of(&group.counts);
        Due { expected, basis, incidents: of(&group.incidents), size: group.size(until), dispersion: nature.dispersion }
    }

    /// Where the past of a group begins that a window from `until` on is held against.
    fn past_of(&self, group: &Group, until: Minute) -> Minute {
        group.since.max(until - PAST).max(self.first.unwrap_or(until))
    }

    /// Ends the learning: what the first day told of each error is noted by what the whole day said of it.
    pub fn look_back(&mut self, minute: Minute, windows: &[Minute]) {
        if self.first.is_none_or(|first| minute - first != LEARNING) {
            return;
        }
        if !self.reports(minute) {
            self.course_of_first_day(minute);
        }
        let names: Vec<String> = self.groups.keys().cloned().collect();
        for name in names {
            if let Some(group) = self.groups.get_mut(&name) {
                group.learnt = Minute::MIN / 2;
            }
            self.learn(&name, minute);
            let Some(mut group) = self.groups.remove(&name) else { continue };
            let due = |group: &Group, from: Minute, until: Minute| {
                let exposure = self.exposure.between(from, until);
                (exposure > 0.0).then(|| self.due(group, minute, until - from, (exposure, 1.0), true))
            };
            group.look_back(due, windows);
            self.groups.insert(name, group);
        }
    }

    /// Learns anew how a group behaves.
    pub fn learn(&mut self, error: &str, minute: Minute) {
        let Some(group) = self.groups.get(error) else { return };
        if minute - group.learnt < LEARNT {
            return;
        }
        let from = self.past_of(group, minute);
        let follows = self.follows(group, from, minute);
        let nature = Nature { follows, dispersion: self.dispersion(group, follows, from, minute) };
        let gone = self.gone(group, from, minute);
        if let Some(group) = self.groups.get_mut(error) {
            group.nature = nature;
            group.learnt = minute;
            group.gone = gone;
        }
    }

    /// Between which deploys an error was gone: versions without it tell nothing of how often the others have it.
    fn gone(&self, group: &Group, from: Minute, until: Minute) -> Vec<(Minute, Minute)> {
        let (all, past) = (group.counts.between(from, until), self.exposure.between(from, until).max(1e-9));
        let ends = self.deploys.iter().skip(1).map(|deploy| deploy.at).filter(|end| *end <= until);
        let spans = self.deploys.iter().map(|deploy| deploy.at).zip(ends).filter(|(_, end)| *end > from);
        let is_gone = |(start, end): &(Minute, Minute)| {
            let due = all * self.exposure.between(*start, *end) / past;
            due >= GONE_OF && group.counts.between(*start, *end) <= GONE_SHARE * due
        };
        spans.filter(is_gone).collect()
    }

    /// How likely it is that an error's rate follows the requests rather than the clock, by hours of its past.
    fn follows(&self, group: &Group, from: Minute, until: Minute) -> f64 {
        let (all, past) = (group.counts.between(from, until), self.exposure.between(from, until));
        if all < 5.0 || past <= 0.0 {
            return FOLLOWS;
        }
        #[expect(clippy::cast_precision_loss, reason = "minutes of some days")]
        let per_hour = all / (until - from).max(60) as f64 * 60.0;
        let mut lead = 0.0;
        let mut at = until - 60;
        while at >= from {
            let n = group.counts.between(at, at + 60);
            let following = all * self.exposure.between(at, at + 60) / past;
            if following > 0.0 {
                // Poisson likelihoods, tempered by the scatter of an hour.
                lead += (n * (following / per_hour).ln() - (following - per_hour)) / (1.0 + 0.02 * per_hour);
            }
            at -= 60;
        }
        let odds = (lead / 1.5).clamp(-30.0, 30.0).exp() * FOLLOWS / (1.0 - FOLLOWS);
        odds / (1.0 + odds)
    }

    /// How the counts of an error scatter, by the minutes of its latest day and by all hours of its past.
    fn dispersion(&self, group: &Group, follows: f64, from: Minute, until: Minute) -> Dispersion {
        // A rise that is going on is no part of the past yet.
        let until = (until - LATEST).max(from);
        let of_minutes = self.scatter(group, follows, (from.max(until - 1_440), until), 1, FAST);
        let of_hours = self.scatter(group, follows, (from, until), 60, SLOW);
        // Where no requests are reported, what stands in for them is itself uncertain.
        let unsure = if self.reports(until) { 0.0 } else { 0.015 };
        let slow = (of_hours - of_minutes / 60.0).clamp(LEAST_SLOW, 0.05) + unsure;
        Dispersion { clump: 1.1, slow, fast: (of_minutes - slow).clamp(0.02, 0.5) }
    }

    /// The relative variance of counts over so many minutes beyond chance: what was seen, and what is usual among errors, each
    /// weighted by how well it is known (the less an error occurs, the less its counts tell of it).
    fn scatter(&self, group: &Group, follows: f64, (from, until): (Minute, Minute), length: Minute, (usual, spread): (f64, f64)) -> f64 {
        let (all, past) = (group.counts.between(from, until), self.exposure.between(from, until));
        if all < 3.0 || past <= 0.0 {
            return usual;
        }
        let steady = all * span(0, length) / span(from, until);
        let (mut surplus, mut squares, mut blocks) = (0.0, 0.0, 0.0);
        let mut at = until - length;
        while at >= from {
            let is_left_out = group.excluded.iter().chain(&group.gone).any(|(start, end)| *start < at + length && at < *end);
            if !is_left_out {
                let due = follows * all * self.exposure.between(at, at + length) / past + (1.0 - follows) * steady;
                let off = (group.counts.between(at, at + length) - due).powi(2);
                // One wild count says little of the usual ones.
                surplus += off.min(16.0 * due * (1.0 + usual * 2.0 * due)) - due;
                squares += due * due;
                blocks += 1.0;
            }
            at -= length;
        }
        if blocks == 0.0 || squares <= 0.0 {
            return usual;
        }
        // The variance of what one count tells of it, in units of the variance among errors: so many counts is that worth.
        let mean = (squares / blocks).sqrt();
        let worth = 2.0 * ((1.0 / mean + usual) / spread).powi(2);
        (surplus / squares * blocks + usual * worth) / (blocks + worth)
    }

    /// What a window says of a group. `by_version`: only what that version did.
    pub fn told(&self, group: &Group, from: Minute, until: Minute, of: Of) -> Option<Told> {
        let by_version = if let Of::Version(version) = of { Some(version) } else { None };
        let (count, exposure, share) = match by_version {
            None => (group.counts.between(from, until), self.exposure.between(from, until), 1.0),
            Some(version) => {
                let (of_version, all) = (self.by_version.get(&version)?.between(from, until), self.exposure.between(from, until));
                (group.of_version(version, from, until), of_version, if all > 0.0 { of_version / all } else { 1.0 })
            }
        };
        if count < 3.0 || exposure <= 0.0 {
            return None;
        }
        let length = until - from;
        let due = self.due(group, from, length, (exposure, share), false);
        let nats = group.evidence(count, (from, until), by_version, &due, of == Of::Anywhere);
        Some(Told { from, count, expected: due.expected, nats, clumps: group.clumps(from) })
    }
}
