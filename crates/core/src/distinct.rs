//! How many different: exact while few, a sketch of fixed size above.

use std::collections::BTreeSet;

/// Up to this many members are kept as they are.
pub const EXACT: usize = 256;
/// Registers of the sketch: a standard error of 1.04 / √2048 = 2.3 %.
const REGISTERS: usize = 2_048;
const REGISTER_BITS: u32 = REGISTERS.trailing_zeros();

/// A set of 64-bit hashes of which only the number is asked. Adding and merging in any order, any number of times, ends
/// in the same set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Distinct(Form);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Form {
    Exact(BTreeSet<u64>),
    /// Per register the largest rank seen, as in P. Flajolet et al., "`HyperLogLog`" (2007).
    Sketch(Vec<u8>),
}

impl Default for Distinct {
    fn default() -> Self {
        Self(Form::Exact(BTreeSet::new()))
    }
}

impl FromIterator<u64> for Distinct {
    fn from_iter<I: IntoIterator<Item = u64>>(hashes: I) -> Self {
        let mut distinct = Self::default();
        for hash in hashes {
            distinct.insert(hash);
        }
        distinct
    }
}

impl Distinct {
    /// Adds a member by its hash, whose bits are expected to be evenly spread.
    pub fn insert(&mut self, hash: u64) {
        match &mut self.0 {
            Form::Exact(members) => {
                members.insert(hash);
                if members.len() > EXACT {
                    let mut registers = vec![0; REGISTERS];
                    for member in members.iter() {
                        raise(&mut registers, *member);
                    }
                    self.0 = Form::Sketch(registers);
                }
            }
            Form::Sketch(registers) => raise(registers, hash),
        }
    }

    /// Adds all members of another set.
    pub fn merge(&mut self, other: &Self) {
        match (&mut self.0, &other.0) {
            (_, Form::Exact(members)) => {
                for member in members {
                    self.insert(*member);
                }
            }
            (Form::Sketch(ours), Form::Sketch(theirs)) => {
                for (our, their) in ours.iter_mut().zip(theirs) {
                    *our = (*our).max(*their);
                }
            }
            (Form::Exact(_), Form::Sketch(_)) => {
                let ours = std::mem::replace(self, other.clone());
                self.merge(&ours);
            }
        }
    }

    /// The number of members: exact up to [`EXACT`], else within about 5 % in 95 of 100 cases.
    #[must_use]
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "an estimate of at most 2^64"
    )]
    pub fn count(&self) -> u64 {
        match &self.0 {
            Form::Exact(members) => members.len() as u64,
            Form::Sketch(registers) => {
                let m = REGISTERS as f64;
                let harmonic: f64 = registers.iter().map(|rank| 0.5_f64.powi(i32::from(*rank))).sum();
                let raw = 0.7213 / (1.0 + 1.079 / m) * m * m / harmonic;
                let empty = registers.iter().filter(|rank| **rank == 0).count();
                // Small range: linear counting, as in the paper's figure 3.
                let estimate = if raw <= 2.5 * m && empty > 0 {
                    m * (m / empty as f64).ln()
                } else {
                    raw
                };
                estimate.round() as u64
            }
        }
    }

    /// Its bytes: eight per member while exact, else one per register.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        match &self.0 {
            Form::Exact(members) => [
                vec![0],
                members.iter().flat_map(|member| member.to_be_bytes()).collect(),
            ]
            .concat(),
            Form::Sketch(registers) => [vec![1], registers.clone()].concat(),
        }
    }

    /// Reads [`Self::to_bytes`]; `None` for bytes that are none.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        match bytes.split_first()? {
            (0, members) if members.len() % 8 == 0 => Some(
                members
                    .as_chunks::<8>()
                    .0
                    .iter()
                    .map(|member| u64::from_be_bytes(*member))
                    .collect(),
            ),
            (1, registers) if registers.len() == REGISTERS => Some(Self(Form::Sketch(registers.to_vec()))),
            _ => None,
        }
    }
}

fn raise(registers: &mut [u8], hash: u64) {
    let register = usize::try_from(hash >> (u64::BITS - REGISTER_BITS)).unwrap_or_default();
    let rest = hash << REGISTER_BITS;
    let rank = u8::try_from(rest.leading_zeros().min(u64::BITS - REGISTER_BITS) + 1).unwrap_or(u8::MAX);
    if let Some(highest) = registers.get_mut(register) {
        *highest = (*highest).max(rank);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn spread(n: u64) -> u64 {
        u64::from_be_bytes(*blake3::hash(&n.to_be_bytes()).as_bytes().first_chunk().unwrap())
    }

    #[test]
    fn many_are_estimated_within_five_percent() {
        for size in [257_u64, 1_000, 5_000, 20_000, 300_000] {
            let distinct: Distinct = (0..size).chain(0..size).map(spread).collect();
            let off = distinct.count().abs_diff(size);
            assert!(off * 20 < size, "{size} were counted as {}", distinct.count());
        }
    }

    proptest! {
        #[test]
        fn parts_merged_in_any_way_are_the_whole(members in prop::collection::vec(0_u64..600, 0..900),
            cut in 0_usize..900) {
            let cut = cut.min(members.len());
            let of = |part: &[u64]| part.iter().map(|n| spread(*n)).collect::<Distinct>();
            let whole = of(&members);
            let (left, right) = (of(&members[..cut]), of(&members[cut..]));
            let mut merged = left.clone();
            merged.merge(&right);
            let mut other_way = right;
            other_way.merge(&left);
            prop_assert_eq!(&merged, &whole);
            prop_assert_eq!(&other_way, &whole);
            prop_assert_eq!(Distinct::from_bytes(&whole.to_bytes()), Some(whole.clone()));
            if members.iter().collect::<BTreeSet<_>>().len() <= EXACT {
                prop_assert_eq!(whole.count(), members.iter().collect::<BTreeSet<_>>().len() as u64);
            }
        }
    }
}
