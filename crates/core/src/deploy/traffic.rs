//! How busy a service is: its requests by version, or what stands in for them.

use std::collections::{BTreeMap, HashMap};

use super::course::{Course, Voice};
use super::event::Minute;
use super::rise::Versions;
use super::series::Sums;

/// Minutes without a report after which a service counts as one that reports no requests.
const REPORTED: Minute = 2_880;
/// Occurrences that tell at most, by the version that they are of.
const MOST_SPLIT: f64 = 300.0;
/// Occurrences that what is announced of the versions' shares weighs as: of a canary, and of a deploy that may roll on for some time.
const CANARY_WEIGHT: f64 = 60.0;
const ANNOUNCED_WEIGHT: f64 = 2.0;
/// Occurrences of an error in a minute that count towards its version, at most; and the share that is kept from minute to minute.
const MOST_MIXED: f64 = 3.0;
const MIX_KEPT: f64 = 0.85;
/// The smallest share of a version that is reckoned with.
const LEAST_SHARE: f64 = 0.01;
/// Minutes by which it is told how today stands to the course of the days: the fewest in which so many occurrences are due, or the longest.
const LENGTHS: [Minute; 3] = [20, 40, 80];
const LONGEST: Minute = 120;
const ENOUGH: f64 = 150.0;
/// Occurrences due of an error in them from which on it is heard by itself.
const LEAST_VOICE: f64 = 3.0;
const DAY: Minute = 1_440;
const HOUR: Minute = 60;

/// An error that tells how busy its service is.
pub(super) struct Telling<'a> {
    pub counts: &'a Sums,
    /// What is usual of it in a minute, at an activity of 1.
    pub usual: f64,
    pub weight: f64,
}

#[derive(Clone, Debug, Default)]
pub(super) struct Traffic {
    /// Requests, or what stands in for them, per minute.
    pub exposure: Sums,
    by_version: HashMap<u32, Sums>,
    /// Minutes for which requests were reported.
    reported: Sums,
    /// How busy it is where no requests are reported.
    pub course: Course,
    /// Requests of the minute that is being read, by version.
    now: BTreeMap<u32, f64>,
    last_shares: Vec<(u32, f64)>,
    /// Which versions run by what was announced, with their shares: what there is where no requests are reported.
    announced: Vec<(u32, f64)>,
    main: Option<u32>,
    /// Occurrences of late by version.
    mix: BTreeMap<u32, f64>,
    /// Minutes in which the shares of the versions are not known.
    unsplit: Sums,
}

impl Traffic {
    /// Whether requests are reported at all, of late.
    pub fn reports(&self, minute: Minute) -> bool {
        self.reported.between(minute - REPORTED, minute) > 0.0
    }

