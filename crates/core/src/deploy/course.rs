//! How busy a service is that reports no requests, by what its errors together do.

use std::f64::consts::TAU;

use super::event::Minute;
use super::series::{Sums, span};

const DAY: Minute = 1_440;
/// Days that the daily course is learnt from, at most.
const DAYS: Minute = 3;
/// Waves that the daily course is made of: once a day, twice, three times.
const WAVES: usize = 3;
/// Minutes that are read at once when it is learnt.
const BIN: Minute = 10;
/// Minutes whose occurrences tell how well today is known, and the occurrences by which they must outweigh the course.
const LATELY: Minute = 120;
const WEIGHT: f64 = 8.0;
/// The largest share that one error has in what is said of today.
const MOST_SAY: f64 = 0.2;
/// By how many times an error may differ from the others, or by how many standard deviations of
/// chance, and still be heard.
const AGREES: f64 = 1.6;
const BY_CHANCE: f64 = 3.0;
/// The relative variance with which each error goes its own way over some hours.
const OWN_WAY: f64 = 0.02;
/// How many times as much as by the course it may be.
const MOST: f64 = 4.0;
/// Occurrences due below which an error is not heard.
const LEAST_DUE: f64 = 1e-6;
/// The least that a course falls to.
const LEAST: f64 = 0.05;

/// A daily course, as a mean with some waves.
#[derive(Clone, Debug)]
pub(super) struct Course {
    /// What all errors together had, and what was due of them at an activity of 1.
    seen: Sums,
    due: Sums,
    /// The same at the activity that the course says, and that activity.
    anticipated: Sums,
    says: Sums,
    /// How many errors say how today stands to it.
    voices: f64,
    mean: f64,
    waves: [(f64, f64); WAVES],
}

impl Default for Course {
    fn default() -> Self {
        Self {
            seen: Sums::default(),
            due: Sums::default(),
            anticipated: Sums::default(),
            says: Sums::default(),
            voices: 1.0,
            mean: 1.0,
            waves: [(0.0, 0.0); WAVES],
        }
    }
}

impl Course {
    /// Adds what was seen in a minute, the newest one, and what was due of it.
    pub fn add(&mut self, minute: Minute, seen: f64, due: f64) {
        self.seen.add(minute, seen);
        self.due.add(minute, due);
        let at = self.at(minute);
        self.anticipated.add(minute, due * at);
        self.says.add(minute, at);
    }

    /// The activity that the course says, summed over some of the latest minutes.
    pub fn says(&self, from: Minute, until: Minute) -> f64 {
        self.says.between(from, until)
    }

    /// The activity of a time of the day by the course.
    pub fn at(&self, minute: Minute) -> f64 {
        let angle = TAU * span(0, minute.rem_euclid(DAY)) / span(0, DAY);
        let mut at = self.mean;
        let mut wave = 0.0;
        for (cosine, sine) in self.waves {
            wave += 1.0;
            at += cosine * (wave * angle).cos() + sine * (wave * angle).sin();
        }
        at.max(LEAST * self.mean)
    }

    /// How some minutes stand to the course, by all errors.
    pub fn height(&self, from: Minute, until: Minute) -> f64 {
        (self.seen.between(from, until) + WEIGHT) / (self.anticipated.between(from, until) + WEIGHT)
    }

    /// The relative variance of what is said of the activity: by chance, and since each error goes
    /// its own way a little.
    pub fn doubt(&self, until: Minute) -> f64 {
        1.0 / (self.anticipated.between(until - LATELY, until) + WEIGHT) + OWN_WAY / self.voices
    }

    /// How today stands to the course by what several errors say.
    pub fn hear(&mut self, voices: &mut Vec<Voice>) -> f64 {
        let height = heard(voices);
        let total: f64 = voices.iter().map(|voice| voice.due).sum();
        let squares: f64 = voices.iter().map(|voice| voice.due.powi(2)).sum();
        self.voices = if squares > 0.0 { total * total / squares } else { 1.0 };
        height
    }

