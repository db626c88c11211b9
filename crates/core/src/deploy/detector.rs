//! Flags, minute by minute.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::event::{Event, FlagKind, FlagLine, Minute};
use super::group::{Group, Nats};
use super::place::{Of, PAST, Place, Told};
use super::series::span;

/// Evidence, in nats, from which on a window that begins with a deploy tells of a surge.
const AFTER_DEPLOY: f64 = 8.2;
/// What is asked for more of a window of one minute, and so much less of longer ones: single minutes are wild.
const BRIEF: f64 = 4.0;
/// Minutes within which most of what a deploy changed shows, and what is asked for more for each hour after that.
const SOON: Minute = 90;
const LATER: f64 = 0.5;
/// The same for a window that begins anywhere: there are many of them.
const ANYWHERE: f64 = 13.7;
/// What is asked for more of windows longer than this.
const DRIFT: f64 = 1.5;
const HOUR: Minute = 60;
/// What both are lowered by while other errors of the service rise as well.
const TOGETHER: f64 = 1.5;
/// The share of a service's flags that may be false: α of [`of_many`].
const FALSE_SHARE: f64 = 0.02;
/// Evidence of other errors of late, above [`HINT`] each, from which on they count as rising together.
const TOGETHER_FROM: f64 = 9.0;
const HINT: f64 = 6.0;
/// Minutes for which evidence is of late.
const LATELY: Minute = 12;
/// Minutes after a deploy for which it is asked what it changed.
const WATCHED: Minute = 180;
/// Lengths of windows that begin anywhere, in minutes.
const WINDOWS: [Minute; 11] = [2, 4, 7, 11, 16, 24, 36, 54, 80, 120, 180];
/// The smallest rise that is worth a flag.
const LEAST_RATIO: f64 = 1.3;
const LEAST_ANYWHERE: f64 = 1.4;
/// Minutes after which a raised rate that did not go back is taken for the usual one.
const SETTLED: Minute = 1_440;

/// Says flags from what it is told, in order of time.
#[derive(Clone, Debug, Default)]
pub struct Detector {
    places: BTreeMap<(String, String), Place>,
    /// Errors that people settled: service and error, with the version.
    settled: HashMap<(String, String), String>,
    /// Which of them were said to have returned, by environment.
    returned: HashSet<(String, String, String)>,
    minute: Option<Minute>,
    /// Errors that occurred in the minute that is being read.
    touched: Vec<(String, String, String)>,
    flags: Vec<FlagLine>,
    ends: Vec<Ended>,
}

/// A surge that is over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ended {
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The error.
    pub group: String,
    /// The minute that it was said at.
    pub said: Minute,
    /// The minute from which on the usual rate holds again.
    pub at: Minute,
}

impl Detector {
    /// Makes an error known that occurred before what will be told: it is not new.
    pub fn know(&mut self, service: &str, environment: &str, error: &str) {
        self.place(service, environment).groups.entry(error.to_owned()).or_default();
    }

    /// Ends the minutes before one; returns the flags that they told of.
    pub fn finish_until(&mut self, minute: Minute) -> Vec<FlagLine> {
        self.reach(minute);
        std::mem::take(&mut self.flags)
    }

    /// Ends the minutes before one, which is the open one from then on.
    fn reach(&mut self, minute: Minute) {
        for passed in self.minute.unwrap_or(minute)..minute {
            self.close(passed);
        }
        self.minute = self.minute.max(Some(minute));
    }

    /// The surges that ended since this was asked last.
    pub fn take_ends(&mut self) -> Vec<Ended> {
        std::mem::take(&mut self.ends)
    }

    /// Takes one event; returns the flags that the minutes before it told of.
    pub fn push(&mut self, event: &Event) -> Vec<FlagLine> {
        let minute = event.minute();
        self.reach(minute);
        self.take(event, minute);
        std::mem::take(&mut self.flags)
    }

    /// Ends the last minute.
    pub fn finish(&mut self) -> Vec<FlagLine> {
        if let Some(minute) = self.minute {
            self.close(minute);
        }
        std::mem::take(&mut self.flags)
    }

