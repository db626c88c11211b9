//! Flags held against what is true.

use std::collections::{HashMap, HashSet};

use outcrop_core::deploy::{FlagKind, FlagLine};
use statrs::distribution::{Beta, ContinuousCDF};

use super::{At, DAY, Difficulty, Fleet};

/// Minutes in which a change is to be said.
const WINDOW: At = 60;

/// What flags got right and wrong, over one fleet or several.
#[derive(Clone, Debug, Default)]
pub struct Score {
    /// Changes that were asked for, and those found, by [`Difficulty`]: easy, medium, hard.
    pub asked: [u64; 3],
    /// Of these, those that flags found.
    pub found: [u64; 3],
    /// Of these, those that a reader finds who knows every true rate.
    pub by_reader: [u64; 3],
    /// Flags of nothing.
    pub wrong: u64,
    /// Deploys that changed nothing.
    pub silent: u64,
    /// Flags of nothing between such a deploy and the next of its service.
    pub wrong_of_silent: u64,
    /// Minutes after which surges were found, and after which the reader found them: those that both found.
    pub delays: Vec<(At, At)>,
    /// What was said wrongly, and what was missed: a line each.
    pub notes: Vec<String>,
}

impl Score {
    /// Holds the flags of one fleet against what is true of it.
    pub fn add(&mut self, fleet: &Fleet, flags: &[FlagLine]) {
        let mut flags: Vec<&FlagLine> = flags.iter().filter(|flag| flag.at >= fleet.scored_from).collect();
        flags.sort_by_key(|flag| flag.at);
        let mut found: HashMap<usize, At> = HashMap::new();
        let mut said: HashMap<(&str, &str, FlagKind), At> = HashMap::new();
        let mut flagged: HashSet<(usize, At)> = HashSet::new();
        self.silent += fleet.silent.len() as u64;
        for flag in flags {
            let explains = |change: &&(usize, &super::Change)| {
                let (_, change) = *change;
                let until = change
                    .ended
                    .map_or(change.began + DAY, |ended| (ended + 60).max(change.began + DAY));
                change.service == flag.service
                    && change.group == flag.group
                    && (change.flag == flag.flag || flag.flag == FlagKind::Surging)
                    && (change.began..=until).contains(&flag.at)
            };
            let changes: Vec<(usize, &super::Change)> = fleet.changes.iter().enumerate().collect();
            if let Some((at, change)) = changes.iter().rfind(explains) {
                if change.flag == flag.flag && flag.at - change.began <= WINDOW {
                    found.entry(*at).or_insert(flag.at - change.began);
                }
                continue;
            }
            let key = (flag.service.as_str(), flag.group.as_str(), flag.flag);
            if said.get(&key).is_some_and(|before| flag.at - before <= DAY) {
                continue;
            }
            said.insert(key, flag.at);
            self.wrong += 1;
            let of_silent = fleet
                .silent
                .iter()
                .position(|silent| silent.service == flag.service && (silent.from..silent.until).contains(&flag.at));
            self.wrong_of_silent += u64::from(of_silent.is_some());
            if let Some(at) = of_silent {
                flagged.insert((at, flag.at));
            }
            self.notes.push(format!(
                "wrong: {} {}/{} at {}, {} for {:.1} due since {} min, {:.1} nats{}",
                flag.flag.word(),
                flag.service,
                flag.group,
                flag.at - fleet.scored_from + DAY,
                flag.count,
                flag.expected,
                flag.at - flag.since,
                flag.evidence,
                if flag.by_deploy { ", by its deploy" } else { "" }
            ));
        }
        for (at, change) in fleet.changes.iter().enumerate() {
            let Some(place) = place(change.difficulty) else {
                continue;
            };
            self.asked[place] += 1;
            self.found[place] += u64::from(found.contains_key(&at));
            self.by_reader[place] += u64::from(change.reader.is_some());
            match (found.get(&at), change.reader) {
                (Some(delay), Some(reader)) if change.flag == FlagKind::Surging => self.delays.push((*delay, reader)),
                (None, _) => self.notes.push(format!(
                    "missed: {} {}/{} at {}, {:?}, by the reader after {:?}",
                    change.flag.word(),
                    change.service,
                    change.group,
                    change.began - fleet.scored_from + DAY,
                    change.difficulty,
                    change.reader
                )),
                _ => {}
            }
        }
    }

    /// Adds another score.
    pub fn join(&mut self, other: Self) {
        for place in 0..3 {
            self.asked[place] += other.asked[place];
            self.found[place] += other.found[place];
            self.by_reader[place] += other.by_reader[place];
        }
        self.wrong += other.wrong;
        self.silent += other.silent;
        self.wrong_of_silent += other.wrong_of_silent;
        self.delays.extend(other.delays);
        self.notes.extend(other.notes);
    }

    /// The median delay of surges in minutes, and that of the reader.
    #[must_use]
    pub fn median_delays(&self) -> Option<(At, At)> {
        let median = |mut delays: Vec<At>| {
            delays.sort_unstable();
            delays.get(delays.len() / 2).copied()
        };
        Some((
            median(self.delays.iter().map(|(of, _)| *of).collect())?,
            median(self.delays.iter().map(|(_, of)| *of).collect())?,
        ))
    }
}

fn place(difficulty: Difficulty) -> Option<usize> {
    match difficulty {
        Difficulty::Easy => Some(0),
        Difficulty::Medium => Some(1),
        Difficulty::Hard => Some(2),
        Difficulty::Beyond => None,
    }
}

/// The exact bounds between which a share lies with a confidence of 95 %, of which `hits` of `all`
/// were seen (Clopper and Pearson 1934).
///
/// # Panics
/// Never: the shapes are above nothing.
#[must_use]
pub fn bounds(hits: u64, all: u64) -> (f64, f64) {
    #[expect(clippy::cast_precision_loss, reason = "some thousands")]
    let (hits, all) = (hits as f64, all as f64);
    let least = if hits > 0.0 {
        Beta::new(hits, all - hits + 1.0)
            .expect("two shapes")
            .inverse_cdf(0.025)
    } else {
        0.0
    };
    let most = if hits < all {
        Beta::new(hits + 1.0, all - hits)
            .expect("two shapes")
            .inverse_cdf(0.975)
    } else {
        1.0
    };
    (least, most)
}

#[cfg(test)]
mod tests {
    use super::bounds;

    #[test]
    fn no_hit_in_a_hundred_leaves_up_to_three_and_a_half_percent() {
        let (least, most) = bounds(0, 100);
        // 1 − 0.025^(1/100).
        assert!(
            least.abs() < 1e-12 && (most - (1.0 - 0.025_f64.powf(0.01))).abs() < 1e-6,
            "{most}"
        );
        let (least, most) = bounds(50, 100);
        assert!(least > 0.39 && most < 0.61, "{least} {most}");
    }
}
