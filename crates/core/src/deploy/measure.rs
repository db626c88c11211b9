//! Whether the request counts of a service can be believed.
//!
//! A count that steps up or down tells of traffic, or of how traffic is measured: a sampling that
//! nobody announced, a second source, an exporter that is down. The errors decide which: they
//! follow the traffic, and know nothing of how it is counted. As long as they have not decided, a
//! minute is judged by whichever exposure speaks less for a rise.

use std::collections::{BTreeMap, VecDeque};

use super::course::Voice;
use super::event::Minute;
use super::series::{Sums, span};

const DAY: Minute = 1_440;
/// Lengths over which a step shows, in minutes: at once, or over a rollout; and the fewest that it is held against.
const STEPS: [Minute; 4] = [1, 4, 15, 30];
const LEAST_BEFORE: Minute = 8;
/// The logarithm of the smallest step that is asked about: a daily climb is less in the longest of these lengths.
const LEAST_STEP: f64 = 0.26;
/// The logarithm of a step from which on it is none of chance, however short.
const PLAIN_STEP: f64 = 0.6;
/// Standard deviations that it must have beside; the relative variance of requests over such a
/// length before it is learnt, the most of it that is learnt from one minute, and the minutes over
/// which it is learnt.
const STEP_DEVIATIONS: f64 = 4.5;
const NOISE: f64 = 0.002;
const MOST_NOISE: f64 = 0.02;
const NOISE_OVER: f64 = 720.0;
/// Requests that must be due without a single one reported for their report to be missing: chance
/// leaves so many out once in e^12 times.
const MISSING: f64 = 12.0;
/// Disturbed times that are remembered of a service in an environment, at most.
const MOST_DISTURBED: usize = 64;
/// Minutes that one report may be for, at most.
const MOST_LUMPED: Minute = 30;
/// Nats by which the errors must speak for traffic, or for measuring; and what one error has to say, at most.
const DECIDED: f64 = 5.0;
const MOST_SAID: f64 = 4.0;
/// Minutes after a decision in which it shows how large the step is: a version may still be rolling out.
const SETTLING: Minute = 30;
/// Nats that they must speak for measuring at least where they have not decided in time.
const LEANING: f64 = 2.0;
/// The relative variance of an error's rate over some minutes.
const OWN_WAY: f64 = 0.015;
/// Minutes after which a step is taken for what is rather said of it.
const PATIENCE: Minute = 120;
/// Minutes in which a step that goes back at once was none.
const BRIEF: Minute = 4;
/// The share of the requests that is reported from which on they are no sample.
const SAMPLED: f64 = 0.8;
/// Minutes that tell how large a step is, at most, and the requests that they must have before.
const SIZED: Minute = 15;
const LEAST_COUNTED: f64 = 60.0;
/// The logarithm of how nearly as at first requests are reported again after a time in which they were not.
const NEARLY_FIRST: f64 = 0.5;
/// Minutes after a deploy in which a step may be that of its version.
const ROLLOUT: Minute = 45;
/// Minutes that errors tell by where no report tells how busy it is.
const HEARD: Minute = 20;
/// Days that tell how a time of the day stands to another, and minutes about it that are read.
const SHAPE_DAYS: Minute = 3;
const SHAPE: Minute = 7;
/// Minutes for which reports may come as late as after a time in which none came.
const LATE: Minute = 240;

/// How the requests of a service were measured for a time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Measured {
    /// They were not reported.
    Missing,
    /// Their reports came together for several minutes.
    Lumped,
    /// So many times as many were reported as there were, by what the errors say.
    Times(f64),
    /// So many times as many were reported as before, and it is not known whether traffic changed or how it is counted.
    Unsure(f64),
    /// No error was reported, while requests were.
    NoErrors,
}

/// A time in which what a service reports cannot be taken as it is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Disturbed {
    /// What is to be known of it.
    pub measured: Measured,
    /// Its first minute.
    pub from: Minute,
    /// The minute in which it ended; none while it goes on.
    pub until: Option<Minute>,
}

