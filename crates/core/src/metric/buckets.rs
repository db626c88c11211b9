//! Buckets of measurements, as histograms are sent.

use serde::{Deserialize, Serialize};

/// Most bounds of a histogram: an exponential one has 160 on either side of zero by default.
pub const MAX_BOUNDS: usize = 400;
/// By how much two bounds may differ that are the same: they were worked out at different scales.
const SAME: f64 = 1e-9;

/// How many measurements lie between which bounds: bucket 0 up to the first bound, each further one from the bound
/// before it (which is not in it) up to its own, the last one above all bounds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Buckets {
    bounds: Vec<f64>,
    counts: Vec<u64>,
}

/// The buckets of one side of an exponential histogram: the index of the first, and their counts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Side {
    /// The index of the first bucket.
    pub offset: i32,
    /// Counts.
    pub counts: Vec<u64>,
}

impl Buckets {
    /// Buckets between rising bounds, one more than there are bounds; `None` where they are not that, or too many.
    #[must_use]
    pub fn new(bounds: Vec<f64>, counts: Vec<u64>) -> Option<Self> {
        let rises = bounds.windows(2).all(|pair| pair[0] < pair[1]);
        let fits = bounds.len() <= MAX_BOUNDS && counts.len() == bounds.len() + 1;
        (fits && rises && bounds.iter().all(|bound| bound.is_finite())).then_some(Self { bounds, counts })
    }

    /// The buckets of an exponential histogram of a scale: those above zero, those below (by their absolute values), and
    /// how many measurements are zero. `None` where a scale or an index is none, or there are too many.
    ///
    /// Index *i* of a scale *s* is from *b*^*i* (not in it) to *b*^(*i* + 1), where *b* is 2^(2^-*s*).
    #[must_use]
    pub fn exponential(scale: i32, positive: &Side, negative: &Side, zeros: u64) -> Option<Self> {
        if !(-10..=20).contains(&scale) || positive.counts.len() + negative.counts.len() + 3 > MAX_BOUNDS {
            return None;
        }
        let edge = |index: i64| {
            #[expect(clippy::cast_precision_loss, reason = "an index has 32 bits")]
            let edge = (index as f64 / f64::from(scale).exp2()).exp2();
            edge.clamp(f64::MIN_POSITIVE, f64::MAX)
        };
        let edges = |side: &Side| -> Vec<f64> {
            if side.counts.is_empty() {
                return vec![];
            }
            (0..=side.counts.len())
                .map(|at| edge(i64::from(side.offset) + i64::try_from(at).unwrap_or_default()))
                .collect()
        };
        let (mut bounds, mut counts) = (vec![], vec![]);
        let below = edges(negative);
        if !below.is_empty() {
            // From the greatest distance to zero; nothing is further away.
            bounds.extend(below.iter().rev().map(|edge| -edge));
            counts.push(0);
            counts.extend(negative.counts.iter().rev());
        }
        // Up to zero: the zeros.
        bounds.push(0.0);
        counts.push(zeros);
        let above = edges(positive);
        if !above.is_empty() {
            bounds.extend(&above);
            counts.push(0);
            counts.extend(&positive.counts);
        }
        counts.push(0);
        Self::new(bounds, counts)
    }

    /// The buckets with their lower and upper bounds; infinite where they have none.
    pub fn each(&self) -> impl Iterator<Item = (f64, f64, u64)> + '_ {
        self.counts.iter().enumerate().map(|(at, count)| {
            let low = at.checked_sub(1).and_then(|at| self.bounds.get(at));
            let high = self.bounds.get(at);
            (
                low.copied().unwrap_or(f64::NEG_INFINITY),
                high.copied().unwrap_or(f64::INFINITY),
                *count,
            )
        })
    }

    /// By how much counts rose since earlier ones; `None` where that cannot be told: a count fell, or an earlier bucket
    /// lies in none of these.
    #[must_use]
    pub fn since(&self, before: &Self) -> Option<Self> {
        let mut left = self.counts.clone();
        let mut at = 0;
        for (low, high, count) in before.each().filter(|(.., count)| *count > 0) {
            // Both go upwards.
            while self
                .bounds
                .get(at)
                .is_some_and(|bound| *bound < high && !is_same(*bound, high))
            {
                at += 1;
            }
            let own_low = at.checked_sub(1).and_then(|at| self.bounds.get(at)).copied();
            if own_low.is_some_and(|own| own > low && !is_same(own, low)) {
                return None;
            }
            let count_left = left.get_mut(at)?;
            *count_left = count_left.checked_sub(count)?;
        }
        Some(Self {
            bounds: self.bounds.clone(),
            counts: left,
        })
    }

    /// Bytes that [`Self::from_bytes`] reads.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        postcard::to_stdvec(self).unwrap_or_default()
    }

    /// Reads what [`Self::to_bytes`] wrote; `None` where the bytes are something else.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let read: Self = postcard::from_bytes(bytes).ok()?;
        Self::new(read.bounds, read.counts)
    }
}

