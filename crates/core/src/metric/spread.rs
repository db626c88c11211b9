//! How measurements are spread, in cells whose bounds grow by a constant ratio: small, and the sum of two is the spread
//! of all their measurements.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::buckets::Buckets;

/// Cells to a factor of two: a value told from the middle of its cell is off by 4.5 % at most.
const CELLS: f64 = 8.0;
/// The cell of zero, and of all below.
const ZERO: i16 = i16::MIN;
/// How far below its upper bound a bucket without a lower one is taken to reach.
const REACH: f64 = 64.0;

/// Counts by cell: cell *c* is from 2^((*c* - 1) / 8), which is not in it, to 2^(*c* / 8).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spread(BTreeMap<i16, u64>);

impl Spread {
    /// The spread of buckets: within a bucket measurements are taken to lie evenly.
    #[must_use]
    pub fn of(buckets: &Buckets) -> Self {
        let mut spread = Self::default();
        for (low, high, count) in buckets.each().filter(|(.., count)| *count > 0) {
            spread.lay(low, high, count);
        }
        spread
    }

    /// Lays measurements evenly between two bounds; those without an upper one at the lower one.
    fn lay(&mut self, low: f64, high: f64, count: u64) {
        if high <= 0.0 {
            return self.add_to(ZERO, count);
        }
        if high.is_infinite() {
            return self.add_to(cell(low), count);
        }
        let low = if low <= 0.0 { high / REACH } else { low };
        let (first, last) = (cell(low) + 1, cell(high));
        if last <= first {
            return self.add_to(last, count);
        }
        // Shares of whole measurements, so that none is lost: up to each bound as many as lie below it.
        let mut below = 0;
        for at in first..=last {
            let share = ((upper(at) - low) / (high - low)).clamp(0.0, 1.0);
            #[expect(
                clippy::cast_precision_loss,
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "a share of a count"
            )]
            let up_to = if at == last {
                count
            } else {
                ((count as f64 * share).round() as u64).min(count)
            };
            self.add_to(at, up_to.saturating_sub(below));
            below = up_to.max(below);
        }
    }

    /// Adds one measurement.
    pub fn add(&mut self, value: f64) {
        self.add_to(cell(value), 1);
    }

    fn add_to(&mut self, cell: i16, count: u64) {
        if count > 0 {
            let there = self.0.entry(cell).or_default();
            *there = there.saturating_add(count);
        }
    }

    /// Adds another spread.
    pub fn merge(&mut self, other: &Self) {
        for (cell, count) in &other.0 {
            self.add_to(*cell, *count);
        }
    }

    /// Whether there is no measurement.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The value that a share of all, 0 to 1, does not exceed (nearest rank), within 4.5 % of it, and 0 for all that is
    /// not above. `None` where there is none.
    #[must_use]
    pub fn percentile(&self, share: f64) -> Option<f64> {
        let all = self.0.values().fold(0_u64, |sum, count| sum.saturating_add(*count));
        #[expect(
            clippy::cast_precision_loss,
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a rank among counts"
        )]
        let rank = ((all as f64 * share.clamp(0.0, 1.0)).ceil() as u64).max(1);
        let mut below = 0_u64;
        for (cell, count) in &self.0 {
            below = below.saturating_add(*count);
            if below >= rank {
                return Some(if *cell == ZERO {
                    0.0
                } else {
                    ((f64::from(*cell) - 0.5) / CELLS).exp2()
                });
            }
        }
        None
    }

    /// Bytes that [`Self::from_bytes`] reads.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        postcard::to_stdvec(self).unwrap_or_default()
    }

    /// Reads what [`Self::to_bytes`] wrote; `None` where the bytes are something else.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        postcard::from_bytes(bytes).ok()
    }
}

/// The cell of a value. What lies on a bound belongs to the cell below it, however it was worked out.
fn cell(value: f64) -> i16 {
    if value <= 0.0 || value.is_nan() {
        return ZERO;
    }
    #[expect(
        clippy::cast_possible_truncation,
        reason = "the logarithm of a double is within 1,075"
    )]
    let cell = (value.min(f64::MAX).log2() * CELLS - 1e-6).ceil() as i16;
    cell
}

