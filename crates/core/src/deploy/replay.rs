//! What is said of a past that is told anew: the same flags again, further ones, and some no more.

use std::collections::{HashMap, HashSet};

use super::event::{FlagKind, FlagLine, Minute};

/// Minutes by which a surge may be said earlier or later and is still the same one.
const SAME: Minute = 60;

/// A flag that was said before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// What tells it apart.
    pub id: i64,
    /// What was said.
    pub flag: FlagKind,
    /// The environment.
    pub environment: String,
    /// The error.
    pub group: String,
    /// The version it was charged to.
    pub version: String,
    /// When it began.
    pub since: Minute,
    /// The minute it was said at.
    pub at: Minute,
}

impl Said {
    /// Whether a flag says the same: of what is new or back, in the same version; of a surge, at about the same time.
    fn is(&self, flag: &FlagLine) -> bool {
        match self.flag {
            FlagKind::New | FlagKind::Returned => self.version == flag.version,
            FlagKind::Surging => self.since <= flag.at + SAME && flag.since <= self.at + SAME,
        }
    }
}

/// What a past that is told anew changes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Corrected {
    /// Flags, by their place, that were not said before.
    pub fresh: Vec<usize>,
    /// Flags, by their place, that were, with what tells those apart.
    pub same: Vec<(usize, i64)>,
    /// Flags that are not said any more.
    pub withdrawn: Vec<i64>,
}

/// Holds flags that were said against what is said now that the same past was told anew. Each flag
/// is the same as one of before at most.
#[must_use]
pub fn corrected(before: &[Said], now: &[FlagLine]) -> Corrected {
    type Key<'a> = (FlagKind, &'a str, &'a str);
    let mut of_error: HashMap<Key<'_>, Vec<&Said>> = HashMap::new();
    for said in before {
        of_error
            .entry((said.flag, &said.group, &said.environment))
            .or_default()
            .push(said);
    }
    let mut corrected = Corrected::default();
    let mut again: HashSet<i64> = HashSet::new();
    for (place, flag) in now.iter().enumerate() {
        let candidates = of_error
            .get(&(flag.flag, flag.group.as_str(), flag.environment.as_str()))
            .into_iter()
            .flatten();
        let nearest = candidates
            .filter(|said| !again.contains(&said.id) && said.is(flag))
            .min_by_key(|said| (said.at - flag.at).abs());
        if let Some(said) = nearest {
            again.insert(said.id);
            corrected.same.push((place, said.id));
        } else {
            corrected.fresh.push(place);
        }
    }
    corrected.withdrawn = before
        .iter()
        .map(|said| said.id)
        .filter(|id| !again.contains(id))
        .collect();
    corrected
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(id: i64, flag: FlagKind, version: &str, (since, at): (Minute, Minute)) -> Said {
        Said {
            id,
            flag,
            environment: "production".to_owned(),
            group: "g1".to_owned(),
            version: version.to_owned(),
            since,
            at,
        }
    }

    fn flag(flag: FlagKind, version: &str, (since, at): (Minute, Minute)) -> FlagLine {
        FlagLine {
            flag,
            service: "fares".to_owned(),
            environment: "production".to_owned(),
            group: "g1".to_owned(),
            version: version.to_owned(),
            at,
            since,
            by_deploy: false,
            count: 9,
            expected: 1.0,
            evidence: 9.0,
            requests: None,
        }
    }

    #[test]
    fn a_surge_said_some_minutes_later_is_the_same_and_an_error_that_occurred_before_is_new_no_more() {
        let before = [
            said(1, FlagKind::New, "2.4.0", (100, 100)),
            said(2, FlagKind::Surging, "2.4.0", (200, 207)),
            said(3, FlagKind::Surging, "2.4.0", (900, 912)),
        ];
        let now = [
            flag(FlagKind::New, "2.3.9", (40, 40)),
            flag(FlagKind::Surging, "2.4.0", (201, 211)),
            flag(FlagKind::Surging, "2.4.1", (2_000, 2_004)),
        ];
        let corrected = corrected(&before, &now);
        assert_eq!(
            corrected,
            Corrected {
                fresh: vec![0, 2],
                same: vec![(1, 2)],
                withdrawn: vec![1, 3]
            }
        );
    }

    #[test]
    fn two_surges_near_each_other_are_told_apart() {
        let before = [
            said(1, FlagKind::Surging, "2.4.0", (200, 207)),
            said(2, FlagKind::Surging, "2.4.0", (240, 250)),
        ];
        let now = [
            flag(FlagKind::Surging, "2.4.0", (201, 208)),
            flag(FlagKind::Surging, "2.4.0", (241, 251)),
            flag(FlagKind::Surging, "2.4.0", (242, 255)),
        ];
        assert_eq!(
            corrected(&before, &now),
            Corrected {
                fresh: vec![2],
                same: vec![(0, 1), (1, 2)],
                withdrawn: vec![]
            }
        );
    }
}