    fn place(&mut self, service: &str, environment: &str) -> &mut Place {
        self.places.entry((service.to_owned(), environment.to_owned())).or_default()
    }

    fn take(&mut self, event: &Event, minute: Minute) {
        match event {
            Event::Deploy { ended_at: Some(_), service, environment, .. } => self.place(service, environment).end_canary(),
            Event::Deploy { service, environment, version, share, .. } => {
                let place = self.place(service, environment);
                let version = place.order.see(version);
                place.deploy(minute, version, *share);
            }
            Event::Requests { service, environment, version, count, .. } => {
                let place = self.place(service, environment);
                let version = place.order.see(version);
                #[expect(clippy::cast_precision_loss, reason = "requests of a minute")]
                let count = *count as f64;
                *place.now.entry(version).or_default() += count;
            }
            Event::Errors { service, environment, version, group, count, .. } => {
                self.occur(minute, (service, environment, version, group), *count);
            }
            Event::State { service, group, version, state, .. } => {
                if state == "open" {
                    self.settled.remove(&(service.clone(), group.clone()));
                } else {
                    self.settled.insert((service.clone(), group.clone()), version.clone());
                }
                self.returned.retain(|(of, error, _)| of != service || error != group);
            }
        }
    }

    fn occur(&mut self, minute: Minute, (service, environment, version, error): (&str, &str, &str, &str), count: u64) {
        let settled = self.settled.get(&(service.to_owned(), error.to_owned())).cloned();
        let place = self.place(service, environment);
        let number = place.order.see(version);
        let is_first = !place.groups.contains_key(error);
        let is_young = place.is_young(minute);
        #[expect(clippy::cast_precision_loss, reason = "occurrences of a minute")]
        place.groups.entry(error.to_owned()).or_default().add(minute, number, count as f64);
        let is_back = settled.as_ref().is_some_and(|settled| place.order.is_from_on(number, settled));
        let key = (service.to_owned(), error.to_owned(), environment.to_owned());
        let kind = if is_back && !self.returned.contains(&key) {
            Some(FlagKind::Returned)
        } else if is_first && settled.is_none() && !is_young {
            Some(FlagKind::New)
        } else {
            None
        };
        if let Some(flag) = kind {
            if flag == FlagKind::Returned {
                self.returned.insert(key);
            }
            let place = self.place(service, environment);
            let is_learning = place.is_learning(minute);
            if let Some(group) = place.groups.get_mut(error).filter(|_| !is_learning) {
                // What is new or back has no past to surge against: its rate of the next day becomes that.
                group.begin(minute, minute + SETTLED);
            }
            self.flags.push(FlagLine {
                flag,
                service: service.to_owned(),
                environment: environment.to_owned(),
                group: error.to_owned(),
                version: version.to_owned(),
                at: minute,
                since: minute,
                by_deploy: false,
                count,
                expected: 0.0,
                evidence: 0.0,
                requests: None,
            });
        }
        self.touched.push((service.to_owned(), environment.to_owned(), error.to_owned()));
    }

    fn close(&mut self, minute: Minute) {
        for place in self.places.values_mut() {
            place.close(minute);
            place.look_back(minute, &WINDOWS);
        }
        let mut touched = std::mem::take(&mut self.touched);
        touched.sort_unstable();
        touched.dedup();
        for (service, environment, error) in touched {
            if let Some(place) = self.places.get_mut(&(service.clone(), environment.clone()))
                && let Some(flag) = surge(place, &error, minute)
            {
                self.flags.push(FlagLine { service, environment, group: error, ..flag });
            }
        }
        for ((service, environment), place) in &mut self.places {
            let ended = end_episodes(place, minute).into_iter();
            self.ends.extend(ended.map(|(group, said, at)| Ended {
                service: service.clone(),
                environment: environment.clone(),
                group,
                said,
                at,
            }));
        }
    }
}

