//! One error in one service and environment: its counts, its incidents, its raised rates.

use super::event::Minute;
use super::habits::{Habits, Nats};
use super::nature::Nature;
use super::rise::{Belief, Rise, Seen, Usual};
use super::series::{Sums, span};
use super::traffic::Traffic;
use crate::deploy::clumps::Clumps;
use crate::deploy::versions::Versions;

/// Minutes within which a raised rate that goes back by itself is a burst.
const SHORT: Minute = 90;
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
/// How many times the usual size incidents may have become.
const LARGER: [f64; 2] = [2.5, 8.0];
/// Minutes without an occurrence that are seen at once, at most.
const QUIET: Minute = 15;

/// One error in one service and environment.
#[derive(Clone, Debug, Default)]
pub(super) struct Group {
    pub counts: Sums,
    /// Incidents per minute: occurrences of a version that lie more than some minutes after the
    /// beginning of the one before.
    pub incidents: Sums,
    /// The beginnings of incidents, with their versions; and the latest of each version.
    incident_log: Vec<(Minute, u32)>,
    latest: Vec<(u32, Minute)>,
    /// Minute, version, count, in order of time.
    pub events: Vec<(Minute, u32, f64)>,
    /// Where its rate stands.
    pub standing: Option<Standing>,
    /// Rises that are supposed to have begun of late.
    pub rises: Vec<Rise>,
    pub episode: Option<Episode>,
    /// Until when nothing is said of its rate: it is new, or was back, or was taken for usual.
    pub quiet_until: Minute,
    /// Times that are no part of its usual past.
    excluded: Vec<(Minute, Minute)>,
    /// Times in which a version without it ran.
    pub gone: Vec<(Minute, Minute)>,
    /// Where its present past begins: before, another rate held.
    pub since: Minute,
    /// The strongest evidence of late, and when.
    pub lately: (f64, Minute),
    pub habits: Habits,
    pub nature: Nature,
    pub learnt: Minute,
}

/// Where the rate of an error stands by all minutes before one.
#[derive(Clone, Copy, Debug)]
pub(super) struct Standing {
    pub usual: Usual,
    pub belief: Belief,
    pub until: Minute,
    pub mean_exposure: f64,
}

/// A raised rate that was flagged.
#[derive(Clone, Debug)]
pub(super) struct Episode {
    pub since: Minute,
    pub said: Minute,
    /// How many times the usual rate it was when flagged.
    pub ratio: f64,
    /// The most evidence it had since then, in nats.
    pub evidence: f64,
    /// Whether it began with a deploy.
    pub by_deploy: bool,
}

impl Group {
    pub fn add(&mut self, minute: Minute, version: u32, count: f64) {
        self.counts.add(minute, count);
        let latest = self.latest.iter_mut().find(|(of, _)| *of == version);
        let goes_on = latest.as_ref().is_some_and(|(_, began)| minute - began < INCIDENT);
        if !goes_on {
            match latest {
                Some((_, began)) => *began = minute,
                None => self.latest.push((version, minute)),
            }
            self.incidents.add(minute, 1.0);
            self.incident_log.push((minute, version));
        }
        self.events.push((minute, version, count));
    }

    /// The mean size of its incidents before a minute.
    pub fn size(&self, before: Minute) -> f64 {
        let (counts, incidents) = (
            self.counts.between(Minute::MIN, before),
            self.incidents.between(Minute::MIN, before),
        );
        ((counts + SIZE.0 * SIZE.1) / (incidents + SIZE.1)).max(LEAST_SIZE)
    }

    /// Occurrences of some versions.
    pub fn of_versions(&self, versions: Versions, from: Minute, until: Minute) -> f64 {
        let first = self.events.partition_point(|(minute, _, _)| *minute < from);
        let events = self.events.get(first..).unwrap_or_default();
        events
            .iter()
            .take_while(|(minute, _, _)| *minute < until)
            .filter(|(_, of, _)| versions.has(*of))
            .map(|(_, _, n)| n)
            .sum()
    }

    /// Incidents of some versions.
    fn incidents_of(&self, versions: Versions, from: Minute, until: Minute) -> f64 {
        let first = self.incident_log.partition_point(|(minute, _)| *minute < from);
        let log = self
            .incident_log
            .get(first..)
            .unwrap_or_default()
            .iter()
            .take_while(|(minute, _)| *minute < until);
        #[expect(clippy::cast_precision_loss, reason = "incidents of some hours")]
        let incidents = log.filter(|(_, of)| versions.has(*of)).count() as f64;
        incidents
    }

