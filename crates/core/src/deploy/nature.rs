//! How an error behaves, learnt from its past: whether it follows the requests, how it scatters,
//! between which deploys it was gone.

use super::event::Minute;
use super::series::{Sums, span};
use super::traffic::Traffic;

/// Share of errors whose rate follows the requests, as long as nothing is known of one.
const FOLLOWS: f64 = 0.88;
/// Occurrences below which nothing is known of that.
const FEW: f64 = 5.0;
/// Relative variance of minutes and of hours among errors: its mean, and its standard deviation.
const FAST: (f64, f64) = (0.11, 0.07);
const SLOW: (f64, f64) = (0.005, 0.0045);
/// How many errors what is usual elsewhere counts for, against those of a service.
const ELSEWHERE: f64 = 4.0;
/// Between what the relative variance of hours and of minutes lies: no rate is quite steady.
const SLOW_WITHIN: (f64, f64) = (0.0015, 0.05);
const FAST_WITHIN: (f64, f64) = (0.02, 0.5);
/// The latest minutes are no part of what scatter is learnt from: a rise may be going on in them.
const LATEST: Minute = 180;
/// Occurrences due of a version from which on it tells whether an error is gone in it, and the
/// share of them that is left then.
const GONE_OF: f64 = 8.0;
const GONE_SHARE: f64 = 0.15;
const DAY: Minute = 1_440;
const HOUR: Minute = 60;

/// How an error behaves.
#[derive(Clone, Copy, Debug)]
pub(super) struct Nature {
    /// How likely it is that its rate follows the requests rather than the clock.
    pub follows: f64,
    /// Relative variance of its slow changes.
    pub slow: f64,
    /// Relative variance of single minutes.
    pub fast: f64,
    /// The relative variance of its hours as it was seen, and how well its counts tell it.
    seen: Scatter,
}

impl Default for Nature {
    fn default() -> Self {
        Self {
            follows: FOLLOWS,
            slow: SLOW.0,
            fast: FAST.0,
            seen: Scatter::default(),
        }
    }
}

/// A relative variance beyond chance, and its weight against what is usual among errors.
#[derive(Clone, Copy, Debug, Default)]
struct Scatter {
    variance: f64,
    weight: f64,
}

impl Scatter {
    /// What was seen, held to what is usual by how well it is known.
    fn against(self, usual: f64) -> f64 {
        (self.variance * self.weight + usual) / (self.weight + 1.0)
    }
}

/// The relative variance of hours that is usual among the errors of a service: what theirs tell,
/// and what is usual elsewhere.
pub(super) fn usual_slow<'a>(natures: impl Iterator<Item = &'a Nature>) -> f64 {
    let (mut sum, mut all) = (SLOW.0 * ELSEWHERE, ELSEWHERE);
    for seen in natures.map(|nature| nature.seen) {
        // However well it is known, it is one error.
        let weight = seen.weight / (seen.weight + 1.0);
        sum += weight * seen.variance.clamp(0.0, SLOW_WITHIN.1);
        all += weight;
    }
    sum / all
}

/// The past of an error that its nature is learnt from.
#[derive(Clone, Copy)]
pub(super) struct Past<'p> {
    /// Its occurrences by the minute.
    pub counts: &'p Sums,
    /// The traffic of its service.
    pub traffic: &'p Traffic,
    /// Whether some of a time is no part of its usual past.
    pub is_left_out: &'p dyn Fn(Minute, Minute) -> bool,
}

impl Nature {
    /// Learns it from a time. `usual_slow`: the relative variance of hours that is usual among the
    /// errors of its service.
    pub fn of(past: Past<'_>, (from, until): (Minute, Minute), usual_slow: f64) -> Self {
        let follows = follows(past, from, until);
        let until = (until - LATEST).max(from);
        let of_minutes = scatter(past, follows, (from.max(until - DAY), until), 1, FAST).against(FAST.0);
        let seen = scatter(past, follows, (from, until), HOUR, (usual_slow, SLOW.1));
        let of_hours = seen.against(usual_slow);
        // Where no requests are reported, what stands in for them is itself uncertain.
        let unsure = if past.traffic.reports(until) {
            0.0
        } else {
            past.traffic.course.doubt(until)
        };
        let slow = (of_hours - of_minutes / span(0, HOUR)).clamp(SLOW_WITHIN.0, SLOW_WITHIN.1) + unsure;
        Self {
            follows,
            slow,
            seen,
            fast: (of_minutes - slow).clamp(FAST_WITHIN.0, FAST_WITHIN.1),
        }
    }

