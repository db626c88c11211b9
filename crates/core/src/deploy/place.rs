//! One service in one environment: its deploys, its traffic, its errors.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::event::Minute;
use super::evidence::{Dispersion, rate_evidence, scattered_evidence};
use super::order::VersionOrder;
use super::series::Sums;

/// Minutes of the past that a rate is learnt from.
const PAST: Minute = 3 * 1_440;
/// Hours for which it is remembered what windows told.
const REMEMBERED: Minute = 7 * 24;
/// Minutes of the latest past that tell where a slowly changing rate stands.
const LATEST: Minute = 180;
/// Occurrences by which the latest past must outweigh the long one: one over the relative variance of slow changes.
const SLOW_WEIGHT: f64 = 120.0;
/// Share of errors whose rate follows the requests, as long as nothing is known of one.
const FOLLOWS: f64 = 0.88;
/// Relative variance of minutes and of hours as long as nothing is known of an error, and for how many of them this counts.
const FAST: (f64, f64) = (0.12, 60.0);
const SLOW: (f64, f64) = (0.009, 30.0);
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
/// The smallest mean size of incidents that is reckoned with.
const LEAST_SIZE: f64 = 1.3;
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
}

/// One error in one service and environment.
#[derive(Clone, Debug, Default)]
pub(super) struct Group {
    pub counts: Sums,
    /// Minute, version, count, in order of time.
    pub events: Vec<(Minute, u32, f64)>,
    pub episode: Option<Episode>,
    /// Until when nothing is said of its rate: it is new, or was back.
    pub quiet_until: Minute,
    /// Times that are no part of its usual past.
    excluded: Vec<(Minute, Minute)>,
    /// Where its present past begins: before, another rate held.
    since: Minute,
    /// The strongest evidence of late, and when.
    pub lately: (f64, Minute),
    /// Raised rates that went back by themselves soon: when, and how strongly they told.
    bursts: Vec<(Minute, f64)>,
    nature: Nature,
    learnt: Minute,
    /// The strongest evidence of each hour, by the length of the window.
    records: BTreeMap<Minute, Vec<(Minute, f64)>>,
}

/// How an error behaves, learnt from its past.
#[derive(Clone, Copy, Debug)]
struct Nature {
    /// How likely it is that its rate follows the requests rather than the clock.
    follows: f64,
    dispersion: Dispersion,
}

