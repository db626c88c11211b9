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
use crate::deploy::disturbed::{Disturbed, MOST_DISTURBED, Measured};
use crate::deploy::level::{Level, Reading, sums};

/// Lengths over which a step shows, in minutes: at once, or over a rollout; and the fewest that it is held against.
const STEPS: [Minute; 4] = [1, 4, 15, 30];
const LEAST_BEFORE: Minute = 8;
/// The logarithm of the smallest step that is asked about: a daily climb is less in the longest of these lengths.
pub(super) const LEAST_STEP: f64 = 0.26;
/// The logarithm of a step from which on it is none of chance, however short.
pub(super) const PLAIN_STEP: f64 = 0.6;
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

/// Minutes that one report may be for, at most.
const MOST_LUMPED: Minute = 30;
/// Nats by which the errors must speak for traffic, or for measuring; and what one error has to say, at most.
pub(super) const DECIDED: f64 = 5.0;
const MOST_SAID: f64 = 4.0;
/// Minutes after a decision in which it shows how large the step is: a version may still be rolling out.
pub(super) const SETTLING: Minute = 30;
/// Nats that they must speak for measuring at least where they have not decided in time.
pub(super) const LEANING: f64 = 2.0;
/// The relative variance of an error's rate over some minutes.
const OWN_WAY: f64 = 0.015;
/// Minutes after which a step is taken for what is rather said of it.
pub(super) const PATIENCE: Minute = 120;
/// Minutes in which a step that goes back at once was none.
pub(super) const BRIEF: Minute = 4;
/// The share of the requests that is reported from which on they are no sample.
const SAMPLED: f64 = 0.8;
/// Minutes that tell how large a step is, at most, and the requests that they must have before.
pub(super) const SIZED: Minute = 15;
pub(super) const LEAST_COUNTED: f64 = 60.0;
/// The logarithm of how nearly as at first requests are reported again after a time in which they were not.
pub(super) const NEARLY_FIRST: f64 = 0.5;
/// Minutes after a deploy in which a step may be that of its version.
pub(super) const ROLLOUT: Minute = 45;
/// Minutes that errors tell by where no report tells how busy it is.
const HEARD: Minute = 20;

/// Minutes for which reports may come as late as after a time in which none came.
const LATE: Minute = 240;

/// A step of which it is not known what it means.
#[derive(Clone, Debug)]
pub(super) struct Doubt {
    pub(super) since: Minute,
    /// Whether it showed at once: then all minutes after the first tell how large it is.
    pub(super) is_sudden: bool,
    pub(super) before: Level,
    /// Where the errors decided that it is one of measuring: when, and how many times as many are
    /// reported by what was known then.
    pub(super) decided: Option<(Minute, f64)>,
    /// The exposure by minute as reported, and as it was before.
    pub(super) reported: Sums,
    pub(super) as_before: Sums,
}

/// How the request counts of a service are measured.
#[derive(Clone, Debug)]
pub(super) struct Measure {
    /// How many times as many requests each version reports as there are, where that differs from
    /// how the first one did.
    pub(super) factors: BTreeMap<u32, f64>,
    /// That of the newest version: those that come after it report likewise.
    pub(super) newest: f64,
    pub(super) doubt: Option<Doubt>,
    /// The relative variance of requests over each length of a step, beyond chance.
    pub(super) noise: [f64; STEPS.len()],
    /// How many requests a minute there were when each version reported as at first, where that is over.
    pub(super) at_first: Option<Level>,
    /// From when on requests are about as now.
    pub(super) stable_since: Minute,
    /// Since when nothing was reported, how many requests were due since, and how many a minute there were before.
    pub(super) unreported: Option<(Minute, f64, Level)>,
    /// By how many minutes reports may be late, and until when that is supposed.
    pub(super) late: Option<(Minute, Minute)>,
    /// Requests by minute as each report says by itself.
    pub(super) plain: Sums,
    /// The latest reports.
    pub(super) recent: VecDeque<(Minute, BTreeMap<u32, f64>)>,
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

    pub(super) fn factor(&self, version: u32) -> f64 {
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
        let all = self.after_silence(minute, all, due);
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

    /// The requests of a minute that may be reported for all minutes since the last report.
    fn after_silence(&mut self, minute: Minute, all: f64, due: f64) -> f64 {
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
        all
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

    pub(super) fn note(&mut self, measured: Measured, from: Minute, until: Minute) {
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
}

/// By how many nats an error speaks for one exposure rather than for another: Poisson, tempered by
/// how it goes its own way, and by how likely it is that it follows the requests at all.
pub(super) fn says(voice: &Voice, reported: f64, before: f64) -> f64 {
    let (by_report, as_before) = (voice.due * reported, voice.due * before);
    if by_report <= 0.0 || as_before <= 0.0 {
        return 0.0;
    }
    let nats = voice.seen * (by_report / as_before).ln() - (by_report - as_before);
    let nats = (nats / (1.0 + OWN_WAY * by_report.max(as_before))).min(MOST_SAID);
    // One that keeps to the clock comes as before, whatever traffic does.
    (voice.follows * nats.exp() + 1.0 - voice.follows).ln().max(-MOST_SAID)
}