    /// A version is put in; as a canary, with a share of the traffic beside the one that runs.
    pub fn deploy(&mut self, version: u32, share: Option<f64>) {
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

    /// Counts requests of the minute that is being read.
    pub fn request(&mut self, version: u32, count: f64) {
        *self.now.entry(version).or_default() += count;
    }

    /// Counts occurrences of the minute that is being read towards the version that they are of.
    pub fn occur(&mut self, version: u32, count: f64) {
        *self.mix.entry(version).or_default() += count.min(MOST_MIXED);
    }

    /// Ends a minute for which requests were reported; whether they were.
    pub fn close(&mut self, minute: Minute) -> bool {
        for seen in self.mix.values_mut() {
            *seen *= MIX_KEPT;
        }
        let now = std::mem::take(&mut self.now);
        let all: f64 = now.values().sum();
        if all <= 0.0 {
            return false;
        }
        self.exposure.add(minute, all);
        self.reported.add(minute, 1.0);
        for (version, n) in &now {
            self.by_version.entry(*version).or_default().add(minute, *n);
        }
        self.last_shares = now.into_iter().map(|(version, n)| (version, n / all)).collect();
        true
    }

    /// Ends a minute for which none were reported, by what stands in for them.
    pub fn close_by(&mut self, minute: Minute, estimate: f64) {
        self.exposure.add(minute, estimate);
        let shares = if self.last_shares.is_empty() {
            let is_canary = self.announced.len() > 1;
            self.unsplit.add(minute, if is_canary { 0.0 } else { 1.0 });
            self.mixed(if is_canary { CANARY_WEIGHT } else { ANNOUNCED_WEIGHT })
        } else {
            self.last_shares.clone()
        };
        for (version, share) in shares {
            self.by_version.entry(version).or_default().add(minute, estimate * share);
        }
    }

    /// The shares of the versions by what was announced, which weighs as so many occurrences, and by the occurrences of all errors
    /// of late.
    fn mixed(&self, weight: f64) -> Vec<(u32, f64)> {
        let all = weight + self.mix.values().sum::<f64>();
        let mut shares: BTreeMap<u32, f64> = self.mix.iter().map(|(version, seen)| (*version, seen / all)).collect();
        for (version, share) in &self.announced {
            *shares.entry(*version).or_default() += weight * share / all;
        }
        shares.into_iter().filter(|(_, share)| *share > LEAST_SHARE).collect()
    }

    /// The exposure of some versions.
    pub fn of(&self, versions: Versions, from: Minute, until: Minute) -> f64 {
        self.by_version.iter().filter(|(version, _)| versions.has(**version)).map(|(_, sums)| sums.between(from, until)).sum()
    }

    /// How much it tells, from 0 to 1, which versions so many occurrences are of: the shares that they are held against are known
    /// from the requests only, and never quite the same for requests that fail. The variance of the logarithm of the odds is
    /// `1 / (n q (1 − q))` for `n` occurrences, and the same again for so many requests.
    pub fn split(&self, from: Minute, until: Minute, count: f64) -> f64 {
        if self.unsplit.between(from, until) > 0.0 {
            return 0.0;
        }
        let known = if self.last_shares.is_empty() { 0.0 } else { 1.0 / self.exposure.between(from, until) };
        1.0 / (1.0 + count * (known + 1.0 / MOST_SPLIT))
    }

    /// Requests of a minute whose report is missing: as yesterday at this time, times how today stands to yesterday.
    pub fn missing(&self, minute: Minute, first: Minute) -> f64 {
        let lately = self.exposure.between(minute - 30, minute) / 30.0;
        let yesterday = minute - DAY;
        if yesterday - 30 < first {
            return lately;
        }
        let then = self.exposure.between(yesterday - 2, yesterday + 3) / 5.0;
        let before = self.exposure.between(yesterday - 30, yesterday) / 30.0;
        if before > 0.0 { lately * (then / before).clamp(0.5, 2.0) } else { lately }
    }

    /// How busy a service is that reports no requests: by the course of its days, and by what its errors do of late.
    pub fn activity(&mut self, minute: Minute, first: Minute, telling: &[Telling<'_>]) -> f64 {
        let until = minute + 1;
        // As few of the latest minutes as tell enough: a service may become busier at once.
        let due: f64 = telling.iter().map(|of| of.weight * of.usual).sum();
        let tells = |length: &Minute| due * self.course.says(until - length, until) >= ENOUGH;
        let length = LENGTHS.into_iter().find(tells).unwrap_or(LONGEST);
        let says = self.course.says(until - length, until);
        let voice =
            |of: &Telling<'_>| Voice { seen: of.weight * of.counts.between(until - length, until), due: of.weight * of.usual * says };
        let (loud, faint): (Vec<&Telling<'_>>, Vec<&Telling<'_>>) = telling.iter().partition(|of| voice(of).due >= LEAST_VOICE);
        let together =
            faint.iter().map(|of| voice(of)).fold(Voice::default(), |all, one| Voice { seen: all.seen + one.seen, due: all.due + one.due });
        let mut voices: Vec<Voice> = loud.iter().map(|of| voice(of)).chain([together]).filter(|voice| voice.due > 0.0).collect();
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
            self.course.add(at, telling.iter().map(|of| of.weight * of.counts.between(at, at + 1)).sum(), due);
        }
        self.course.learn(first, minute + 1);
        let mut exposure = Sums::default();
        for at in first..=minute {
            exposure.add(at, self.course.at(at) * self.course.height(at - HOUR, at + HOUR + 1));
        }
        exposure
    }
}
