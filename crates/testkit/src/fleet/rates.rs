//! How busy a service is, and how often each of its errors occurs.

use rand::Rng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Exp, Gamma, Normal, Poisson};

use super::{At, DAY};

pub(super) fn log_uniform(chance: &mut ChaCha8Rng, (least, most): (f64, f64)) -> f64 {
    chance.random_range(f64::ln(least)..f64::ln(most)).exp()
}

pub(super) fn normal(chance: &mut ChaCha8Rng, spread: f64) -> f64 {
    Normal::new(0.0, spread.max(1e-12)).expect("a spread").sample(chance)
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "counts of a minute"
)]
pub(super) fn poisson(chance: &mut ChaCha8Rng, mean: f64) -> u64 {
    if mean > 0.0 {
        Poisson::new(mean).expect("a mean").sample(chance) as u64
    } else {
        0
    }
}

pub(super) fn exponential(chance: &mut ChaCha8Rng, rate: f64) -> f64 {
    Exp::new(rate).expect("a rate").sample(chance)
}

/// How busy a service is in each minute, 1 on the whole: a daily course, quieter weekends, and a
/// noise that lasts some 25 minutes.
pub(super) fn activity(chance: &mut ChaCha8Rng, minutes: At, holiday: Option<At>) -> Vec<f64> {
    let (amplitude, peak, weekend) = (
        chance.random_range(0.3..0.75),
        chance.random_range(11.0..19.0),
        chance.random_range(0.5..0.95),
    );
    let noise = chance.random_range(0.03..0.07);
    let kept = (-1.0_f64 / 25.0).exp();
    let mut wander = 0.0;
    (0..minutes)
        .map(|minute| {
            let angle = std::f64::consts::TAU * (to_float(minute % DAY) / 60.0 - peak) / 24.0;
            let course = 1.0 + amplitude * (0.85 * angle.cos() + 0.15 * (2.0 * angle).cos());
            let is_free = minute / DAY % 7 >= 5 || holiday == Some(minute / DAY);
            wander = kept * wander + normal(chance, noise * (1.0 - kept * kept).sqrt());
            (course * if is_free { weekend } else { 1.0 }).max(0.05) * f64::exp(wander)
        })
        .collect()
}

#[expect(clippy::cast_precision_loss, reason = "minutes of some days, and counts of them")]
pub(super) fn to_float(minutes: At) -> f64 {
    minutes as f64
}

/// How an error comes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Way {
    /// With the requests.
    Follows,
    /// By the clock.
    Steady,
    /// In bursts of a nightly job: the minute of the day, the size, and by how many minutes it
    /// moves from night to night.
    Nightly(At, f64, At),
}

/// An error with its true rate.
#[derive(Clone, Debug)]
pub(super) struct Rate {
    pub group: String,
    /// Occurrences a minute at an activity of 1.
    pub usual: f64,
    pub way: Way,
    /// The shape of the gamma distribution that single minutes are scattered by.
    shape: f64,
    /// The standard deviation of its slow changes, and how many minutes they last.
    slow: (f64, f64),
    /// Occurrences of an incident on the whole, of a rare error.
    clump: f64,
    /// A wave of so many days by which it drifts: height and phase.
    pub drift: Option<(f64, f64, f64)>,
    /// Whether something happens to it.
    pub is_used: bool,
    /// Factors over a time, in every version.
    pub factors: Vec<(At, At, f64)>,
    /// Factors by version, from the deploy of the version on.
    pub by_version: Vec<f64>,
}

/// The rates of errors: a weight and the logarithms of the least and the most a minute.
const RATES: [(f64, f64, f64); 5] = [
    (0.45, -4.0, -2.5),
    (0.30, -2.5, -1.0),
    (0.165, -1.0, 0.2),
    (0.075, 0.2, 1.4),
    (0.01, 1.4, 2.7),
];
/// Occurrences a minute below which an error is rare: it comes in clumps.
pub(super) const RARE: f64 = 0.04;

