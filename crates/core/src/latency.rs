//! How long requests take: a mergeable sketch of durations.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Ratio of the bounds of a bucket: a value told from the middle of its bucket is off by 1 % at most.
const GAMMA: f64 = 1.02;

/// Counts of durations in buckets whose bounds grow by a constant ratio, so that a quantile is right within 1 % of its
/// value. The sum of two sketches is the sketch of all their durations, in any order.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Latency(BTreeMap<i16, u64>);

impl Latency {
    /// Adds a duration in microseconds; less than one counts as one.
    pub fn add(&mut self, micros: u64) {
        self.add_times(micros, 1);
    }

    /// Adds a duration as often as it counts for.
    pub fn add_times(&mut self, micros: u64, times: u64) {
        *self.0.entry(bucket(micros)).or_default() += times;
    }

    /// Adds another sketch.
    pub fn merge(&mut self, other: &Self) {
        for (bucket, n) in &other.0 {
            *self.0.entry(*bucket).or_default() += n;
        }
    }

    /// How many durations were added.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.0.values().sum()
    }

    /// Adds what [`Self::to_bytes`] wrote; whether the bytes were a sketch. For many of them [`Sum`] is faster.
    pub fn merge_bytes(&mut self, bytes: &[u8]) -> bool {
        each(bytes, |bucket, n| *self.0.entry(bucket).or_default() += n)
    }

    /// How many durations lie above one, to the bucket.
    #[must_use]
    pub fn above(&self, micros: u64) -> u64 {
        let limit = bucket(micros);
        self.0
            .iter()
            .filter(|(bucket, _)| **bucket > limit)
            .map(|(_, n)| n)
            .sum()
    }

    /// The duration in microseconds below which a share of all lies (0 to 1, nearest rank), within 1 % of its value.
    /// `None` where there is none.
    ///
    /// # Example
    /// ```
    /// let mut latency = outcrop_core::latency::Latency::default();
    /// (1..=1_000).for_each(|millis| latency.add(millis * 1_000));
    /// assert!((latency.quantile(0.95).unwrap() / 950_000.0 - 1.0).abs() <= 0.01);
    /// ```
    #[must_use]
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a rank among counts"
    )]
    pub fn quantile(&self, share: f64) -> Option<f64> {
        let rank = ((self.count() as f64 * share.clamp(0.0, 1.0)).ceil() as u64).max(1);
        let mut below = 0;
        let found = self.0.iter().find(|(_, n)| {
            below += **n;
            below >= rank
        });
        // The point of a bucket that is equally far, in ratio, from both bounds.
        found.map(|(bucket, _)| 2.0 * GAMMA.powi((*bucket).into()) / (GAMMA + 1.0))
    }

    /// Writes it down, some 3 bytes a bucket.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        postcard::to_stdvec(&self.0).unwrap_or_default()
    }

    /// Reads what [`Self::to_bytes`] wrote; `None` for bytes that are none.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        postcard::from_bytes(bytes).ok().map(Self)
    }
}

/// A sum of many written sketches: counts by bucket in one row, which adds ten times as fast as a map.
#[derive(Clone, Debug, Default)]
pub struct Sum(Vec<u64>);

impl Sum {
    /// Adds what [`Latency::to_bytes`] wrote; whether the bytes were a sketch.
    pub fn add(&mut self, bytes: &[u8]) -> bool {
        each(bytes, |bucket, n| {
            // Buckets of durations are not negative, and 64 bits of microseconds end below 2,300.
            let at = usize::try_from(bucket).unwrap_or_default();
            if self.0.len() <= at {
                self.0.resize(at + 1, 0);
            }
            self.0[at] += n;
        })
    }

    /// The sketch of all that was added.
    #[must_use]
    pub fn finish(self) -> Latency {
        let counted = self.0.into_iter().enumerate().filter(|(_, n)| *n > 0);
        Latency(
            counted
                .filter_map(|(at, n)| Some((i16::try_from(at).ok()?, n)))
                .collect(),
        )
    }
}

/// Reads a written sketch, a map of buckets to counts: its length, then the pairs; numbers as
/// postcard writes them (LEB128, signed ones zigzag). Whether the bytes were one.
fn each(bytes: &[u8], mut counted: impl FnMut(i16, u64)) -> bool {
    let mut rest = bytes;
    let Some(length) = varint(&mut rest) else { return false };
    for _ in 0..length {
        let (Some(zigzag), Some(n)) = (varint(&mut rest), varint(&mut rest)) else {
            return false;
        };
        let magnitude = i16::try_from(zigzag >> 1).unwrap_or(i16::MAX);
        counted(if zigzag & 1 == 0 { magnitude } else { -magnitude - 1 }, n);
    }
    rest.is_empty()
}

fn varint(bytes: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for shift in (0..64).step_by(7) {
        let (byte, rest) = bytes.split_first()?;
        *bytes = rest;
        value |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    reason = "the logarithm of 64 bits is below 2,300"
)]
fn bucket(micros: u64) -> i16 {
    ((micros.max(1) as f64).ln() / GAMMA.ln()).ceil() as i16
}

#[cfg(test)]
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "ranks among few values"
)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_quantile_is_within_one_percent_however_the_durations_are_split(
            mut micros in proptest::collection::vec(1..4_000_000_000_u64, 1..400), share in 0.0..1.0_f64,
                split in any::<prop::sample::Index>(),
        ) {
            let (one, other) = micros.split_at(split.index(micros.len()));
            let sketch = |durations: &[u64]| durations.iter().fold(Latency::default(), |mut sum, micros| {
                sum.add(*micros); sum });
            let mut merged = sketch(other);
            merged.merge(&sketch(one));
            prop_assert_eq!(&merged, &sketch(&micros));
            prop_assert_eq!(Latency::from_bytes(&merged.to_bytes()), Some(merged.clone()));
            let mut sum = Sum::default();
            prop_assert!(sum.add(&sketch(one).to_bytes()) && sum.add(&sketch(other).to_bytes()));
            prop_assert!(!sum.clone().add(&[2, 1]));
            prop_assert_eq!(&sum.finish(), &merged);
            let mut by_bytes = sketch(one);
            prop_assert!(by_bytes.merge_bytes(&sketch(other).to_bytes()));
            prop_assert_eq!(&by_bytes, &merged);
            micros.sort_unstable();
            let rank = ((micros.len() as f64 * share).ceil() as usize).max(1);
            let error = merged.quantile(share).unwrap() / micros[rank - 1] as f64 - 1.0;
            prop_assert!(error.abs() <= 0.010_001, "{error}");
        }
    }
}
