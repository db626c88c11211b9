//! Pairs reports without a trace with failures of the same instance.

use std::collections::{BTreeMap, HashSet};

use serde::{Deserialize, Serialize};

use super::report::OccurrenceId;
use super::state::{BrokenState, decode, encode};
use crate::Timestamp;

/// How far apart the reports of one failure with and without a trace may lie, in milliseconds.
const WINDOW_MS: i64 = 2_000;
/// Entries kept of one exception of one instance; the newest stay.
const MAX_ENTRIES: usize = 512;

/// A failure of one instance and exception.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PairingEntry {
    /// The occurrence.
    pub occurrence: OccurrenceId,
    /// When it happened.
    pub at: Timestamp,
    /// Whether it has a trace.
    pub is_traced: bool,
    /// The traced occurrence that an untraced one was found to be.
    pub is_part_of: Option<OccurrenceId>,
}

/// Failures of one instance with the same innermost frame and message: those without a trace are paired one to one with
/// those that have one, since a web server's own logger reports an exception once more without its trace.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PairingState {
    entries: Vec<PairingEntry>,
}

/// What must change in the store after news.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PairingChanges {
    /// Untraced occurrences not seen before that count.
    pub counted: Vec<OccurrenceId>,
    /// Untraced occurrences not seen before that are part of a traced one: report, failure.
    pub absorbed: Vec<(OccurrenceId, OccurrenceId)>,
    /// Untraced occurrences counted before that are part of a traced one: report, failure.
    pub withdrawn: Vec<(OccurrenceId, OccurrenceId)>,
    /// Untraced occurrences that were part of another and count again.
    pub restored: Vec<OccurrenceId>,
    /// Untraced occurrences older than all that is remembered: whether they were seen before, only
    /// what is stored can tell. Those that are not stored count.
    pub uncertain: Vec<OccurrenceId>,
}

impl PairingState {
    /// Reads what [`PairingState::encode`] wrote.
    ///
    /// # Errors
    /// [`BrokenState`] when the bytes are of another form.
    pub fn decode(bytes: &[u8]) -> Result<Self, BrokenState> {
        decode(bytes)
    }

    /// Writes the state down, some 30 bytes an entry.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        encode(self)
    }

    /// Adds entries, removes traced ones that no longer stand for a failure, and says what changes by it. Entries seen
    /// before change nothing.
    pub fn add(&mut self, added: Vec<PairingEntry>, removed: &[OccurrenceId]) -> PairingChanges {
        let mut changes = PairingChanges::default();
        self.entries
            .retain(|entry| !(entry.is_traced && removed.contains(&entry.occurrence)));
        let mut before: BTreeMap<OccurrenceId, Option<OccurrenceId>> = self
            .entries
            .iter()
            .filter(|entry| !entry.is_traced)
            .map(|entry| (entry.occurrence, entry.is_part_of))
            .collect();
        let mut fresh = HashSet::new();
        // Once entries were forgotten, what is as old as those may be one of them.
        let forgotten = (self.entries.len() >= MAX_ENTRIES).then(|| self.entries[0].at);
        let mut known: HashSet<OccurrenceId> = self.entries.iter().map(|entry| entry.occurrence).collect();
        for entry in added {
            if !known.insert(entry.occurrence) {
                continue;
            }
            if forgotten.is_some_and(|forgotten| entry.at <= forgotten) {
                if !entry.is_traced {
                    changes.uncertain.push(entry.occurrence);
                }
                continue;
            }
            if !entry.is_traced {
                fresh.insert(entry.occurrence);
                before.insert(entry.occurrence, None);
            }
            self.entries.push(entry);
        }
        self.entries.sort_unstable_by_key(|entry| (entry.at, entry.occurrence));
        self.pair();
        for entry in self.entries.iter().filter(|entry| !entry.is_traced) {
            let is_fresh = fresh.contains(&entry.occurrence);
            match (
                is_fresh,
                before.get(&entry.occurrence).copied().flatten(),
                entry.is_part_of,
            ) {
                (true, _, None) => changes.counted.push(entry.occurrence),
                (true, _, Some(other)) => changes.absorbed.push((entry.occurrence, other)),
                (false, None, Some(other)) => changes.withdrawn.push((entry.occurrence, other)),
                (false, Some(_), None) => changes.restored.push(entry.occurrence),
                (false, _, _) => {}
            }
        }
        let surplus = self.entries.len().saturating_sub(MAX_ENTRIES);
        self.entries.drain(..surplus);
        changes
    }

    /// Pairs in order of time, each untraced entry with the earliest traced one still free within the window: for
    /// windows of one width this pairs as many as can be paired.
    fn pair(&mut self) {
        let traced: Vec<(OccurrenceId, Timestamp)> = self
            .entries
            .iter()
            .filter(|entry| entry.is_traced)
            .map(|entry| (entry.occurrence, entry.at))
            .collect();
        let mut next = 0;
        for entry in self.entries.iter_mut().filter(|entry| !entry.is_traced) {
            while traced
                .get(next)
                .is_some_and(|(_, at)| *at < entry.at.plus_millis(-WINDOW_MS))
            {
                next += 1;
            }
            entry.is_part_of = match traced.get(next) {
                Some((occurrence, at)) if *at <= entry.at.plus_millis(WINDOW_MS) => {
                    next += 1;
                    Some(*occurrence)
                }
                _ => None,
            };
        }
    }
}