fn is_same(one: f64, other: f64) -> bool {
    one.is_finite() && other.is_finite() && (one - other).abs() <= SAME * one.abs().max(other.abs())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn side(offset: i32, counts: &[u64]) -> Side {
        Side {
            offset,
            counts: counts.to_vec(),
        }
    }

    #[test]
    fn bounds_rise_and_have_a_bucket_above_them() {
        assert!(Buckets::new(vec![1.0, 2.0], vec![1, 2, 3]).is_some());
        assert!(Buckets::new(vec![], vec![7]).is_some());
        for (bounds, counts) in [
            (vec![1.0, 2.0], vec![1, 2]),
            (vec![2.0, 1.0], vec![1, 2, 3]),
            (vec![1.0, 1.0], vec![1, 2, 3]),
            (vec![f64::NAN], vec![1, 2]),
            (vec![f64::INFINITY], vec![1, 2]),
            (vec![0.0; MAX_BOUNDS + 1], vec![0; MAX_BOUNDS + 2]),
        ] {
            assert_eq!(Buckets::new(bounds, counts), None);
        }
    }

    #[test]
    fn exponential_buckets_lie_where_their_scale_says() {
        // Scale 0: bounds are powers of two.
        let buckets = Buckets::exponential(0, &side(1, &[4, 5]), &side(0, &[3]), 2).unwrap();
        let there: Vec<_> = buckets.each().filter(|(.., count)| *count > 0).collect();
        assert_eq!(there, [(-2.0, -1.0, 3), (-1.0, 0.0, 2), (2.0, 4.0, 4), (4.0, 8.0, 5)]);
        assert_eq!(Buckets::exponential(99, &side(0, &[1]), &Side::default(), 0), None);
        assert_eq!(
            Buckets::exponential(0, &side(0, &[1; MAX_BOUNDS]), &Side::default(), 0),
            None
        );
        // What a double cannot hold is no bound.
        assert!(Buckets::exponential(-10, &side(i32::MAX - 3, &[1, 1]), &Side::default(), 0).is_none());
    }

    #[test]
    fn what_rose_is_told_also_where_the_scale_became_coarser() {
        let fine = Buckets::exponential(1, &side(2, &[1, 2]), &Side::default(), 1).unwrap();
        let coarse = Buckets::exponential(0, &side(0, &[0, 5, 7]), &Side::default(), 4).unwrap();
        let rose: Vec<u64> = coarse.since(&fine).unwrap().each().map(|(.., count)| count).collect();
        assert_eq!(rose, [3, 0, 0, 2, 7, 0]);
        assert_eq!(fine.since(&coarse), None, "a bucket that lies in none");
        let fell = Buckets::exponential(1, &side(2, &[0, 2]), &Side::default(), 1).unwrap();
        assert_eq!(fell.since(&fine), None);
    }

    proptest! {
        #[test]
        fn bytes_are_read_back(bounds in prop::collection::btree_set(-1_000_i32..1_000, 0..30), count in any::<u64>()) {
            let bounds: Vec<f64> = bounds.into_iter().map(f64::from).collect();
            let counts = vec![count; bounds.len() + 1];
            let buckets = Buckets::new(bounds, counts).unwrap();
            let bytes = buckets.to_bytes();
            prop_assert_eq!(Buckets::from_bytes(&bytes), Some(buckets));
            prop_assert_eq!(Buckets::from_bytes(&bytes[..bytes.len() - 1]), None);
        }

        #[test]
        fn any_bytes_are_taken_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            drop(Buckets::from_bytes(&bytes));
        }

        /// What rose is what was counted between, at any two scales of which the later is not finer.
        #[test]
        fn rises_are_what_was_counted_between(
            first in prop::collection::vec(0_u64..9, 1..40),
            more in prop::collection::vec(0_u64..9, 1..20),
            offset in -20_i32..20,
            coarser in 0_i32..3,
        ) {
            let before = Buckets::exponential(3, &side(offset, &first), &Side::default(), 0).unwrap();
            // The same measurements, counted at a coarser scale, and some more in buckets that are all there.
            let low = (offset >> coarser).min(0) - 1;
            let mut counts = vec![0; 120];
            for (at, count) in (offset..).zip(&first) {
                counts[usize::try_from((at >> coarser) - low).unwrap()] += count;
            }
            for (at, count) in more.iter().enumerate() {
                counts[at] += count;
            }
            let after = Buckets::exponential(3 - coarser, &side(low, &counts), &Side::default(), 0).unwrap();
            let rose: u64 = after.since(&before).unwrap().each().map(|(.., count)| count).sum();
            prop_assert_eq!(rose, more.iter().sum::<u64>());
        }
    }
}