/// The upper bound of a cell.
fn upper(cell: i16) -> f64 {
    (f64::from(cell) / CELLS).exp2()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::buckets::Side;
    use super::*;

    #[test]
    fn measurements_of_a_bucket_lie_evenly_and_none_is_lost() {
        let spread = Spread::of(&Buckets::new(vec![1.0, 2.0], vec![0, 1_000, 0]).unwrap());
        let median = spread.percentile(0.5).unwrap();
        assert!((median - 1.5).abs() < 0.09, "{median}");
        assert_eq!(spread.0.values().sum::<u64>(), 1_000);
        // Few measurements of a wide bucket are not lost either; what has no upper bound is at least at the lower one.
        let few = Spread::of(&Buckets::new(vec![1.0, 1_000.0], vec![1, 1, 1]).unwrap());
        assert_eq!(few.0.values().sum::<u64>(), 3);
        assert!(few.percentile(1.0).unwrap() >= 900.0);
        let zeros = Spread::of(&Buckets::exponential(0, &Side::default(), &Side::default(), 4).unwrap());
        assert_eq!(zeros.percentile(0.5), Some(0.0));
        assert_eq!(Spread::default().percentile(0.5), None);
    }

    proptest! {
        /// Of an exponential histogram a percentile is within the error of its buckets and of a cell, merged or not.
        #[test]
        fn percentiles_of_merged_exponential_histograms_are_within_their_error(
            values in prop::collection::vec(1e-3_f64..1e6, 1..80),
            scale in 0_i32..6,
            cut in 0_usize..80,
            share in 0.0_f64..=1.0,
        ) {
            let histogram = |values: &[f64]| {
                let index = |value: f64| {
                    #[expect(clippy::cast_possible_truncation, reason = "small")]
                    let index = (value.log2() * f64::from(scale).exp2()).ceil() as i32 - 1;
                    index
                };
                let low = values.iter().map(|value| index(*value)).min().unwrap_or_default();
                let high = values.iter().map(|value| index(*value)).max().unwrap_or_default();
                let mut counts = vec![0; usize::try_from(high - low).unwrap() + 1];
                for value in values {
                    counts[usize::try_from(index(*value) - low).unwrap()] += 1;
                }
                Buckets::exponential(scale, &Side { offset: low, counts }, &Side::default(), 0)
            };
            let (first, second) = values.split_at(cut.min(values.len()));
            let mut merged = Spread::default();
            for part in [first, second] {
                match (part.is_empty(), histogram(part)) {
                    (true, _) => {}
                    (false, Some(buckets)) => merged.merge(&Spread::of(&buckets)),
                    // More buckets than are taken.
                    (false, None) => return Ok(()),
                }
            }
            let mut sorted = values.clone();
            sorted.sort_by(f64::total_cmp);
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                clippy::cast_precision_loss,
                reason = "few"
            )]
            let rank = ((sorted.len() as f64 * share).ceil() as usize).max(1);
            let (said, is) = (merged.percentile(share).unwrap(), sorted[rank - 1]);
            let bucket = (1.0 / f64::from(scale).exp2()).exp2();
            let ratio = (said / is).max(is / said);
            prop_assert!(ratio <= bucket * (1.0_f64 / 8.0).exp2() * 1.001, "{} {} {}", said, is, ratio);
        }

        #[test]
        fn bytes_are_read_back_and_any_are_taken_or_refused(
            values in prop::collection::vec(-10.0_f64..1e9, 0..60),
            bytes in prop::collection::vec(any::<u8>(), 0..60),
        ) {
            let mut spread = Spread::default();
            for value in values {
                spread.add(value);
            }
            prop_assert_eq!(Spread::from_bytes(&spread.to_bytes()), Some(spread));
            drop(Spread::from_bytes(&bytes));
        }
    }
}