/// A step of which it is not known what it means.
#[derive(Clone, Debug)]
struct Doubt {
    since: Minute,
    /// Whether it showed at once: then all minutes after the first tell how large it is.
    is_sudden: bool,
    before: Level,
    /// Where the errors decided that it is one of measuring: when, and how many times as many are
    /// reported by what was known then.
    decided: Option<(Minute, f64)>,
    /// The exposure by minute as reported, and as it was before.
    reported: Sums,
    as_before: Sums,
}

/// What sums hold in each minute of a time.
fn minutes(sums: &Sums, from: Minute, until: Minute) -> Vec<(Minute, f64)> {
    (from..until).map(|at| (at, sums.between(at, at + 1))).collect()
}

/// Sums of a quantity over some minutes.
fn sums(minutes: std::ops::Range<Minute>, quantity: impl Fn(Minute) -> f64) -> Sums {
    let mut sums = Sums::default();
    for at in minutes {
        sums.add(at, quantity(at));
    }
    sums
}

/// How many requests a minute there were from one minute up to another.
#[derive(Clone, Copy, Debug)]
struct Level {
    from: Minute,
    until: Minute,
    requests: f64,
}

impl Level {
    fn new(requests: &Sums, from: Minute, until: Minute) -> Self {
        Self {
            from,
            until,
            requests: requests.between(from, until) / span(from, until).max(1.0),
        }
    }

    /// How many are due in a later minute, by the course of the days before.
    fn due(&self, requests: &Sums, minute: Minute, first: Minute) -> f64 {
        let (mut then, mut before) = (0.0, 0.0);
        for day in (1..=SHAPE_DAYS)
            .map(|day| day * DAY)
            .take_while(|day| self.from - SHAPE - day >= first)
        {
            let near = (minute - day - SHAPE, minute - day + SHAPE + 1);
            then += requests.between(near.0, near.1) / span(near.0, near.1);
            let near = (self.from - day - SHAPE / 2, self.until - day + SHAPE / 2);
            before += requests.between(near.0, near.1) / span(near.0, near.1);
        }
        if then > 0.0 && before > 0.0 {
            self.requests * (then / before).clamp(0.1, 10.0)
        } else {
            self.requests
        }
    }
}

/// What a minute's report says.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Reading {
    /// How many requests there were, as far as is known.
    pub requests: f64,
    /// How many there were at most, by what may be.
    pub most: f64,
}

/// How the request counts of a service are measured.
#[derive(Clone, Debug)]
pub(super) struct Measure {
    /// How many times as many requests each version reports as there are, where that differs from
    /// how the first one did.
    factors: BTreeMap<u32, f64>,
    /// That of the newest version: those that come after it report likewise.
    newest: f64,
    doubt: Option<Doubt>,
    /// The relative variance of requests over each length of a step, beyond chance.
    noise: [f64; STEPS.len()],
    /// How many requests a minute there were when each version reported as at first, where that is over.
    at_first: Option<Level>,
    /// From when on requests are about as now.
    stable_since: Minute,
    /// Since when nothing was reported, how many requests were due since, and how many a minute there were before.
    unreported: Option<(Minute, f64, Level)>,
    /// By how many minutes reports may be late, and until when that is supposed.
    late: Option<(Minute, Minute)>,
    /// Requests by minute as each report says by itself.
    plain: Sums,
    /// The latest reports.
    recent: VecDeque<(Minute, BTreeMap<u32, f64>)>,
    /// The latest deploy, and its version.
    pub deployed: Option<(Minute, u32)>,
    /// What was disturbed, the newest last.
    pub disturbed: Vec<Disturbed>,
}

impl Default for Measure {
    fn default() -> Self {
        Self {
            factors: BTreeMap::new(),
            newest: 1.0,
            doubt: None,
            noise: [NOISE; STEPS.len()],
            at_first: None,
            stable_since: Minute::MIN,
            unreported: None,
            late: None,
            plain: Sums::default(),
            recent: VecDeque::new(),
            deployed: None,
            disturbed: vec![],
        }
    }
}

impl Measure {
    /// Notes that a version is put in.
    pub fn deploy(&mut self, minute: Minute, version: u32) {
        self.deployed = Some((minute, version));
    }

    fn factor(&self, version: u32) -> f64 {
        self.factors.get(&version).copied().unwrap_or(self.newest)
    }