/// Evidence from which on a window of this length that begins with a deploy tells of a surge: what a deploy changes shows soon.
fn after_deploy(length: Minute) -> f64 {
    AFTER_DEPLOY + span(SOON, length) / span(0, HOUR) * LATER
}

/// The same of a window that begins anywhere: over hours rates drift by themselves.
fn anywhere(length: Minute) -> f64 {
    if length > HOUR { ANYWHERE + DRIFT } else { ANYWHERE }
}

/// A window with the version that its deploy brought, and by how much it exceeds what is asked of it.
type Lead = (Told, Option<u32>, f64);

/// How many nats more are asked of each of many errors, so that of the flags of a service the same share is false however many errors it has: the
/// e-BH procedure (Wang and Ramdas, "False discovery rate control with e-values", 2022) takes the k-th strongest of K hypotheses where its e-value
/// is K / (α k) or more. What is asked after a deploy is that of 73 errors at α = 0.02: fewer ask for no more. `watched`: K; `strong`: k, this one
/// among them.
fn of_many(watched: usize, strong: usize) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "errors of a service")]
    let share = watched as f64 / strong as f64;
    ((share / FALSE_SHARE).ln() - AFTER_DEPLOY).max(0.0)
}

/// How many errors of a service occurred in its past, and how many have strong evidence of late with this one.
fn many(place: &Place, error: &str, minute: Minute) -> (usize, usize) {
    let watched = place.groups.values().filter(|group| group.events.last().is_some_and(|(at, _, _)| minute - at <= PAST)).count();
    let is_strong =
        |(name, group): &(&String, &Group)| *name != error && minute - group.lately.1 <= LATELY && group.lately.0 >= AFTER_DEPLOY;
    (watched, 1 + place.groups.iter().filter(is_strong).count())
}

/// The window that exceeds most what is asked of it, since a deploy or anywhere; and what all windows told.
fn strongest(place: &Place, group: &Group, minute: Minute) -> (Option<Lead>, Vec<(Minute, Nats)>) {
    let until = minute + 1;
    let mut strongest: Option<Lead> = None;
    let mut consider = |told: &Told, version: Option<u32>, threshold: f64| {
        let least = if version.is_some() { LEAST_RATIO } else { LEAST_ANYWHERE };
        if told.count <= least * told.expected {
            return;
        }
        let hurdle = group.hurdle(until - told.from, minute, told.clumps);
        let threshold = threshold + BRIEF / span(told.from, until);
        let lead = (told.nats.of(told.clumps) - hurdle).min(told.evidence() - threshold);
        if strongest.as_ref().is_none_or(|(_, _, best)| lead > *best) {
            strongest = Some((*told, version, lead));
        }
    };
    // A window that reaches into a surge that is over tells of that one.
    let calm = group.calm_since();
    for deploy in place.deploys.iter().rev().take_while(|deploy| minute - deploy.at <= WATCHED && deploy.at >= calm) {
        for of in [Of::Deploy, Of::Version(deploy.version)] {
            if let Some(told) = place.told(group, deploy.at, until, of) {
                consider(&told, Some(deploy.version), after_deploy(until - deploy.at));
            }
        }
    }
    let mut records = vec![];
    for window in WINDOWS.into_iter().filter(|window| until - window >= calm) {
        if let Some(told) = place.told(group, until - window, until, Of::Anywhere) {
            consider(&told, None, anywhere(window));
            records.push((window, told.nats));
        }
    }
    (strongest, records)
}