impl Default for Nature {
    fn default() -> Self {
        Self { follows: FOLLOWS, dispersion: Dispersion { clump: 1.3, slow: SLOW.0, fast: FAST.0 } }
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

/// What is due in a window, and what it rests on.
#[derive(Clone, Copy, Debug)]
pub(super) struct Due {
    pub expected: f64,
    pub basis: f64,
    pub dispersion: Dispersion,
}

/// A window that speaks for a raised rate.
#[derive(Clone, Copy, Debug)]
pub(super) struct Told {
    pub from: Minute,
    pub count: f64,
    pub expected: f64,
    /// In nats, less what scatter explains.
    pub evidence: f64,
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
        for (version, share) in &self.last_shares {
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
        let (mut basis, mut past, mut minutes) = (group.counts.between(from, until), self.exposure.between(from, until), span(from, until));
        for (start, end) in &group.excluded {
            let (start, end) = ((*start).max(from), (*end).min(until));
            if start < end {
                basis -= group.counts.between(start, end);
                past -= self.exposure.between(start, end);
                minutes -= span(start, end);
            }
        }
        // Half an occurrence more than were seen: a rate is never known to be nothing.
        let (known, past, minutes) = (basis.max(0.0) + 0.5, past.max(1e-9), minutes.max(1.0));
        let nature = group.nature;
        let latest = |usual: f64| {
            if is_past {
                1.0
            } else {
                ((group.counts.between(until - LATEST, until) + SLOW_WEIGHT) / (usual + SLOW_WEIGHT)).clamp(0.5, 2.0)
            }
        };
        let following = known / past * exposure * latest(known / past * self.exposure.between(until - LATEST, until));
        let steady = known / minutes * span(0, length) * share * latest(known / minutes * span(0, LATEST));
        Due { expected: nature.follows * following + (1.0 - nature.follows) * steady, basis: known, dispersion: nature.dispersion }
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
        let nature = Nature { follows: self.follows(group, from, minute), dispersion: self.dispersion(group, from, minute) };
        if let Some(group) = self.groups.get_mut(error) {
            group.nature = nature;
            group.learnt = minute;
        }
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

    /// How the counts of an error scatter, by the minutes and the hours of its latest day.
    fn dispersion(&self, group: &Group, from: Minute, until: Minute) -> Dispersion {
        let from = from.max(until - 1_440);
        let of_minutes = self.scatter(group, (from, until), 1, FAST);
        let of_hours = self.scatter(group, (from, until), 60, SLOW);
        // Where no requests are reported, what stands in for them is itself uncertain.
        let unsure = if self.reports(until) { 0.0 } else { 0.015 };
        let slow = (of_hours - of_minutes / 60.0).clamp(0.004, 0.05) + unsure;
        Dispersion { clump: group.clump(), slow, fast: (of_minutes - slow).clamp(0.02, 0.5) }
    }

    /// The relative variance of counts over so many minutes beyond chance, with what is expected of an error that is not
    /// known: a value, and how many counts that stands for.
    fn scatter(&self, group: &Group, (from, until): (Minute, Minute), length: Minute, (usual, weight): (f64, f64)) -> f64 {
        let (all, past) = (group.counts.between(from, until), self.exposure.between(from, until));
        if all < 30.0 || past <= 0.0 {
            return usual;
        }
        let (mut surplus, mut squares, mut blocks) = (0.0, 0.0, 0.0);
        let mut at = until - length;
        while at >= from {
            let due = all * self.exposure.between(at, at + length) / past;
            let off = (group.counts.between(at, at + length) - due).powi(2);
            // One wild count says little of the usual ones.
            surplus += off.min(16.0 * due * (1.0 + usual * 2.0 * due)) - due;
            squares += due * due;
            blocks += 1.0;
            at -= length;
        }
        let weight = weight * f64::max(squares / f64::max(blocks, 1.0), 1.0);
        (surplus + usual * weight) / (squares + weight)
    }

    /// What a window says of a group. `by_version`: only what that version did.
    pub fn told(&self, group: &Group, from: Minute, until: Minute, by_version: Option<u32>) -> Option<Told> {
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
        let evidence = group.evidence(count, (from, until), by_version, &due);
        Some(Told { from, count, expected: due.expected, evidence })
    }
}

/// Nats by which incidents are larger than their usual mean size, sizes being geometric: the likelihood ratio of the mean size
/// that was seen against the usual one, for so many occurrences past the first of each incident.
fn size_evidence(incidents: f64, further: f64, size: f64) -> f64 {
    if incidents <= 0.0 || further <= incidents * (size - 1.0) {
        return 0.0;
    }
    let all = incidents + further;
    further * (further / all * size / (size - 1.0)).ln() + incidents * (incidents / all * size).ln()
}

/// Minutes from one to another, as a number to reckon with.
#[expect(clippy::cast_precision_loss, reason = "minutes of some days")]
fn span(from: Minute, to: Minute) -> f64 {
    (to - from).max(0) as f64
}

impl Group {
    pub fn add(&mut self, minute: Minute, version: u32, count: f64) {
        self.counts.add(minute, count);
        self.events.push((minute, version, count));
    }

    fn of_version(&self, version: u32, from: Minute, until: Minute) -> f64 {
        let first = self.events.partition_point(|(minute, _, _)| *minute < from);
        let events = self.events.get(first..).unwrap_or_default();
        events.iter().take_while(|(minute, _, _)| *minute < until).filter(|(_, of, _)| *of == version).map(|(_, _, n)| n).sum()
    }

    /// Variance over mean of a rare error: twice its mean events per incident, less one.
    fn clump(&self) -> f64 {
        let events = self.events.get(self.events.len().saturating_sub(200)..).unwrap_or_default();
        let (mut all, mut incidents, mut last) = (6.4, 4.0, Minute::MIN);
        for (minute, _, n) in events {
            all += n;
            if *minute > last.saturating_add(3) {
                incidents += 1.0;
            }
            last = *minute;
        }
        // Of a frequent error neighbours are no incident.
        let span = events.last().zip(events.first()).map_or(1, |(last, first)| last.0 - first.0 + 1);
        #[expect(clippy::cast_precision_loss, reason = "minutes of some days")]
        let is_rare = all / (span as f64) < RARE;
        if is_rare { (2.0 * all / incidents - 1.0_f64).clamp(1.0, 5.0) } else { 1.1 }
    }

    /// Evidence of a window in nats. What is rare comes in incidents: these are counted, and each further occurrence of one
    /// says only as much as the size of incidents makes it rare.
    fn evidence(&self, count: f64, (from, until): (Minute, Minute), by_version: Option<u32>, due: &Due) -> f64 {
        let length = span(from, until);
        if due.expected / length > RARE {
            return scattered_evidence(count, due.expected, due.basis, due.dispersion, length);
        }
        let size = f64::midpoint(due.dispersion.clump, 1.0).max(LEAST_SIZE);
        let first = self.events.partition_point(|(minute, _, _)| *minute < from);
        let events = self.events.get(first..).unwrap_or_default().iter().take_while(|(minute, _, _)| *minute < until);
        let (mut incidents, mut last) = (0.0, Minute::MIN);
        for (minute, version, _) in events {
            if by_version.is_none_or(|wanted| wanted == *version) {
                if *minute > last.saturating_add(3) {
                    incidents += 1.0;
                }
                last = *minute;
            }
        }
        rate_evidence(incidents, due.expected / size, due.basis / size) + size_evidence(incidents, count - incidents, size)
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
                    let evidence = self.evidence(count, (from, until), None, &due);
                    self.record(*window, minute, evidence);
                }
            }
        }
    }