    /// The relative variance of the rate over so many minutes: single minutes level out, slow changes only over hours.
    pub fn over(self, minutes: Minute) -> f64 {
        let hours = span(0, minutes).max(60.0) / 60.0;
        self.slow / hours.sqrt().sqrt() + self.fast / span(0, minutes).max(1.0)
    }

    /// How much an occurrence tells of how busy a service is: the more of them a minute has, the
    /// less, since all of an hour scatter together; and the less, the less the error follows the
    /// requests.
    pub fn weight(self, usual: f64) -> f64 {
        self.follows / (1.0 + span(0, HOUR) * SLOW.0 * usual)
    }
}

/// Between which deploys an error was gone: versions without it tell nothing of how often the others have it.
pub(super) fn gone(
    sums: &Sums,
    traffic: &Traffic,
    deploys: impl Iterator<Item = Minute> + Clone,
    (from, until): (Minute, Minute),
) -> Vec<(Minute, Minute)> {
    let (all, past) = (
        sums.between(from, until),
        traffic.exposure.between(from, until).max(1e-9),
    );
    let ends = deploys.clone().skip(1).filter(|end| *end <= until);
    let is_gone = |(start, end): &(Minute, Minute)| {
        let due = all * traffic.exposure.between(*start, *end) / past;
        due >= GONE_OF && sums.between(*start, *end) <= GONE_SHARE * due
    };
    deploys
        .zip(ends)
        .filter(|(_, end)| *end > from)
        .filter(is_gone)
        .collect()
}

/// How likely it is that an error's rate follows the requests rather than the clock, by hours of its past.
fn follows(Past { counts, traffic, .. }: Past<'_>, from: Minute, until: Minute) -> f64 {
    let (all, past) = (counts.between(from, until), traffic.exposure.between(from, until));
    if all < FEW || past <= 0.0 {
        return FOLLOWS;
    }
    let per_hour = all / span(from, until).max(60.0) * 60.0;
    let mut lead = 0.0;
    let mut at = until - HOUR;
    while at >= from {
        let following = all * traffic.exposure.between(at, at + HOUR) / past;
        if following > 0.0 {
            // Poisson likelihoods, tempered by the scatter of an hour.
            let n = counts.between(at, at + HOUR);
            lead += (n * (following / per_hour).ln() - (following - per_hour)) / (1.0 + 0.02 * per_hour);
        }
        at -= HOUR;
    }
    let odds = (lead / 1.5).clamp(-30.0, 30.0).exp() * FOLLOWS / (1.0 - FOLLOWS);
    odds / (1.0 + odds)
}

/// The relative variance of counts over so many minutes beyond chance, with its weight: the less an
/// error occurs, the less its counts tell of it.
fn scatter(
    Past {
        counts,
        traffic,
        is_left_out,
    }: Past<'_>,
    follows: f64,
    (from, until): (Minute, Minute),
    length: Minute,
    (usual, spread): (f64, f64),
) -> Scatter {
    let (all, past) = (counts.between(from, until), traffic.exposure.between(from, until));
    if all < 3.0 || past <= 0.0 {
        return Scatter::default();
    }
    let steady = all * span(0, length) / span(from, until);
    let (mut surplus, mut squares, mut blocks) = (0.0, 0.0, 0.0);
    let mut at = until - length;
    while at >= from {
        if !is_left_out(at, at + length) {
            let due = follows * all * traffic.exposure.between(at, at + length) / past + (1.0 - follows) * steady;
            let off = (counts.between(at, at + length) - due).powi(2);
            // One wild count says little of the usual ones.
            surplus += off.min(16.0 * due * (1.0 + usual * 2.0 * due)) - due;
            squares += due * due;
            blocks += 1.0;
        }
        at -= length;
    }
    if blocks == 0.0 || squares <= 0.0 {
        return Scatter::default();
    }
    // The variance of what one count tells of it, in units of the variance among errors: so many counts is that worth.
    let mean = (squares / blocks).sqrt();
    let worth = 2.0 * ((1.0 / mean + usual) / spread).powi(2);
    Scatter {
        variance: surplus / squares,
        weight: blocks / worth,
    }
}
