//! A rise that is supposed to have begun at some minute, and how much better it explains what came
//! since than the usual rate.

use statrs::function::gamma::ln_gamma;

use super::event::Minute;
use crate::deploy::clumps::Clumps;
use crate::deploy::versions::Versions;

/// How many times the usual rate it may be: evenly by their logarithms, each as likely as the others.
const RATIOS: [f64; 9] = [1.5, 2.0, 2.8, 4.2, 6.8, 12.0, 24.0, 60.0, 160.0];
/// Nats below which a rise by a ratio is given up.
const GIVEN_UP: f64 = -12.0;
/// The share of the exposure from which on a version runs alone: what others still send tells nothing.
const WHOLE: f64 = 0.98;
/// The share that a rate forgets in a minute of where it stood, when it changes slowly: most of it in an hour.
const LOST: f64 = 1.0 / 60.0;
/// The share of a rate's variance that slow changes must have to matter.
const MOVING: f64 = 1e-3;

/// What is usual of a count, by what was known at a minute.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Usual {
    /// Occurrences per unit of exposure.
    pub rate: f64,
    /// Occurrences that this rests on.
    pub basis: f64,
    /// Relative variance of the rate's slow changes.
    pub slow: f64,
    /// Relative variance of single minutes.
    pub fast: f64,
}

impl Usual {
    /// The relative variance of the rate when nothing is known of where it stands.
    fn variance(&self) -> f64 {
        self.slow + 1.0 / self.basis.max(0.5)
    }

    /// What it says of the rate as long as nothing else does.
    pub(super) fn belief(&self) -> Belief {
        let shape = 1.0 / self.variance();
        Belief {
            shape,
            exposure: shape / self.rate.max(1e-12),
        }
    }
}

/// What is believed of a rate: that it is gamma-distributed, as after `shape` occurrences at an exposure.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Belief {
    shape: f64,
    exposure: f64,
}

impl Belief {
    /// The same belief of a rate that is no lower than another: what comes back to what is usual does not rise.
    pub fn at_least(self, rate: f64) -> Self {
        Self {
            exposure: self.exposure.min(self.shape / rate.max(1e-12)),
            ..self
        }
    }

    /// Some minutes go by, in which a rate that moves forgets a share of where it stood: it tends to what is usual.
    fn move_on(&mut self, usual: &Usual, lost: f64) {
        let all = usual.variance();
        let moving = usual.slow / all;
        if moving < MOVING {
            return;
        }
        let (mean, variance) = (self.shape / self.exposure, 1.0 / self.shape);
        let mean = mean + moving * lost * (usual.rate - mean);
        let variance = variance + moving * lost * (2.0 - lost) * (all - variance);
        self.shape = 1.0 / variance;
        self.exposure = self.shape / mean;
    }

    /// The logarithm of the chance of a count at an exposure (without the count's factorial, which
    /// all beliefs share): it is negative-binomial.
    fn chance(&self, count: f64, exposure: f64, usual: &Usual) -> f64 {
        let mean = self.shape / self.exposure * exposure;
        let shape = 1.0 / (1.0 / self.shape + usual.fast);
        let of_none = -shape * (mean / shape).ln_1p();
        if count > 0.0 {
            of_none + rising(shape, count) + count * (mean / (shape + mean)).ln()
        } else {
            of_none
        }
    }

    /// Learns from a count at an exposure; the less, the more single minutes scatter.
    fn learn(&mut self, count: f64, exposure: f64, usual: &Usual) {
        let mean = self.shape / self.exposure * exposure;
        let told = 1.0 / (1.0 + mean * usual.fast);
        self.shape += told * count;
        self.exposure += told * exposure;
    }

    /// Follows the rate over one more minute.
    pub fn follow(&mut self, count: f64, exposure: f64, usual: &Usual) {
        self.move_on(usual, LOST);
        self.learn(count, exposure, usual);
    }
}

/// ln Γ(shape + count) − ln Γ(shape).
fn rising(shape: f64, count: f64) -> f64 {
    if count > 12.0 {
        return ln_gamma(shape + count) - ln_gamma(shape);
    }
    let mut product = 1.0;
    let mut at = 0.0;
    while at < count {
        product *= shape + at;
        at += 1.0;
    }
    product.ln()
}