    /// Whether it comes in bursts that its rate does not explain.
    fn is_bursty(&self) -> bool {
        self.records.values().flatten().any(|(_, evidence)| *evidence > 2.0 * BURST)
    }

    /// Notes what a window of a length told.
    pub fn record(&mut self, length: Minute, minute: Minute, evidence: f64) {
        if evidence < 2.0 {
            return;
        }
        let records = self.records.entry(length).or_default();
        let hour = minute.div_euclid(60);
        match records.last_mut() {
            Some((last, strongest)) if *last == hour => *strongest = strongest.max(evidence),
            _ => records.push((hour, evidence)),
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
    /// window may belong to.
    pub fn hurdle(&self, length: Minute, minute: Minute) -> f64 {
        let hour = (minute - length - BUILD_UP).div_euclid(60);
        let of_length = self.records.range(length..).next().or_else(|| self.records.iter().next_back()).map(|(_, records)| records);
        let is_past = |(of, _): &&(Minute, f64)| *of < hour;
        let strongest = of_length.into_iter().flatten().filter(is_past).map(|(_, evidence)| *evidence).fold(0.0, f64::max);
        // A burst tells most in a window of its own length; two of them may fall into a long one.
        let burst = self.records.values().flatten().filter(is_past).map(|(_, evidence)| *evidence).fold(0.0, f64::max);
        let hours = |least: f64| -> usize {
            let hours: BTreeSet<Minute> =
                self.records.values().flatten().filter(is_past).filter(|(_, told)| *told > least).map(|(of, _)| *of).collect();
            hours.len()
        };
        if burst < 2.0 * BURST {
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
        self.episode = Some(Episode { since: told.from, said, ratio, evidence: told.evidence, by_deploy });
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