/// Whether an error surges, by the end of a minute in which it occurred.
fn surge(place: &mut Place, error: &str, minute: Minute) -> Option<FlagLine> {
    let until = minute + 1;
    place.learn(error, minute);
    let group = place.groups.get(error)?;
    let quiet_until = group.quiet_until;
    if group.episode.is_some() {
        let told =
            WINDOWS.iter().filter_map(|window| place.told(group, until - window, until, Of::Anywhere)).map(|told| told.nats.by_count);
        let most = told.fold(0.0, f64::max);
        if let Some(episode) = place.groups.get_mut(error).and_then(|group| group.episode.as_mut()) {
            episode.evidence = episode.evidence.max(most);
        }
        return None;
    }
    let (strongest, records) = strongest(place, group, minute);
    if let Some(group) = place.groups.get_mut(error) {
        for (window, nats) in records {
            group.record(window, minute, nats);
        }
    }
    let (told, version, lead) = strongest.filter(|_| minute >= quiet_until && !place.is_learning(minute))?;
    let others: f64 = place
        .groups
        .iter()
        .filter(|(name, other)| *name != error && minute - other.lately.1 <= LATELY)
        .map(|(_, other)| (other.lately.0 - HINT).max(0.0))
        .sum();
    let (watched, strong) = many(place, error, minute);
    let group = place.groups.get(error)?;
    let running = group.events.last().map(|(_, version, _)| *version).unwrap_or_default();
    let group = place.groups.get_mut(error)?;
    group.lately = (told.evidence(), minute);
    let lead = if others >= TOGETHER_FROM { lead + TOGETHER } else { lead } - of_many(watched, strong);
    if lead < 0.0 {
        return None;
    }
    group.open(&told, minute, version.is_some());
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts of some hours")]
    Some(FlagLine {
        flag: FlagKind::Surging,
        service: String::new(),
        environment: String::new(),
        group: String::new(),
        version: place.order.label(version.unwrap_or(running)).to_owned(),
        at: minute,
        since: told.from,
        by_deploy: version.is_some(),
        count: told.count as u64,
        expected: told.expected,
        evidence: told.evidence(),
        requests: Some(place.exposure.between(told.from, until) as u64),
    })
}

/// Ends raised rates that went back to what was usual, and takes those for usual that did not within a day.
fn end_episodes(place: &mut Place, minute: Minute) -> Vec<(String, Minute, Minute)> {
    let mut ended = vec![];
    if minute % 5 != 0 {
        return ended;
    }
    let open: Vec<String> = place.groups.iter().filter(|(_, group)| group.episode.is_some()).map(|(name, _)| name.clone()).collect();
    for name in open {
        let Some(group) = place.groups.get(&name) else { continue };
        let Some(episode) = group.episode.clone() else { continue };
        let is_settled = minute - episode.said >= SETTLED;
        let mut is_over = None;
        if !is_settled {
            for length in [15, 30, 60, 120, 240] {
                let from = minute + 1 - length;
                if from <= episode.said {
                    break;
                }
                let due = place.due(group, episode.since, length, (place.exposure.between(from, minute + 1), 1.0), false);
                let count = group.counts.between(from, minute + 1);
                let raised = due.expected * episode.ratio;
                // Nats by which the usual rate explains the window better than the raised one.
                let lead = (raised - due.expected) - count * episode.ratio.ln();
                #[expect(clippy::cast_precision_loss, reason = "minutes of some hours")]
                if lead / due.dispersion.factor(due.expected, length as f64) > 4.0 {
                    is_over = Some(from);
                    break;
                }
            }
        }
        let Some(group) = place.groups.get_mut(&name) else { continue };
        if is_settled {
            group.settle_down();
            ended.push((name, episode.said, minute));
        } else if let Some(from) = is_over {
            group.end(from);
            ended.push((name, episode.said, from));
        }
    }
    ended
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_errors_are_asked_for_as_much_more_as_there_are_more_of_them() {
        assert!(of_many(1, 1) < f64::EPSILON && of_many(72, 1) < f64::EPSILON, "few ask for no more");
        // Ten times as many: ln 10 more. Ten strong ones among them: no more than one among a tenth.
        assert!((of_many(7_300, 1) - of_many(730, 1) - 10.0_f64.ln()).abs() < 1e-9);
        assert!((of_many(7_300, 10) - of_many(730, 1)).abs() < 1e-9);
        // The e-value that is asked for of the k-th of K is K / (α k).
        let asked = (AFTER_DEPLOY + of_many(1_000, 4)).exp();
        assert!((asked / (1_000.0 / (FALSE_SHARE * 4.0)) - 1.0).abs() < 1e-9, "{asked}");
    }
}