/// A minute, or some minutes in which nothing occurred.
#[derive(Clone, Copy, Debug)]
pub(super) struct Seen {
    pub minutes: f64,
    pub count: f64,
    pub exposure: f64,
    /// Of these, those of the version that may have risen, and its share of the exposure; none where all may have.
    pub of_version: Option<(f64, f64)>,
    /// How much it tells, from 0 to 1, which of them are of that version.
    pub split: f64,
}

/// How well rises by several ratios explain the counts since a minute, against the usual rate.
#[derive(Clone, Debug)]
pub(super) struct Process {
    usual: Usual,
    unchanged: Belief,
    /// For each ratio what is believed of the rate, and by how many nats it explains more.
    raised: [(Belief, f64); RATIOS.len()],
}

impl Process {
    pub fn new(usual: Usual, belief: Belief) -> Self {
        Self {
            usual,
            unchanged: belief,
            raised: [(belief, 0.0); RATIOS.len()],
        }
    }

    /// What is usual, and what is believed of the rate where it did not change.
    pub fn stands(&self) -> (Usual, Belief) {
        (self.usual, self.unchanged)
    }

    pub fn see(&mut self, seen: &Seen) {
        let usual = &self.usual;
        let lost = if seen.minutes > 1.0 {
            1.0 - (-LOST * seen.minutes).exp()
        } else {
            LOST
        };
        self.unchanged.move_on(usual, lost);
        let unchanged = self.unchanged.chance(seen.count, seen.exposure, usual);
        self.unchanged.learn(seen.count, seen.exposure, usual);
        for ((belief, lead), ratio) in self
            .raised
            .iter_mut()
            .zip(RATIOS)
            .filter(|((_, lead), _)| *lead > GIVEN_UP)
        {
            belief.move_on(usual, lost);
            let times = seen.of_version.map_or(ratio, |(_, share)| 1.0 + (ratio - 1.0) * share);
            *lead += belief.chance(seen.count, seen.exposure * times, usual) - unchanged;
            if let Some((count, share)) = seen.of_version
                && share < WHOLE
            {
                // Which version they are of, given how many: binomial.
                *lead += seen.split * (count * (ratio / times).ln() - (seen.count - count) * times.ln());
            }
            belief.learn(seen.count, seen.exposure * times, usual);
        }
    }

    /// The logarithm of the mean of the likelihood ratios, in nats.
    pub fn nats(&self) -> f64 {
        let most = self.raised.iter().map(|(_, lead)| *lead).fold(f64::MIN, f64::max);
        #[expect(clippy::cast_precision_loss, reason = "a handful")]
        let all = self.raised.len() as f64;
        most + (self.raised.iter().map(|(_, lead)| (lead - most).exp()).sum::<f64>() / all).ln()
    }
}

/// How strongly counts of minutes in a row speak for a rise that began with the first of them, in
/// nats: the logarithm of the likelihood ratio of a rate that is 1.5 to 160 times the usual one,
/// each of nine ratios as likely, against the usual one.
///
/// Under both the rate is gamma-distributed: it rests on `basis` occurrences, moves slowly about
/// what is usual, and single minutes scatter about it, so that each count is negative-binomial
/// given the counts before it. `minutes`: counts with their exposure.
///
/// The likelihood ratio is an e-process (Ville 1939; Ramdas, Grünwald, Vovk and Shafer,
/// "Game-theoretic statistics and safe anytime-valid inference", 2023): if the rate is as usual,
/// the chance that it is ever `1 / α` or more, however often one looks, is at most `α`.
///
/// # Example
/// ```
/// use outcrop_core::deploy::{Usual, rise_evidence};
/// // 2 an hour were usual, known from a long past: an hour with 12 of them.
/// let usual = Usual { rate: 2.0 / 60.0, basis: 1e9, slow: 0.0, fast: 0.0 };
/// let minutes: Vec<(f64, f64)> = (0..60).map(|minute| (f64::from(u8::from(minute % 5 == 0)), 1.0)).collect();
/// // Of the ratios 4.2 and 6.8 explain it best: 12 ln 4.2 − 6.4 and 12 ln 6.8 − 11.6 nats; each of nine is as likely.
/// let of = |ratio: f64| (12.0 * ratio.ln() - 2.0 * (ratio - 1.0)).exp();
/// let ratios = [1.5, 2.0, 2.8, 4.2, 6.8, 12.0, 24.0, 60.0, 160.0];
/// let mean = ratios.map(of).iter().sum::<f64>() / 9.0;
/// assert!((rise_evidence(&usual, &minutes) - mean.ln()).abs() < 1e-3);
/// // The same from a past of two occurrences says much less.
/// assert!(rise_evidence(&Usual { basis: 2.0, ..usual }, &minutes) < 5.0);
/// ```
#[must_use]
pub fn rise_evidence(usual: &Usual, minutes: &[(f64, f64)]) -> f64 {
    let mut process = Process::new(*usual, usual.belief());
    for (count, exposure) in minutes {
        process.see(&Seen {
            minutes: 1.0,
            count: *count,
            exposure: *exposure,
            of_version: None,
            split: 0.0,
        });
    }
    process.nats()
}