impl Rate {
    pub fn new(chance: &mut ChaCha8Rng, group: String) -> Self {
        let mut at = chance.random::<f64>();
        let range = RATES.iter().find(|(weight, _, _)| {
            at -= weight;
            at <= 0.0
        });
        let (_, least, most) = range.unwrap_or(&RATES[0]);
        let usual = 10_f64.powf(chance.random_range(*least..*most));
        let is_rare = usual < RARE;
        Self {
            group,
            usual,
            way: if chance.random_bool(0.12) {
                Way::Steady
            } else {
                Way::Follows
            },
            shape: log_uniform(chance, (4.0, 40.0)),
            slow: (
                if is_rare { 0.0 } else { chance.random_range(0.0..0.12) },
                chance.random_range(20.0..90.0),
            ),
            clump: if is_rare {
                [1.0, 1.0, 1.0, 1.5, 2.0][chance.random_range(0..5)]
            } else {
                1.0
            },
            drift: None,
            is_used: false,
            factors: vec![],
            by_version: vec![],
        }
    }

    /// What is usual of it in a minute at an activity.
    pub fn usual_at(&self, minute: At, activity: f64) -> f64 {
        let drift = self.drift.map_or(1.0, |(days, height, phase)| {
            (height * (std::f64::consts::TAU * to_float(minute) / (days * to_float(DAY)) + phase).sin()).exp()
        });
        let busy = if self.way == Way::Follows { activity } else { 1.0 };
        self.usual * busy * drift
    }

    /// By how many times more its counts over some minutes scatter than by chance: `mean` is what is due in them.
    pub fn scatter(&self, mean: f64, minutes: At) -> f64 {
        let clumped = 2.0 * self.clump - 1.0;
        if self.usual < RARE {
            clumped
        } else {
            clumped + mean / (to_float(minutes) * self.shape) + mean * self.slow.0.powi(2)
        }
    }

    /// Its occurrences: minute, version, count. `shares`: the versions of each minute with their shares.
    pub fn occur(
        &self,
        chance: &mut ChaCha8Rng,
        activity: &[f64],
        shares: &[Vec<(usize, f64)>],
    ) -> Vec<(At, usize, u64)> {
        let mut occurred = vec![];
        let mut slow = 0.0;
        let kept = (-1.0 / self.slow.1).exp();
        let mut bursts: Vec<(At, At, f64)> = vec![];
        for (minute, (busy, versions)) in (0..).zip(activity.iter().zip(shares)) {
            if let Way::Nightly(begins, size, moves) = self.way {
                if minute % DAY == 0 {
                    let begins = minute + begins + chance.random_range(-moves - 2..=moves + 2);
                    let length = chance.random_range(10..45);
                    bursts.push((
                        begins,
                        begins + length,
                        size * chance.random_range(0.7..1.4) / to_float(length),
                    ));
                }
                let rate: f64 = bursts
                    .iter()
                    .filter(|(from, until, _)| (*from..*until).contains(&minute))
                    .map(|(_, _, rate)| rate)
                    .sum();
                occurred.push((minute, versions[0].0, poisson(chance, rate)));
                continue;
            }
            if self.slow.0 > 0.0 {
                slow = kept * slow + normal(chance, self.slow.0 * (1.0 - kept * kept).sqrt());
            }
            let mut rate = self.usual_at(minute, *busy) * f64::exp(slow - self.slow.0.powi(2) / 2.0);
            for (_, _, factor) in self
                .factors
                .iter()
                .filter(|(from, until, _)| (*from..*until).contains(&minute))
            {
                rate *= factor;
            }
            if rate > 0.05 {
                rate *= Gamma::new(self.shape, 1.0 / self.shape)
                    .expect("a shape")
                    .sample(chance);
            }
            for (version, share) in versions {
                let rate = rate * share * self.by_version.get(*version).copied().unwrap_or(1.0);
                let mut count = poisson(chance, rate / self.clump);
                // Geometric sizes: of each occurrence of an incident another comes.
                let mut further = count;
                while self.clump > 1.0 && further > 0 {
                    further = (0..further)
                        .filter(|_| chance.random_bool(1.0 - 1.0 / self.clump))
                        .count() as u64;
                    count += further;
                }
                occurred.push((minute, *version, count));
            }
        }
        occurred.retain(|(_, _, count)| *count > 0);
        occurred
    }
}