    /// What is reported of a minute, by version, as so many requests as there were.
    pub fn corrected(&self, report: &BTreeMap<u32, f64>) -> BTreeMap<u32, f64> {
        report
            .iter()
            .map(|(version, count)| (*version, count / self.factor(*version)))
            .collect()
    }

    /// How many requests are due in a minute by those before it, and by the days before.
    pub fn due(&self, requests: &Sums, minute: Minute, first: Minute) -> f64 {
        let level = match (&self.doubt, &self.unreported) {
            (Some(doubt), _) => doubt.before,
            (_, Some((_, _, level))) => *level,
            _ => self.level(requests, minute, first),
        };
        level.due(requests, minute, first)
    }

    /// How many requests a minute there were before one.
    fn level(&self, requests: &Sums, minute: Minute, first: Minute) -> Level {
        Level::new(
            requests,
            (minute - LEAST_BEFORE)
                .max(self.stable_since)
                .max(first)
                .min(minute - 1),
            minute,
        )
    }

    /// Whether the shares of versions may not be known yet so many minutes after a deploy, since reports come late.
    pub fn is_late(&self, minute: Minute, deployed: Minute) -> bool {
        self.late
            .is_some_and(|(late, until)| minute <= until && minute - deployed <= late + 2)
    }

    /// Reads the report of a minute. `all`: its requests as they are believed; `counted`: as they
    /// were reported; `due`: what [`Self::due`] says.
    pub fn read(
        &mut self,
        requests: &Sums,
        (minute, first): (Minute, Minute),
        all: f64,
        counted: f64,
        due: f64,
    ) -> Reading {
        if counted <= 0.0 {
            let level = self.level(requests, minute, first);
            return self.unreported(minute, due, level);
        }
        let mut all = all;
        if let Some((since, passed, _)) = self.unreported.take() {
            let lumped = span(since, minute + 1);
            if passed >= MISSING && minute - since <= MOST_LUMPED {
                self.late = Some((minute - since, minute + LATE));
            }
            if passed >= MISSING && minute - since <= MOST_LUMPED && all > due * lumped.sqrt() {
                // One report for all minutes since the last one.
                all /= lumped;
                self.note(Measured::Lumped, since, minute + 1);
            } else if passed >= MISSING {
                self.note(Measured::Missing, since, minute);
            }
        }
        if self.doubt.is_none()
            && let Some(doubt) = self.step(requests, (minute, first), all, counted)
        {
            self.doubt = Some(doubt);
        }
        self.plain.add(minute, all);
        let Some(doubt) = &mut self.doubt else {
            if counted >= SAMPLED * all {
                return Reading {
                    requests: all,
                    most: all,
                };
            }
            // Of a sample chance alone makes a count of a minute: those before it tell more, where there are few.
            let length = (SIZED - 1).min(minute - self.stable_since.max(first));
            let weight = (counted / LEAST_COUNTED).min(1.0);
            let before = if length > 0 {
                requests.between(minute - length, minute) / span(0, length)
            } else {
                all
            };
            let smooth = weight * all + (1.0 - weight) * before;
            return Reading {
                requests: smooth,
                most: smooth.max(all),
            };
        };
        let before = doubt.before.due(requests, minute, first);
        doubt.reported.add(minute, all);
        doubt.as_before.add(minute, before);
        match doubt.decided {
            Some((_, times)) => Reading {
                requests: before,
                most: before.max(all / times),
            },
            None => Reading {
                requests: all.min(before),
                most: all.max(before),
            },
        }
    }

    fn unreported(&mut self, minute: Minute, due: f64, level: Level) -> Reading {
        let (since, passed, level) = self.unreported.unwrap_or((minute, 0.0, level));
        // As many are reported as the latest version reports of them.
        let factor = self
            .recent
            .back()
            .and_then(|(_, report)| report.keys().last())
            .map_or(1.0, |version| self.factor(*version));
        let passed = passed + due * factor;
        self.unreported = Some((since, passed, level));
        // Where so few are due that none is no wonder, there may have been none.
        let is_missing = passed >= MISSING;
        if let Some(doubt) = &mut self.doubt {
            // A report that is missing tells nothing of a step.
            doubt.reported.add(minute, if is_missing { due } else { 0.0 });
            doubt.as_before.add(minute, due);
        }
        let requests = if is_missing { due } else { 0.0 };
        self.plain.add(minute, requests);
        Reading { requests, most: due }
    }