/// A rise since a minute, by occurrences and by incidents.
#[derive(Clone, Debug)]
pub(super) struct Rise {
    pub since: Minute,
    /// The versions that have risen; none where all have.
    pub versions: Option<Versions>,
    /// How the error's occurrences came before.
    pub clumps: Clumps,
    /// The first minute that was not seen yet.
    pub until: Minute,
    pub by_count: Process,
    /// For an error whose occurrences come in clumps.
    pub by_incident: Option<Process>,
    /// The usual mean size of incidents.
    pub size: f64,
    /// How likely it is that the rate follows the requests, and the mean exposure of its past.
    pub follows: f64,
    pub mean_exposure: f64,
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A count by chance, as it is believed to come: the first at which the summed chances pass an even number.
    fn draw(process: &Process, chance: &mut u64) -> f64 {
        *chance = chance
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let even = f64::from(u32::try_from(*chance >> 32).unwrap_or_default()) / f64::from(u32::MAX);
        let (usual, mut belief) = process.stands();
        belief.move_on(&usual, LOST);
        let (mut count, mut factorial, mut passed) = (0.0, 0.0_f64, 0.0);
        loop {
            passed += (belief.chance(count, 1.0, &usual) - factorial).exp();
            if passed >= even || count > 10_000.0 {
                return count;
            }
            count += 1.0;
            factorial += count.ln();
        }
    }

    /// Ville's inequality: with a rate as usual the evidence is hardly ever, at any minute, what
    /// would be a surge once in twenty.
    #[test]
    fn looking_every_minute_costs_no_false_alarms() {
        const RUNS: u32 = 1_500;
        let mut chance = 7;
        for usual in [
            Usual {
                rate: 0.02,
                basis: 6.0,
                slow: 0.0,
                fast: 0.0,
            },
            Usual {
                rate: 0.5,
                basis: 400.0,
                slow: 0.01,
                fast: 0.1,
            },
            Usual {
                rate: 8.0,
                basis: 9_000.0,
                slow: 0.005,
                fast: 0.2,
            },
        ] {
            let mut wrong = 0;
            for _ in 0..RUNS {
                let mut process = Process::new(usual, usual.belief());
                let mut most = f64::MIN;
                for _ in 0..90 {
                    let count = draw(&process, &mut chance);
                    process.see(&Seen {
                        minutes: 1.0,
                        count,
                        exposure: 1.0,
                        of_version: None,
                        split: 0.0,
                    });
                    most = most.max(process.nats());
                }
                wrong += u32::from(most >= 20.0_f64.ln());
            }
            // One in twenty, and three standard deviations of what chance makes of it.
            assert!(
                f64::from(wrong) <= 75.0 + 3.0 * 75.0_f64.sqrt(),
                "{wrong} of {RUNS} at {usual:?}"
            );
            assert!(wrong > 3, "a test that cannot fail: {wrong} at {usual:?}");
        }
    }
}
