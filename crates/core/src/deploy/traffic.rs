//! How busy a service is: its requests by version, or what stands in for them.

use std::collections::{BTreeMap, HashMap};

use super::course::{Course, Voice, heard};
use super::event::Minute;
use super::measure::Measure;
use super::series::Sums;
use crate::deploy::versions::Versions;

/// Minutes without a report after which a service counts as one that reports no requests.
const REPORTED: Minute = 2_880;
/// Occurrences that tell at most, by the version that they are of.
const MOST_SPLIT: f64 = 300.0;
/// Occurrences that what is announced of the versions' shares weighs as: of a canary, and of a
/// deploy that may roll on for some time.
const CANARY_WEIGHT: f64 = 60.0;
const ANNOUNCED_WEIGHT: f64 = 2.0;
/// Occurrences of an error in a minute that count towards its version, at most; and the share that
/// is kept from minute to minute.
const MOST_MIXED: f64 = 3.0;
const MIX_KEPT: f64 = 0.85;
/// The smallest share of a version that is reckoned with.
const LEAST_SHARE: f64 = 0.01;
/// Minutes by which it is told how today stands to the course of the days: the fewest in which so
/// many occurrences are due, or the longest.
const LENGTHS: [Minute; 3] = [20, 40, 80];
const LONGEST: Minute = 120;
const ENOUGH: f64 = 150.0;
/// Occurrences due of an error in them from which on it is heard by itself.
const LEAST_VOICE: f64 = 3.0;
const HOUR: Minute = 60;
/// Standard deviations, and occurrences besides, by which errors contradict the shares of versions that are reported.
const CONTRADICTS: f64 = 3.5;
const LEAST_CONTRADICTING: f64 = 3.0;
/// Occurrences of a version or of the others that errors must have to confirm shares; the variance
/// of the logarithm of the odds of those that nothing confirms, and of those that are not known.
const LEAST_CONFIRMING: f64 = 5.0;
const UNCONFIRMED: f64 = 0.1;
const UNKNOWN: f64 = 1e6;
/// Minutes after a deploy in which its version may still be rolling out.
const ROLLOUT: Minute = 45;
/// The share from which on a version runs alone.
const WHOLE: f64 = 0.98;

/// An error that tells how busy its service is.
pub(super) struct Telling<'a> {
    pub counts: &'a Sums,
    /// What is usual of it in a minute, at an activity of 1.
    pub usual: f64,
    pub weight: f64,
}

/// Of how many occurrences of late, over several errors, a version's are; without the error that has most of them.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Split {
    pub of_version: f64,
    pub all: f64,
}