    /// Learns the course from the whole days before a minute: the coefficients of Fourier's series,
    /// each wave less what chance makes of it.
    pub fn learn(&mut self, first: Minute, until: Minute) {
        let days = ((until - first) / DAY).min(DAYS);
        let from = until - days * DAY;
        let due = self.due.between(from, until);
        if days == 0 || due <= 0.0 {
            return;
        }
        self.mean = self.seen.between(from, until) / due;
        for (wave, times) in self.waves.iter_mut().zip([1.0, 2.0, 3.0]) {
            let (mut cosine, mut sine) = (0.0, 0.0);
            let mut at = from;
            while at < until {
                let angle = times * TAU * (span(0, at.rem_euclid(DAY)) + span(0, BIN) / 2.0) / span(0, DAY);
                let seen = self.seen.between(at, at + BIN) - self.mean * self.due.between(at, at + BIN);
                cosine += seen * angle.cos();
                sine += seen * angle.sin();
                at += BIN;
            }
            let (cosine, sine) = (2.0 * cosine / due, 2.0 * sine / due);
            // Chance alone makes a wave of this height: each coefficient has the variance 2 · mean / due.
            let chance = 4.0 * self.mean / due;
            let left = (1.0 - chance / (cosine * cosine + sine * sine).max(1e-12)).max(0.0);
            *wave = (cosine * left, sine * left);
        }
        // What is anticipated of the latest minutes is by the course as it is known now.
        let (mut anticipated, mut says) = (Sums::default(), Sums::default());
        for at in until - DAY..until {
            let activity = self.at(at);
            anticipated.add(at, self.due.between(at, at + 1) * activity);
            says.add(at, activity);
        }
        (self.anticipated, self.says) = (anticipated, says);
    }
}

/// By how many times more there is than was due by what several errors say: the mean of their
/// ratios, each with its weight, without those that go their own way: errors that were mended, or
/// rise. No error has more than a fifth of the say. What is left of `voices` are those that were
/// heard, each with what it had to say in `due`.
pub(super) fn heard(voices: &mut Vec<Voice>) -> f64 {
    voices.retain(|voice| voice.due > LEAST_DUE);
    voices.sort_by(|a, b| a.ratio().total_cmp(&b.ratio()));
    let most = voices.iter().map(|voice| voice.due).sum::<f64>() * MOST_SAY;
    let say = |voice: &Voice| voice.due.min(most);
    let all: f64 = voices.iter().map(say).sum();
    let mut passed = 0.0;
    let is_half = |voice: &&Voice| {
        passed += say(voice);
        passed >= all / 2.0
    };
    let Some(median) = voices.iter().find(is_half).map(|voice| voice.ratio()) else {
        return 1.0;
    };
    voices.retain(|voice| voice.agrees(median));
    let said: f64 = voices.iter().map(|voice| say(voice) * voice.ratio()).sum();
    for voice in voices.iter_mut() {
        let (ratio, due) = (voice.ratio(), voice.due.min(most));
        (voice.seen, voice.due) = (ratio * due, due);
    }
    let total: f64 = voices.iter().map(|voice| voice.due).sum();
    ((said + WEIGHT) / (total + WEIGHT)).clamp(1.0 / MOST, MOST)
}

/// What one error, or some rare ones together, had over the latest minutes, and what was due of it
/// by the course; with its weight.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Voice {
    pub seen: f64,
    pub due: f64,
    /// How likely it is that it follows the requests.
    pub follows: f64,
}

impl Voice {
    pub fn ratio(self) -> f64 {
        self.seen / self.due
    }

    /// Whether it says about the same as the others.
    pub fn agrees(self, ratio: f64) -> bool {
        let due = self.due * ratio;
        (due / AGREES..=due * AGREES).contains(&self.seen) || (self.seen - due).abs() <= BY_CHANCE * due.sqrt()
    }
}
