//! How strongly counts speak against an unchanged rate.

/// How counts of an error scatter beyond chance: the variance of a count of mean `m` over `n` minutes is
/// `m · (clump + m · (slow + fast / n))`, where `slow` levels out with the fourth root of `n / 60` past an hour.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Dispersion {
    /// Variance over mean of small counts: 1 where each occurrence comes by itself. Clumps of rare errors are compared as incidents.
    pub clump: f64,
    /// Relative variance that does not go away over an hour.
    pub slow: f64,
    /// Relative variance of single minutes.
    pub fast: f64,
}

impl Dispersion {
    /// The factor by which the variance of a count of mean `m` over `n` minutes exceeds `m`.
    #[must_use]
    pub fn factor(&self, m: f64, n: f64) -> f64 {
        self.clump + m * self.of_rate(n)
    }

    /// The relative variance of the rate over `n` minutes: single minutes level out, slow changes only over hours.
    fn of_rate(&self, n: f64) -> f64 {
        self.slow * (60.0 / n.max(60.0)).sqrt().sqrt() + self.fast / n.max(1.0)
    }
}

/// The logarithm of the likelihood ratio, in nats, of a raised rate against the same rate: `count` over an exposure at which
/// `expected` were due, where the expectation itself rests on `basis` occurrences. 0 where there are not more than expected.
///
/// With `T = count + basis` and `p` the share of the exposure that the window has, this is the binomial deviance
/// `count · ln(count / (p·T)) + basis · ln(basis / ((1−p)·T))` (Przyborowski and Wilenski 1940: the conditional comparison of
/// two Poisson rates); for a long basis it becomes `count · ln(count / expected) − (count − expected)`.
///
/// # Example
/// ```
/// use outcrop_core::deploy::rate_evidence;
/// // 12 where 2 were due, known from a long past.
/// assert!((rate_evidence(12.0, 2.0, 1e9) - (12.0 * 6f64.ln() - 10.0)).abs() < 1e-3);
/// // The same from a past of two occurrences says much less.
/// assert!(rate_evidence(12.0, 2.0, 2.0) < 5.0);
/// assert_eq!(rate_evidence(2.0, 3.0, 50.0), 0.0);
/// ```
#[must_use]
pub fn rate_evidence(count: f64, expected: f64, basis: f64) -> f64 {
    if count <= expected || expected <= 0.0 {
        return 0.0;
    }
    let basis = basis.max(0.5);
    // Exposure of the window as a share of both: expected = basis · p / (1 − p).
    let share = expected / (expected + basis);
    let all = count + basis;
    let of_count = count * (count / (share * all)).ln();
    let of_basis = basis * (basis / ((1.0 - share) * all)).ln();
    (of_count + of_basis).max(0.0)
}

/// The same for counts that scatter more than chance: the smaller of two ways to allow for it. One divides by the factor of
/// the variance (quasi-likelihood, Wedderburn 1974); the other takes the rate itself for gamma-distributed, so that counts are
/// negative-binomial with shape `k = 1 / (slow + fast / n)`, less for what is not known of the rate: `count · ln(count / m) − (count + k) · ln((count + k) / (m + k))`.
/// Far above what was due the second is the smaller one, since a large count may be one wild minute.
#[must_use]
pub fn scattered_evidence(count: f64, expected: f64, basis: f64, dispersion: Dispersion, minutes: f64) -> f64 {
    let quasi = rate_evidence(count, expected, basis) / dispersion.factor(expected, minutes);
    let shape = 1.0 / dispersion.of_rate(minutes);
    // What is not known of the rate scatters like the rate itself.
    let shape = 1.0 / (1.0 / shape + 1.0 / basis.max(0.5));
    if count <= expected || expected <= 0.0 {
        return 0.0;
    }
    let gamma = count * (count / expected).ln() - (count + shape) * ((count + shape) / (expected + shape)).ln();
    quasi.min(gamma / dispersion.clump).max(0.0)
}

/// Nats by which incidents are larger than their usual mean size, sizes being geometric: the likelihood ratio of the mean size
/// that was seen against the usual one, for so many occurrences past the first of each incident.
#[must_use]
pub(super) fn size_evidence(incidents: f64, further: f64, size: f64) -> f64 {
    if incidents <= 0.0 || further <= incidents * (size - 1.0) {
        return 0.0;
    }
    let all = incidents + further;
    further * (further / all * size / (size - 1.0)).ln() + incidents * (incidents / all * size).ln()
}
