//! What a change of the rules does to the errors that are known: tried before it is saved, and
//! carried out by the same plan.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::{Deserialize, Serialize};

use crate::Digest;

/// Occurrences of one known cause that get one key under the changed rules.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Portion {
    /// The cause they are known by.
    pub cause: i64,
    /// The error it belongs to.
    pub error: i32,
    /// Their key under the changed rules; the cause's own where nothing changes for them.
    pub key: Digest,
    /// How many they are.
    pub count: i64,
}

/// Which errors stay, join and split.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// Where each key belongs from now on.
    pub keys: BTreeMap<Digest, Target>,
    /// Causes that go to another error, with the one they leave.
    pub moves: Vec<Move>,
    /// Errors that are joined into another, each by the one that stays.
    pub joined: BTreeMap<i32, BTreeSet<i32>>,
    /// Errors of which a part goes elsewhere, and how many occurrences that is.
    pub split: BTreeMap<i32, i64>,
}

/// The error that a key belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target {
    /// A known error.
    Known(i32),
    /// A new one, split off this one.
    SplitFrom(i32),
}

/// A cause that goes from one error to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    /// The cause.
    pub cause: i64,
    /// The error it leaves.
    pub from: i32,
    /// The error it joins.
    pub to: i32,
}

/// Works out what a change does.
///
/// A cause stays whole: it goes where most of its occurrences go. Causes that are one error stay
/// one error unless their keys fall apart within a cause. Of the errors that fall together the one
/// with most occurrences stays; of the parts that fall apart the largest keeps the error.
#[must_use]
pub fn plan(portions: &[Portion]) -> Plan {
    let keys: Vec<Digest> = portions
        .iter()
        .map(|portion| portion.key)
        .collect::<BTreeSet<_>>()
        .into_iter()
        .collect();
    let at = |key: Digest| keys.binary_search(&key).unwrap_or_default();
    let mut sets = Sets::new(keys.len());
    let mut main: BTreeMap<i64, &Portion> = BTreeMap::new();
    for portion in portions {
        let largest = main.entry(portion.cause).or_insert(portion);
        if (portion.count, largest.key) > (largest.count, portion.key) {
            *largest = portion;
        }
    }
    let mut first_of_error: HashMap<i32, Digest> = HashMap::new();
    for largest in main.values() {
        let first = *first_of_error.entry(largest.error).or_insert(largest.key);
        sets.unite(at(first), at(largest.key));
    }

    let is_at_home = |error: i32, set: usize| {
        first_of_error
            .get(&error)
            .is_some_and(|key| sets.root_of(at(*key)) == set)
    };
    let targets = targets(
        portions.iter().map(|portion| (sets.root_of(at(portion.key)), portion)),
        is_at_home,
    );
    let mut planned = Plan {
        keys: keys
            .iter()
            .map(|key| (*key, targets[&sets.root_of(at(*key))]))
            .collect(),
        ..Plan::default()
    };
    for (cause, largest) in &main {
        if let Target::Known(to) = planned.keys[&largest.key]
            && to != largest.error
        {
            planned.moves.push(Move {
                cause: *cause,
                from: largest.error,
                to,
            });
            planned.joined.entry(to).or_default().insert(largest.error);
        }
    }
    for portion in portions {
        let home = planned.keys[&main[&portion.cause].key];
        if planned.keys[&portion.key] != home {
            *planned.split.entry(portion.error).or_default() += portion.count;
        }
    }
    planned
}

/// Which error each set of keys is: the largest sets choose first. `is_at_home`: whether an error's main part is in a set;
/// one whose main part is elsewhere may still be the largest there, and is not that set's to keep.
fn targets<'p>(
    portions: impl Iterator<Item = (usize, &'p Portion)>,
    is_at_home: impl Fn(i32, usize) -> bool,
) -> HashMap<usize, Target> {
    let mut weights: BTreeMap<usize, BTreeMap<i32, i64>> = BTreeMap::new();
    for (set, portion) in portions {
        *weights.entry(set).or_default().entry(portion.error).or_default() += portion.count;
    }
    let mut order: Vec<(i64, usize)> = weights
        .iter()
        .map(|(set, errors)| (errors.values().sum(), *set))
        .collect();
    order.sort_by_key(|(count, set)| (std::cmp::Reverse(*count), *set));
    let mut taken = BTreeSet::new();
    let mut targets: HashMap<usize, Target> = HashMap::new();
    for (_, set) in order {
        let mut by_count: Vec<(i32, i64)> = weights[&set].iter().map(|(error, count)| (*error, *count)).collect();
        by_count.sort_by_key(|(error, count)| (std::cmp::Reverse(*count), *error));
        let chosen = by_count
            .iter()
            .map(|(error, _)| *error)
            .find(|error| !taken.contains(error) && is_at_home(*error, set));
        let target = chosen.map_or_else(
            || Target::SplitFrom(by_count.first().map_or(0, |(error, _)| *error)),
            Target::Known,
        );
        taken.extend(chosen);
        targets.insert(set, target);
    }
    targets
}

