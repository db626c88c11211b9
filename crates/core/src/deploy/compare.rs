//! An endpoint before a deploy against after it: a test, not just a difference.

use statrs::distribution::{Binomial, DiscreteCDF, Hypergeometric};

use crate::latency::Latency;

/// How unlikely a difference must be, were nothing changed. A deploy is checked at some ten endpoints in four ways.
const UNLIKELY: f64 = 1e-4;
/// Requests of before from which on their percentiles are taken for the true ones.
const KNOWN_WELL: u64 = 20_000;
/// Requests on either side below which nothing is said of how long they take.
const LEAST_REQUESTS: u64 = 20;
/// What a change of the 95th percentile must be at least, as a factor and in microseconds: less is nobody's trouble.
const LEAST_FACTOR: f64 = 1.3;
const LEAST_US: f64 = 10_000.0;

/// Requests of an endpoint on one side.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Side {
    /// Requests.
    pub requests: u64,
    /// Of them failed.
    pub failed: u64,
    /// How long they took.
    pub latency: Latency,
    /// How unevenly failures came.
    pub scatter: Scatter,
}

/// How unevenly failures came: sums over blocks of ten minutes, from which the over-dispersion follows.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Scatter {
    /// Blocks with requests.
    pub blocks: u64,
    /// Over the blocks: failures squared, by requests.
    pub squares: f64,
    /// The largest share of a block's requests that failed.
    pub worst: f64,
}

impl Scatter {
    /// Adds a block.
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    pub fn add(&mut self, requests: u64, failed: u64) {
        if requests > 0 {
            self.blocks += 1;
            self.squares += (failed * failed) as f64 / requests as f64;
            self.worst = self.worst.max(failed as f64 / requests as f64);
        }
    }

    /// How many times as much the failures scatter as chance alone makes them: Pearson's statistic
    /// of a binomial share by its degrees of freedom (McCullagh and Nelder 1989, 4.5), at least 1.
    /// Few blocks tell little: four of no over-dispersion are put beside them.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    pub fn dispersion(&self, requests: u64, failed: u64) -> f64 {
        const PRIOR: f64 = 4.0;
        if self.blocks < 2 || failed == 0 || failed >= requests {
            return 1.0;
        }
        let share = failed as f64 / requests as f64;
        let statistic = (self.squares - failed as f64 * share) / (share * (1.0 - share));
        ((statistic + PRIOR) / (self.blocks as f64 - 1.0 + PRIOR)).max(1.0)
    }
}

/// What changed at an endpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Change {
    /// More of its requests fail.
    FailsMore,
    /// Its requests take longer.
    Slower,
    /// Fewer of its requests fail.
    FailsLess,
    /// Its requests take less time.
    Faster,
}

impl Change {
    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::FailsMore => "fails more",
            Self::Slower => "slower",
            Self::FailsLess => "fails less",
            Self::Faster => "faster",
        }
    }
}

/// Says what changed between two sides, each change with a chance below one in ten thousand were there none.
///
/// Failures are compared by the conditional test of two Poisson rates (Przyborowski and Wilenski
/// 1940): given all failures, how many fall on the later side is binomial with its share of the
/// requests. Latencies are compared by how many requests lie above the earlier side's 95th
/// percentile (slower) or median (faster), which is binomial with a chance of 0.05 or 0.5; besides,
/// the 95th percentile must have changed by 30 % and 10 ms.
///
/// # Example
/// ```
/// use outcrop_core::deploy::{Change, Side, changes};
/// let side = |requests, failed| Side { requests, failed, ..Side::default() };
/// assert_eq!(changes(&side(10_000, 10), &side(1_000, 12)), [Change::FailsMore]);
/// assert_eq!(changes(&side(10_000, 10), &side(1_000, 3)), []);
/// ```
#[must_use]
pub fn changes(before: &Side, after: &Side) -> Vec<Change> {
    let mut found = vec![];
    let (more, less) = failures(before, after);
    if more < UNLIKELY {
        found.push(Change::FailsMore);
    }
    if slower(before, after) {
        found.push(Change::Slower);
    }
    if less < UNLIKELY {
        found.push(Change::FailsLess);
    }
    if faster(before, after) {
        found.push(Change::Faster);
    }
    found
}

/// The chances of so many failures or more, and of so many or fewer, on the later side.
#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn failures(before: &Side, after: &Side) -> (f64, f64) {
    let all = before.failed + after.failed;
    if before.requests == 0 || after.requests == 0 || all == 0 {
        return (1.0, 1.0);
    }
    let share = after.requests as f64 / (before.requests + after.requests) as f64;
    let Ok(usual) = Binomial::new(share, all) else {
        return (1.0, 1.0);
    };
    let or_more = if after.failed == 0 {
        1.0
    } else {
        usual.sf(after.failed - 1)
    };
    (or_more, usual.cdf(after.failed))
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "microseconds of a request"
)]
pub(super) fn above(before: &Latency, after: &Latency, share: f64) -> Option<(u64, u64)> {
    if before.count() < LEAST_REQUESTS || after.count() < LEAST_REQUESTS {
        return None;
    }
    Some((after.above(before.quantile(share)?.round() as u64), after.count()))
}