    /// What is disturbed in a minute, as far as is known by then.
    pub fn now(&self) -> Option<Disturbed> {
        let going_on = |measured, from| {
            Some(Disturbed {
                measured,
                from,
                until: None,
            })
        };
        if let Some((since, passed, _)) = self.unreported
            && passed >= MISSING
        {
            return going_on(Measured::Missing, since);
        }
        let doubt = self.doubt.as_ref()?;
        let measured = match doubt.decided {
            Some((_, times)) => Measured::Times(times),
            None => Measured::Unsure(
                doubt.reported.between(doubt.since, Minute::MAX) / doubt.as_before.between(doubt.since, Minute::MAX),
            ),
        };
        going_on(measured, doubt.since)
    }

    /// Notes a time that was disturbed, or that one still is.
    pub fn push(&mut self, disturbed: Disturbed) {
        self.disturbed.push(disturbed);
        // Reports that come and go are told of by the latest.
        if self.disturbed.len() > MOST_DISTURBED {
            self.disturbed.remove(0);
        }
    }

    fn note(&mut self, measured: Measured, from: Minute, until: Minute) {
        if let Some(last) = self.disturbed.last_mut()
            && std::mem::discriminant(&last.measured) == std::mem::discriminant(&measured)
            && last.until.is_some_and(|ended| from - ended <= BRIEF)
        {
            last.until = Some(until);
            return;
        }
        self.push(Disturbed {
            measured,
            from,
            until: Some(until),
        });
    }

    /// Whether requests step up or down with a minute.
    fn step(&mut self, requests: &Sums, (minute, first): (Minute, Minute), all: f64, counted: f64) -> Option<Doubt> {
        let start = self.stable_since.max(first);
        STEPS.into_iter().zip(&mut self.noise).find_map(|(length, noise)| {
            let since = minute + 1 - length;
            let from = (since - length.max(LEAST_BEFORE)).max(start);
            if since - from < LEAST_BEFORE {
                return None;
            }
            let level = Level::new(requests, from, since);
            let before = requests.between(from, since);
            let seen = self.plain.between(since, minute) + all;
            // The days before may have had a step of their own at this time.
            let dues =
                [level.requests, level.due(requests, minute - length / 2, first)].map(|due| due * span(0, length));
            let off = |due: f64| (seen.max(0.5) / due.max(0.5)).ln().abs();
            let due = if off(dues[0]) < off(dues[1]) { dues[0] } else { dues[1] };
            // Counts are compared as they came: what is multiplied scatters as it did before.
            let scale = counted / all.max(1e-9);
            let step = (seen.max(0.5) / due.max(0.5)).ln().abs();
            let (seen, due) = (seen * scale, due * scale);
            // The deviance of a Poisson count, which is squared standard deviations, less what
            // traffic scatters by itself.
            let deviance = 2.0 * (if seen > 0.0 { seen * (seen / due).ln() } else { 0.0 } - (seen - due));
            let by_chance = 1.0 / due.max(0.5) + 1.0 / (before * scale).max(0.5);
            let scatter = due * (*noise + by_chance);
            let off = ((seen - due) / due.max(0.5)).powi(2) - by_chance;
            *noise = (*noise + (off.min(MOST_NOISE) - *noise) / NOISE_OVER).max(NOISE / 10.0);
            (step > LEAST_STEP && deviance > STEP_DEVIATIONS.powi(2) * scatter).then(|| Doubt {
                since,
                is_sudden: length < LEAST_BEFORE,
                decided: None,
                before: level,
                reported: sums(since..minute, |at| self.plain.between(at, at + 1)),
                as_before: sums(since..minute, |at| level.due(requests, at, first)),
            })
        })
    }

    /// The first minute that errors are to be heard of.
    pub fn heard_since(&self, minute: Minute) -> Minute {
        let since = self
            .doubt
            .as_ref()
            .map(|doubt| doubt.since)
            .or(self.unreported.map(|(since, _, _)| since));
        since.map_or(minute, |since| since.max(minute + 1 - HEARD))
    }