/// Disjoint sets of numbers.
struct Sets(Vec<usize>);

impl Sets {
    fn new(count: usize) -> Self {
        Self((0..count).collect())
    }

    fn root_of(&self, mut at: usize) -> usize {
        while self.0[at] != at {
            at = self.0[at];
        }
        at
    }

    fn root(&mut self, at: usize) -> usize {
        let root = self.root_of(at);
        self.0[at] = root;
        root
    }

    fn unite(&mut self, one: usize, other: usize) {
        let (one, other) = (self.root(one), self.root(other));
        self.0[one.max(other)] = one.min(other);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn key(n: u8) -> Digest {
        Digest([n; 16])
    }

    fn portion(cause: i64, error: i32, to: u8, count: i64) -> Portion {
        Portion {
            cause,
            error,
            key: key(to),
            count,
        }
    }

    #[test]
    fn the_largest_of_joined_errors_stays() {
        let planned = plan(&[portion(1, 10, 9, 5), portion(2, 20, 9, 50), portion(3, 30, 3, 1)]);
        assert_eq!(planned.joined, BTreeMap::from([(20, BTreeSet::from([10]))]));
        assert_eq!(
            planned.moves,
            [Move {
                cause: 1,
                from: 10,
                to: 20
            }]
        );
        assert_eq!(
            planned.keys,
            BTreeMap::from([(key(3), Target::Known(30)), (key(9), Target::Known(20))])
        );
        assert!(planned.split.is_empty());
    }

    #[test]
    fn the_largest_part_of_a_split_error_keeps_it() {
        let planned = plan(&[portion(1, 10, 1, 5), portion(1, 10, 2, 90), portion(1, 10, 3, 7)]);
        let expected = [
            (key(1), Target::SplitFrom(10)),
            (key(2), Target::Known(10)),
            (key(3), Target::SplitFrom(10)),
        ];
        assert_eq!(planned.keys, BTreeMap::from(expected));
        assert_eq!((planned.split, planned.moves), (BTreeMap::from([(10, 12)]), vec![]));
    }

    #[test]
    fn causes_that_people_joined_stay_joined_when_both_get_new_keys() {
        let planned = plan(&[portion(1, 10, 4, 5), portion(2, 10, 5, 9)]);
        assert_eq!(
            planned.keys,
            BTreeMap::from([(key(4), Target::Known(10)), (key(5), Target::Known(10))])
        );
        assert!(planned.split.is_empty() && planned.moves.is_empty());
    }

    #[test]
    fn a_part_may_go_over_to_a_known_error() {
        let planned = plan(&[portion(1, 10, 1, 90), portion(1, 10, 2, 9), portion(2, 20, 2, 4)]);
        assert_eq!(
            planned.keys,
            BTreeMap::from([(key(1), Target::Known(10)), (key(2), Target::Known(20))])
        );
        assert_eq!(
            (planned.split, planned.joined),
            (BTreeMap::from([(10, 9)]), BTreeMap::new())
        );
    }

    proptest! {
        #[test]
        fn every_error_with_occurrences_stays_or_is_joined(
            portions in prop::collection::vec((0_i64..8, 0_u8..6, 1_i64..100), 1..24)
        ) {
            let portions: Vec<Portion> = portions.into_iter().map(|(cause, to, count)| {
                let error = i32::try_from(cause % 5).unwrap() + 100;
                portion(cause, error, to, count)
            }).collect();
            let planned = plan(&portions);
            let kept: Vec<i32> = planned.keys.values().filter_map(|target| match target {
                Target::Known(error) => Some(*error),
                Target::SplitFrom(_) => None,
            }).collect();
            for portion in &portions {
                let is_joined = planned.joined.values().any(|errors| errors.contains(&portion.error));
                prop_assert_ne!(kept.contains(&portion.error), is_joined, "error {}", portion.error);
            }
            let mut shuffled = portions;
            shuffled.reverse();
            prop_assert_eq!(plan(&shuffled).keys, planned.keys);
        }
    }
}
