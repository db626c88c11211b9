//! What is unwell right now: endpoints that fail more, or take longer, than their own past explains.

use statrs::distribution::{Binomial, DiscreteCDF};

use crate::Timestamp;

/// How unlikely a count must be, were nothing wrong, for an endpoint to be called unwell. A page is
/// looked at thousands of times a day over hundreds of endpoints, so one in a million.
const UNLIKELY: f64 = 1e-6;
/// Failed or slow requests below which nothing is said.
const LEAST: u64 = 5;
/// Requests that the past is taken to have had beside its own, one of them failed or slow: a short past proves little.
const PRIOR: (f64, f64) = (1.0, 50.0);
/// The share past which requests are slow for many, not for some, in an endpoint whose slow
/// requests are few by definition.
const SLOW_SHARE: f64 = 0.1;

/// Requests, and how many of them failed or were slow.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Share {
    /// Those that failed, or were slow.
    pub part: u64,
    /// All.
    pub of: u64,
}

impl Share {
    /// The share, 0 to 1; 0 of nothing.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    pub fn share(self) -> f64 {
        if self.of == 0 {
            0.0
        } else {
            self.part as f64 / self.of as f64
        }
    }
}

/// Whether so many requests fail now that the past does not explain it: the binomial probability of
/// as many or more at the past's rate (with one failure in fifty requests added to it) is below one
/// in a million.
///
/// # Example
/// ```
/// use outcrop_core::unwell::{Share, is_failing};
/// let past = Share { part: 20, of: 10_000 };
/// assert!(is_failing(Share { part: 30, of: 200 }, past));
/// assert!(!is_failing(Share { part: 3, of: 200 }, past));
/// assert!(!is_failing(Share { part: 30, of: 200 }, Share { part: 1_400, of: 10_000 }));
/// ```
#[must_use]
pub fn is_failing(now: Share, past: Share) -> bool {
    may_be_failing(now) && chance(now, past) < UNLIKELY
}

/// Whether so many requests lie above their endpoint's threshold that it is slow as a whole: a
/// tenth of them, and more than the past explains. Returns the share.
#[must_use]
pub fn is_slow(now: Share, past: Share) -> Option<f64> {
    (may_be_slow(now) && chance(now, past) < UNLIKELY).then(|| now.share())
}

/// Whether so many requests fail now that it depends on the past whether the endpoint is failing: else no past makes it so.
#[must_use]
pub const fn may_be_failing(now: Share) -> bool {
    now.part >= LEAST
}

/// The same of requests above the threshold.
#[must_use]
pub fn may_be_slow(now: Share) -> bool {
    now.part >= LEAST && now.share() >= SLOW_SHARE
}

/// The beginning of the newest stretch of failing minutes: after it no ten minutes passed without
/// one. Minutes in the order of time; `None` without any.
#[must_use]
pub fn began(failing: &[Timestamp]) -> Option<Timestamp> {
    const QUIET_MS: i64 = 10 * 60_000;
    let last_gap = failing
        .windows(2)
        .rposition(|pair| pair[1].millis() - pair[0].millis() > QUIET_MS);
    failing.get(last_gap.map_or(0, |at| at + 1)).copied()
}

#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn chance(now: Share, past: Share) -> f64 {
    let rate = (past.part as f64 + PRIOR.0) / (past.of as f64 + PRIOR.1);
    let Ok(usual) = Binomial::new(rate.min(1.0), now.of) else {
        return 1.0;
    };
    if now.part == 0 { 1.0 } else { usual.sf(now.part - 1) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn the_chance_is_that_of_the_binomial_distribution() {
        // 5 or more of 10 at a rate of 1/50 (nothing known of the past): 252 · 0.02^5 · 0.98^5 + … = 7.40e-7.
        let found = chance(Share { part: 5, of: 10 }, Share::default());
        assert!((found / 7.402_7e-7 - 1.0).abs() < 0.01, "{found}");
    }

    proptest! {
        #[test]
        fn more_failures_never_look_better(of in 5_u64..2_000, part in 0_u64..2_000, past_of in 0_u64..100_000,
            past_part in 0_u64..1_000) {
            let past = Share { part: past_part.min(past_of), of: past_of };
            let now = |part: u64| Share { part: part.min(of), of };
            prop_assert!(chance(now(part + 1), past) <= chance(now(part), past) + 1e-12);
        }
    }
}