    /// How its occurrences come.
    pub fn clumps(&self, minute: Minute) -> Clumps {
        let Some((first, _, _)) = self.events.first() else {
            return Clumps::Incidents;
        };
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

    /// What is no part of its past within a time.
    pub fn left_out(&self, from: Minute, until: Minute) -> impl Iterator<Item = (Minute, Minute)> {
        let spans = self.excluded.iter().chain(&self.gone);
        spans
            .map(move |(start, end)| ((*start).max(from), (*end).min(until)))
            .filter(|(start, end)| start < end)
    }

    /// Whether some of a time is no part of its past.
    pub fn is_left_out(&self, from: Minute, until: Minute) -> bool {
        self.left_out(from, until).next().is_some()
    }

    /// Lets a rise see the minutes up to and without one.
    pub fn advance(&self, rise: &mut Rise, until: Minute, traffic: &Traffic) {
        while rise.until < until {
            let minute = rise.until;
            // Minutes without an occurrence are seen at once.
            let next = self
                .events
                .get(self.events.partition_point(|(at, _, _)| *at < minute))
                .map_or(until, |(at, _, _)| *at);
            let end = if next == minute {
                minute + 1
            } else {
                next.min(minute + QUIET).min(until)
            };
            self.see(rise, (minute, end), traffic);
            rise.until = end;
        }
    }

    fn see(&self, rise: &mut Rise, (from, until): (Minute, Minute), traffic: &Traffic) {
        let (all, known) = (traffic.most.between(from, until), traffic.exposure.between(from, until));
        if all <= 0.0 {
            return;
        }
        let share = rise.versions.map(|versions| {
            (
                versions,
                if known > 0.0 {
                    traffic.of(versions, from, until) / known
                } else {
                    1.0
                },
            )
        });
        let count = self.counts.between(from, until);
        let split = traffic.split(from, until, count);
        let seen = Seen {
            minutes: span(from, until),
            count,
            exposure: rise.follows * all + (1.0 - rise.follows) * rise.mean_exposure * span(from, until),
            of_version: share.map(|(versions, share)| (self.of_versions(versions, from, until), share)),
            split,
        };
        rise.by_count.see(&seen);
        let Some(process) = &mut rise.by_incident else { return };
        // While one goes on no other begins.
        let latest = self
            .incident_log
            .partition_point(|(began, _)| *began < from)
            .checked_sub(1)
            .and_then(|at| self.incident_log.get(at));
        let from = latest.map_or(from, |(began, _)| from.max(began + INCIDENT));
        let free = traffic.most.between(from, until);
        if free > 0.0 {
            process.see(&Seen {
                minutes: span(from, until),
                count: self.incidents.between(from, until),
                exposure: rise.follows * free + (1.0 - rise.follows) * rise.mean_exposure * span(from, until),
                of_version: share.map(|(versions, share)| (self.incidents_of(versions, from, until), share)),
                split,
            });
        }
    }

    /// What a rise tells by now.
    pub fn nats(&self, rise: &Rise) -> Nats {
        let by_count = rise.by_count.nats();
        let by_incident = rise.by_incident.as_ref().map_or(by_count, |process| {
            let (from, until) = (rise.since, rise.until);
            let (count, incidents) = match rise.versions {
                Some(versions) => (
                    self.of_versions(versions, from, until),
                    self.incidents_of(versions, from, until),
                ),
                None => (
                    self.counts.between(from, until),
                    self.incidents.between(from, until).max(1.0),
                ),
            };
            if incidents < LEAST_INCIDENTS {
                0.0
            } else {
                process.nats() + size_evidence(incidents, (count - incidents).max(0.0), rise.size)
            }
        });
        Nats { by_count, by_incident }
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
        self.habits.forget();
        self.forget_rises();
    }

    /// Forgets where its rate stands, and what may have begun.
    pub fn forget_rises(&mut self) {
        self.rises.clear();
        self.standing = None;
    }

    /// Ends an episode: it is no part of the usual past.
    pub fn end(&mut self, until: Minute) {
        if let Some(episode) = self.episode.take() {
            if until - episode.since <= SHORT && !episode.by_deploy {
                self.habits.burst(episode.said, episode.evidence);
            }
            self.excluded.push((episode.since, until));
            self.habits.forget_since(episode.since);
            self.forget_rises();
        }
    }

    /// Takes the raised rate for the usual one from now on; nothing is said of it for a while.
    pub fn settle_down(&mut self, quiet_until: Minute) {
        if let Some(episode) = self.episode.take() {
            self.begin(episode.since, quiet_until);
        }
    }
}

/// Nats by which incidents are larger than their usual mean size, sizes being geometric: the
/// logarithm of the mean of the likelihood ratios of the usual mean size (a half) and of larger
/// ones (a quarter each), against the usual one.
fn size_evidence(incidents: f64, further: f64, size: f64) -> f64 {
    let leads =
        LARGER.map(|times| further * ((1.0 - 1.0 / (size * times)) / (1.0 - 1.0 / size)).ln() - incidents * times.ln());
    let most = leads.into_iter().fold(0.0, f64::max);
    most + (0.5 * (-most).exp() + leads.map(|lead| 0.25 * (lead - most).exp()).into_iter().sum::<f64>()).ln()
}