    /// Lets the errors decide what a step means. `report`: requests by version as reported;
    /// `mixed`: the shares of the versions by what was announced and what the errors say; `heard`:
    /// what each error had since a minute, and what is due of it at an exposure of 1. Returns the
    /// minutes whose requests are known now, with them.
    pub fn decide(
        &mut self,
        (minute, first): (Minute, Minute),
        requests: &Sums,
        report: &BTreeMap<u32, f64>,
        mixed: impl Fn() -> Vec<(u32, f64)>,
        heard: impl Fn(Minute) -> Vec<Voice>,
    ) -> Vec<(Minute, f64)> {
        if report.is_empty() {
            return vec![];
        }
        self.recent.push_back((minute, report.clone()));
        self.recent.retain(|(at, _)| minute - at < SIZED);
        let Some(doubt) = &self.doubt else { return vec![] };
        let (since, until) = (doubt.since, minute + 1);
        if until - since < BRIEF {
            return vec![];
        }
        // The first minute may be a report for several.
        let latest = if doubt.is_sudden { since + 1 } else { until - BRIEF + 1 }.max(until - SIZED);
        let lately = doubt.reported.between(latest, until) / doubt.as_before.between(latest, until).max(1e-9);
        let counted: f64 = self
            .recent
            .iter()
            .filter(|(at, _)| *at >= latest)
            .flat_map(|(_, report)| report.values())
            .sum();
        if counted < LEAST_COUNTED && until - since < SIZED {
            return vec![];
        }
        let (reported, before) = (
            doubt.reported.between(since, until),
            doubt.as_before.between(since, until),
        );
        // After a time in which they were measured in another way, requests are counted again as they were before it.
        if let Some(level) = self.at_first {
            let due: f64 = (latest..until).map(|at| level.due(requests, at, first)).sum();
            let stands = (counted / due.max(1e-9)).ln();
            let stood = (counted / due.max(1e-9) / lately).ln();
            if counted > 0.0 && stands.abs() < NEARLY_FIRST.min(stood.abs() / 2.0) {
                let known = minutes(&doubt.as_before, since, until);
                self.end_times(since);
                self.factors.clear();
                (self.newest, self.at_first, self.doubt) = (1.0, None, None);
                self.stable_since = self.stable_since.max(latest);
                self.plain.replace(&known);
                return known;
            }
        }
        let said: f64 = heard(since).iter().map(|voice| says(voice, reported, before)).sum();
        // Chance makes small steps of some minutes.
        if lately.ln().abs() < PLAIN_STEP && lately.ln().abs() >= LEAST_STEP / 2.0 && until - since < 3 * BRIEF {
            return vec![];
        }
        let is_late = until - since >= PATIENCE;
        let is_back = lately.ln().abs() < LEAST_STEP / 2.0;
        if let Some((decided, times)) = doubt.decided {
            if said >= DECIDED {
                // What followed says otherwise.
                let known = minutes(&doubt.reported, since, until);
                (self.stable_since, self.doubt) = (since, None);
                self.plain.replace(&known);
                return known;
            }
            if is_back || minute >= decided + SETTLING {
                let known = minutes(&doubt.as_before, since, until);
                let before = doubt.before;
                if is_back {
                    self.note(Measured::Times(times), since, until - BRIEF);
                } else {
                    self.measure_anew((latest, since), lately, &mixed());
                    let is_plain = self.recent.back().is_some_and(|(_, report)| self.is_plain(report));
                    self.at_first = if is_plain {
                        None
                    } else {
                        Some(self.at_first.unwrap_or(before))
                    };
                    self.stable_since = self.stable_since.max(latest);
                }
                self.doubt = None;
                self.plain.replace(&known);
                return known;
            }
            return vec![];
        }
        let known = if is_back {
            // It stepped, and stepped back: what it was in between the errors have not decided.
            let is_brief = until - since <= 3 * BRIEF;
            let known = if said > 0.0 && !is_brief {
                minutes(&doubt.reported, since, until)
            } else {
                minutes(&doubt.as_before, since, until)
            };
            if !is_brief && said <= 0.0 {
                self.note(Measured::Unsure(reported / before), since, until - BRIEF);
            }
            known
        } else if said >= DECIDED || (is_late && said >= -LEANING) {
            let known = minutes(&doubt.reported, since, until);
            self.stable_since = since;
            known
        } else if said <= -DECIDED || is_late {
            let known = minutes(&doubt.as_before, since, until);
            if let Some(doubt) = &mut self.doubt {
                doubt.decided = Some((minute, lately));
            }
            return known;
        } else {
            return vec![];
        };
        self.doubt = None;
        self.plain.replace(&known);
        known
    }