impl Split {
    /// Whether they are hardly by chance so many where the version has a share of the requests.
    fn contradicts(self, share: f64) -> bool {
        let due = self.all * share;
        self.of_version > due + CONTRADICTS * (due * (1.0 - share)).sqrt() + LEAST_CONTRADICTING
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Traffic {
    /// What errors were exposed to per minute, as far as is known: requests, or what stands in for them.
    pub exposure: Sums,
    /// What they were exposed to at most, by what may be: a rise is held against that.
    pub most: Sums,
    /// Requests per minute as far as is known, whether errors were heard of or not.
    requests: Sums,
    /// How the requests are measured.
    pub measure: Measure,
    by_version: HashMap<u32, Sums>,
    /// Minutes for which requests were reported.
    reported: Sums,
    /// How busy it is where no requests are reported.
    pub course: Course,
    /// Requests of the minute that is being read, by version.
    now: BTreeMap<u32, f64>,
    last_shares: Vec<(u32, f64)>,
    /// The minute that these are of.
    last_report: Minute,
    /// Which versions run by what was announced, with their shares: what there is where no requests are reported.
    announced: Vec<(u32, f64)>,
    main: Option<u32>,
    /// Occurrences of late by version.
    mix: BTreeMap<u32, f64>,
    /// The variance of the logarithm of the odds of the versions' shares in a minute, beyond what counts tell.
    unsplit: Sums,
}

impl Traffic {
    /// Whether requests are reported at all, of late.
    pub fn reports(&self, minute: Minute) -> bool {
        self.reported.between(minute - REPORTED, minute) > 0.0
    }

    /// A version is put in; as a canary, with a share of the traffic beside the one that runs.
    pub fn deploy(&mut self, minute: Minute, version: u32, share: Option<f64>) {
        self.measure.deploy(minute, version);
        match (share, self.main) {
            (Some(share), Some(main)) if main != version => {
                self.announced = vec![(main, 1.0 - share), (version, share)];
            }
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

    /// Counts requests of the minute that is being read.
    pub fn request(&mut self, version: u32, count: f64) {
        *self.now.entry(version).or_default() += count;
    }

    /// Counts occurrences of the minute that is being read towards the version that they are of.
    pub fn occur(&mut self, version: u32, count: f64) {
        *self.mix.entry(version).or_default() += count.min(MOST_MIXED);
    }

    /// Ends a minute; returns the requests that were reported of it.
    pub fn report(&mut self, minute: Minute) -> BTreeMap<u32, f64> {
        for seen in self.mix.values_mut() {
            *seen *= MIX_KEPT;
        }
        let mut report = std::mem::take(&mut self.now);
        report.retain(|_, count| *count > 0.0);
        if !report.is_empty() {
            self.reported.add(minute, 1.0);
        }
        report
    }

    /// Ends a minute of a service that reports requests. `voices`: what each error that tells how
    /// busy the service is had since a minute, and what is due of it at an exposure of 1.
    pub fn close(
        &mut self,
        (minute, first): (Minute, Minute),
        report: &BTreeMap<u32, f64>,
        voices: impl Fn(&Sums, Minute) -> Vec<Voice>,
        split: impl Fn(u32) -> Split,
    ) {
        let counts = self.measure.corrected(report);
        let (all, counted) = (counts.values().sum::<f64>(), report.values().sum::<f64>());
        let due = self.measure.due(&self.requests, minute, first);
        let reading = self.measure.read(&self.requests, (minute, first), all, counted, due);
        let mut most = reading.most;
        if counted <= 0.0 && most > 0.0 {
            let since = self.measure.heard_since(minute);
            let exposed = self.requests.between(since, minute) + reading.requests.max(most);
            let mut voices: Vec<Voice> = voices(&self.exposure, since)
                .into_iter()
                .map(|voice| Voice {
                    due: voice.due * exposed,
                    ..voice
                })
                .collect();
            most *= heard(&mut voices).max(1.0);
        }
        self.requests.add(minute, reading.requests);
        self.exposure.add(minute, reading.requests);
        self.most.add(minute, most);
        if all > 0.0 {
            self.last_shares = counts
                .into_iter()
                .map(|(version, count)| (version, count / all))
                .collect();
            self.last_report = minute;
        }
        for (version, share) in self.shares(minute, split) {
            self.by_version
                .entry(version)
                .or_default()
                .add(minute, reading.requests * share);
        }
        let mixed = || mixed(&self.mix, &self.announced);
        let known = self
            .measure
            .decide((minute, first), &self.requests, report, mixed, |since| {
                voices(&self.exposure, since)
            });
        self.rewrite(&known);
    }

    /// Some of the latest minutes tell nothing of errors: none were heard of.
    pub fn unhear(&mut self, from: Minute, until: Minute) {
        let nothing: Vec<(Minute, f64)> = (from..until).map(|minute| (minute, 0.0)).collect();
        for sums in self
            .by_version
            .values_mut()
            .filter(|sums| sums.between(from, Minute::MAX) > 0.0)
        {
            sums.replace(&nothing);
        }
        self.exposure.replace(&nothing);
        self.most.replace(&nothing);
    }

    /// In the latest minute all errors occurred so many times as often as requests explain.
    pub fn pile_up(&mut self, minute: Minute, times: f64) {
        let most = self.most.between(minute, minute + 1) * times;
        self.most.replace(&[(minute, most)]);
    }

    /// The shares of the versions in a minute: as reported, where that is of this minute or of one
    /// since the last deploy, and the errors do not say that more of them are of the deployed
    /// version.
    fn shares(&mut self, minute: Minute, split: impl Fn(u32) -> Split) -> Vec<(u32, f64)> {
        let Some((deployed, version)) = self.measure.deployed else {
            return self.last_shares.clone();
        };
        let share = |shares: &[(u32, f64)]| {
            shares
                .iter()
                .find(|(of, _)| *of == version)
                .map_or(0.0, |(_, share)| *share)
        };
        let reported = share(&self.last_shares);
        let is_late = self.measure.is_late(minute, deployed);
        let is_known = !is_late && (self.last_report == minute || self.last_report > deployed + ROLLOUT);
        let said = if is_known && reported < WHOLE && minute - deployed <= HOUR {
            Some(split(version))
        } else {
            None
        };
        if is_known && (reported >= 0.5 || !said.is_some_and(|said| said.contradicts(reported))) {
            let is_confirmed = match said {
                None => true,
                Some(_) if self.announced.len() > 1 => (reported / share(&self.announced)).ln().abs() < 2.0_f64.ln(),
                Some(said) => said.all * reported.min(1.0 - reported) >= LEAST_CONFIRMING,
            };
            self.unsplit.add(minute, if is_confirmed { 0.0 } else { UNCONFIRMED });
            return self.last_shares.clone();
        }
        let is_split = self.announced.len() > 1 && !is_late;
        self.unsplit.add(minute, if is_split { 0.0 } else { UNKNOWN });
        mixed(&self.mix, &self.announced)
    }

    /// Puts what is known now of the latest minutes in place of what was supposed of them.
    fn rewrite(&mut self, known: &[(Minute, f64)]) {
        let Some((first, _)) = known.first() else { return };
        for sums in self
            .by_version
            .values_mut()
            .filter(|sums| sums.between(*first, Minute::MAX) > 0.0)
        {
            let scaled: Vec<(Minute, f64)> = known
                .iter()
                .map(|(minute, requests)| {
                    let before = self.requests.between(*minute, minute + 1);
                    let of = sums.between(*minute, minute + 1);
                    (*minute, if before > 0.0 { of / before * requests } else { 0.0 })
                })
                .collect();
            sums.replace(&scaled);
        }
        self.requests.replace(known);
        self.exposure.replace(known);
        self.most.replace(known);
    }

    /// Ends a minute for which none were reported, by what stands in for them.
    pub fn close_by(&mut self, minute: Minute, estimate: f64) {
        self.requests.add(minute, estimate);
        self.exposure.add(minute, estimate);
        self.most.add(minute, estimate);
        let shares = if self.last_shares.is_empty() {
            let is_canary = self.announced.len() > 1;
            self.unsplit.add(minute, if is_canary { 0.0 } else { UNKNOWN });
            mixed(&self.mix, &self.announced)
        } else {
            self.last_shares.clone()
        };
        for (version, share) in shares {
            self.by_version
                .entry(version)
                .or_default()
                .add(minute, estimate * share);
        }
    }

    /// The exposure of some versions.
    pub fn of(&self, versions: Versions, from: Minute, until: Minute) -> f64 {
        self.by_version
            .iter()
            .filter(|(version, _)| versions.has(**version))
            .map(|(_, sums)| sums.between(from, until))
            .sum()
    }

    /// How much it tells, from 0 to 1, which versions so many occurrences are of: the shares that
    /// they are held against are known from the requests only, and never quite the same for
    /// requests that fail. The variance of the logarithm of the odds is `1 / (n q (1 − q))` for `n`
    /// occurrences, and the same again for so many requests.
    pub fn split(&self, from: Minute, until: Minute, count: f64) -> f64 {
        let unsure = self.unsplit.between(from, until);
        if unsure >= UNKNOWN {
            return 0.0;
        }
        let known = if self.last_shares.is_empty() {
            0.0
        } else {
            1.0 / self.exposure.between(from, until)
        };
        1.0 / (1.0 + count * (known + 1.0 / MOST_SPLIT + unsure))
    }

    /// How busy a service is that reports no requests: by the course of its days, and by what its errors do of late.
    pub fn activity(&mut self, minute: Minute, first: Minute, telling: &[Telling<'_>]) -> f64 {
        let until = minute + 1;
        // As few of the latest minutes as tell enough: a service may become busier at once.
        let due: f64 = telling.iter().map(|of| of.weight * of.usual).sum();
        let tells = |length: &Minute| due * self.course.says(until - length, until) >= ENOUGH;
        let length = LENGTHS.into_iter().find(tells).unwrap_or(LONGEST);
        let says = self.course.says(until - length, until);
        let voice = |of: &Telling<'_>| Voice {
            seen: of.weight * of.counts.between(until - length, until),
            due: of.weight * of.usual * says,
            follows: 1.0,
        };
        let (loud, faint): (Vec<&Telling<'_>>, Vec<&Telling<'_>>) =
            telling.iter().partition(|of| voice(of).due >= LEAST_VOICE);
        let together = faint
            .iter()
            .map(|of| voice(of))
            .fold(Voice::default(), |all, one| Voice {
                seen: all.seen + one.seen,
                due: all.due + one.due,
                follows: 1.0,
            });
        let mut voices: Vec<Voice> = loud
            .iter()
            .map(|of| voice(of))
            .chain([together])
            .filter(|voice| voice.due > 0.0)
            .collect();
        let height = self.course.hear(&mut voices);
        // What goes its own way tells nothing of the course.
        let (mut seen, mut due) = (0.0, 0.0);
        for of in loud.iter().filter(|of| voice(of).agrees(height)).chain(&faint) {
            seen += of.weight * of.counts.between(minute, until);
            due += of.weight * of.usual;
        }
        self.course.add(minute, seen, due);
        if minute % HOUR == 0 {
            self.course.learn(first, until);
        }
        self.course.at(minute) * height
    }

    /// Takes the course of the first day, now that it is over, for how busy it was.
    pub fn learn_first_day(&mut self, first: Minute, minute: Minute, telling: &[Telling<'_>]) -> Sums {
        self.course = Course::default();
        let due: f64 = telling.iter().map(|of| of.weight * of.usual).sum();
        for at in first..=minute {
            self.course.add(
                at,
                telling.iter().map(|of| of.weight * of.counts.between(at, at + 1)).sum(),
                due,
            );
        }
        self.course.learn(first, minute + 1);
        let mut exposure = Sums::default();
        for at in first..=minute {
            exposure.add(at, self.course.at(at) * self.course.height(at - HOUR, at + HOUR + 1));
        }
        self.most = exposure.clone();
        exposure
    }
}

/// The shares of the versions by what was announced, which weighs as so many occurrences, and by
/// the occurrences of all errors of late.
fn mixed(mix: &BTreeMap<u32, f64>, announced: &[(u32, f64)]) -> Vec<(u32, f64)> {
    let weight = if announced.len() > 1 {
        CANARY_WEIGHT
    } else {
        ANNOUNCED_WEIGHT
    };
    let all = weight + mix.values().sum::<f64>();
    let mut shares: BTreeMap<u32, f64> = mix.iter().map(|(version, seen)| (*version, seen / all)).collect();
    for (version, share) in announced {
        *shares.entry(*version).or_default() += weight * share / all;
    }
    shares.into_iter().filter(|(_, share)| *share > LEAST_SHARE).collect()
}