/// The chance that so many or more of the later requests lie above a value that so many of before lie above, were
/// both of one distribution: the percentile of before is itself drawn, with few requests far from the true one. Of
/// the largest of both together at most as many are of before (precedence test, Nelson 1963).
#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
pub(super) fn exceeding(before: (u64, u64), after: (u64, u64)) -> f64 {
    let (above, of) = before;
    let (later_above, later_of) = after;
    if of >= KNOWN_WELL {
        return Binomial::new(above as f64 / of as f64, later_of)
            .map_or(1.0, |usual| usual.sf(later_above.saturating_sub(1)));
    }
    Hypergeometric::new(of + later_of, of, above + later_above).map_or(1.0, |of_before| of_before.cdf(above))
}

fn slower(before: &Side, after: &Side) -> bool {
    let Some((above, of)) = above(&before.latency, &after.latency, 0.95).filter(|(above, _)| *above > 0) else {
        return false;
    };
    let Some((was, is)) = before.latency.quantile(0.95).zip(after.latency.quantile(0.95)) else {
        return false;
    };
    let count = before.latency.count();
    exceeding((count.div_ceil(20), count), (above, of)) < UNLIKELY && is >= was * LEAST_FACTOR && is >= was + LEAST_US
}

fn faster(before: &Side, after: &Side) -> bool {
    let Some((above, of)) = above(&before.latency, &after.latency, 0.5) else {
        return false;
    };
    let Some((was, is)) = before.latency.quantile(0.95).zip(after.latency.quantile(0.95)) else {
        return false;
    };
    let count = before.latency.count();
    exceeding((count.div_ceil(2), count), (of - above, of)) < UNLIKELY
        && was >= is * LEAST_FACTOR
        && was >= is + LEAST_US
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn side(requests: u64, failed: u64, millis: impl Fn(u64) -> u64) -> Side {
        let mut latency = Latency::default();
        (0..requests).for_each(|n| latency.add(millis(n) * 1_000));
        Side {
            requests,
            failed,
            latency,
            ..Side::default()
        }
    }

    #[rstest]
    // The chance that the one later request is the largest of 20: 1 in 20.
    #[case((0, 19), (1, 1), 0.05)]
    // All 5 later ones above all 5 of before: 1 of 252 orders.
    #[case((0, 5), (5, 5), 1.0 / 252.0)]
    // As many as usual, of many: about even.
    #[case((75, 1_000), (76, 1_000), 0.5)]
    // From so many on the percentile is known, and the binomial holds.
    #[case((1_500, 20_000), (2, 2), 0.075 * 0.075)]
    fn later_requests_lie_above_the_percentile_of_before_by_chance(
        #[case] before: (u64, u64),
        #[case] after: (u64, u64),
        #[case] expected: f64,
    ) {
        let chance = exceeding(before, after);
        assert!((chance - expected).abs() < 0.06 * expected.max(0.01), "{chance}");
    }

    #[test]
    fn the_chance_of_failures_is_worked_out_by_hand() {
        // Four failures in all, half of the requests on each side, all four on the later: 1/16; none or more: 1.
        let (more, less) = failures(&side(100, 0, |_| 1), &side(100, 4, |_| 1));
        assert!(
            (more - 1.0 / 16.0).abs() < 1e-9 && (less - 1.0).abs() < 1e-9,
            "{more} {less}"
        );
    }

    #[test]
    fn twice_as_long_is_slower_one_way_and_faster_the_other() {
        let quick = side(400, 0, |n| 100 + n % 50);
        let long = side(200, 0, |n| 200 + n % 50);
        assert_eq!(changes(&quick, &long), [Change::Slower]);
        assert_eq!(changes(&long, &quick), [Change::Faster]);
        assert_eq!(changes(&quick, &side(200, 0, |n| 100 + n % 50)), []);
        assert_eq!(changes(&quick, &side(10, 0, |n| 900 + n)), [], "too few to say");
    }

    proptest! {
        #[test]
        fn a_side_against_itself_never_changed(requests in 1_u64..3_000, failed in 0_u64..300, spread in 1_u64..400) {
            let one = side(requests, failed.min(requests), |n| 20 + n % spread);
            prop_assert_eq!(changes(&one, &one), []);
        }

        #[test]
        fn more_failures_never_look_better(before in 1_u64..5_000, after in 1_u64..2_000, failed in 0_u64..200,
            known in 0_u64..200) {
            let earlier = side(before, known.min(before), |_| 1);
            let later = |failed: u64| side(after, failed.min(after), |_| 1);
            prop_assert!(failures(&earlier, &later(failed + 1)).0 <= failures(&earlier, &later(failed)).0 + 1e-9);
        }
    }
}