    /// From now on so many times as many requests are reported as are. `latest`: the first of the minutes that tell so.
    fn measure_anew(&mut self, (latest, since): (Minute, Minute), times: f64, mixed: &[(u32, f64)]) {
        let mut report: BTreeMap<u32, f64> = BTreeMap::new();
        for (version, count) in self
            .recent
            .iter()
            .filter(|(at, _)| *at >= latest)
            .flat_map(|(_, report)| report)
        {
            *report.entry(*version).or_default() += count;
        }
        let corrected = self.corrected(&report);
        let all: f64 = corrected.values().sum();
        let truly = all / times;
        let of_deploy = self
            .deployed
            .filter(|(at, _)| since - at <= ROLLOUT && since + BRIEF >= *at)
            .map(|(_, version)| version);
        // The others report as before, by their share of what there is: what is left is the deployed version's.
        let of_deploy = of_deploy.filter(|version| {
            let others = all - corrected.get(version).copied().unwrap_or_default();
            let due = truly
                * mixed
                    .iter()
                    .filter(|(of, _)| of != version)
                    .map(|(_, share)| share)
                    .sum::<f64>();
            others > 0.0 && due > 0.02 * truly && (others / due).ln().abs() < (others / due / times).ln().abs()
        });
        if let Some(version) = of_deploy {
            let of_version = corrected.get(&version).copied().unwrap_or_default();
            let left = (truly - (all - of_version)).max(0.02 * truly);
            let factor = self.factor(version) * of_version.max(0.5) / left;
            self.factors.insert(version, factor);
            self.newest = factor;
        } else {
            for version in report.keys() {
                let factor = self.factor(*version) * times;
                self.factors.insert(*version, factor);
            }
            self.newest *= times;
        }
        // What is nearly as at first is as at first.
        let at_first = |factor: f64| {
            if f64::ln(factor).abs() < LEAST_STEP / 2.0 {
                1.0
            } else {
                factor
            }
        };
        for factor in self.factors.values_mut() {
            *factor = at_first(*factor);
        }
        self.newest = at_first(self.newest);
        let counted: f64 = report.values().sum();
        let times = counted / self.corrected(&report).values().sum::<f64>().max(1e-9);
        self.end_times(since);
        if f64::ln(times.max(1e-9)).abs() >= LEAST_STEP / 2.0 {
            self.push(Disturbed {
                measured: Measured::Times(times),
                from: since,
                until: None,
            });
        }
    }

    /// Whether each version of a report is taken as it reports.
    fn is_plain(&self, report: &BTreeMap<u32, f64>) -> bool {
        report.keys().all(|version| (self.factor(*version) - 1.0).abs() < 1e-9)
    }

    fn end_times(&mut self, minute: Minute) {
        for disturbed in self.disturbed.iter_mut().filter(|disturbed| disturbed.until.is_none()) {
            if matches!(disturbed.measured, Measured::Times(_)) {
                disturbed.until = Some(minute);
            }
        }
    }
}

/// By how many nats an error speaks for one exposure rather than for another: Poisson, tempered by
/// how it goes its own way, and by how likely it is that it follows the requests at all.
fn says(voice: &Voice, reported: f64, before: f64) -> f64 {
    let (by_report, as_before) = (voice.due * reported, voice.due * before);
    if by_report <= 0.0 || as_before <= 0.0 {
        return 0.0;
    }
    let nats = voice.seen * (by_report / as_before).ln() - (by_report - as_before);
    let nats = (nats / (1.0 + OWN_WAY * by_report.max(as_before))).min(MOST_SAID);
    // One that keeps to the clock comes as before, whatever traffic does.
    (voice.follows * nats.exp() + 1.0 - voice.follows).ln().max(-MOST_SAID)
}
