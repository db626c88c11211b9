//! What people change about grouping, and what a change does.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use outcrop_core::grouping::regrouping::{Plan, Portion, Target};
use outcrop_core::{Digest, Reference};
use serde::{Deserialize, Serialize};

use crate::StoreError;
use crate::ids::reference;

/// Values of an attribute that an error may be split by, at most: past this each occurrence would
/// soon be its own error.
pub const MAX_SPLIT_VALUES: usize = 50;

/// What somebody wants changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Change {
    /// Which code is the service's own: from now on, and for what is known.
    OwnCode {
        /// Beginnings of paths, modules or functions that are own code.
        own: Vec<String>,
        /// Such that are a library's.
        library: Vec<String>,
    },
    /// Whatever a predicate holds for is one error.
    JoinWhere {
        /// The predicate.
        predicate: String,
    },
    /// One error is told apart by an attribute's value.
    SplitBy {
        /// The error's number.
        error: i32,
        /// The attribute.
        attribute: String,
    },
    /// Errors joined by hand.
    JoinErrors {
        /// The error that stays.
        into: i32,
        /// Those that become part of it.
        errors: Vec<i32>,
    },
    /// Causes taken out of an error by hand.
    SplitOff {
        /// The error.
        error: i32,
        /// Its causes that become an error of their own.
        causes: Vec<i64>,
    },
    /// A cause that a version brought is an error that was known, whose code was edited: found by comparing versions.
    Moved {
        /// The error it is.
        error: i32,
        /// The cause.
        cause: i64,
        /// The version that brought it.
        version: String,
    },
}

impl Change {
    /// Whether it goes on holding for what comes in later.
    #[must_use]
    pub const fn is_rule(&self) -> bool {
        matches!(
            self,
            Self::OwnCode { .. } | Self::JoinWhere { .. } | Self::SplitBy { .. }
        )
    }
}

/// Why a change cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum ChangeError {
    /// It asks for something that is not there or makes no sense.
    #[error("{0}")]
    Unfit(String),
    /// Something else was changed meanwhile.
    #[error("{0}")]
    Conflict(String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for ChangeError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// What a change does, or would do, to the errors of a window.
#[derive(Clone, Debug, Default)]
pub struct Trial {
    /// Occurrences looked at.
    pub occurrences: i64,
    /// Errors joined, each list by the one that stays.
    pub joined: BTreeMap<Reference, BTreeSet<Reference>>,
    /// Parts that leave their error for a new one: title and count.
    pub parts: BTreeMap<Reference, Vec<(String, i64)>>,
    /// Occurrences that leave their error for one that is known.
    pub leaving: BTreeMap<Reference, i64>,
    /// Titles of all errors named here.
    pub titles: HashMap<Reference, String>,
}

/// The window a trial looks at.
#[derive(Clone, Copy, Debug)]
pub struct Over {
    /// From here.
    pub from: DateTime<Utc>,
    /// To here.
    pub to: DateTime<Utc>,
}

/// How a new error is called.
#[derive(Clone, Debug, Default)]
pub(super) struct Name {
    pub(super) title: String,
    pub(super) exception: String,
    pub(super) own_frame: Option<String>,
}

/// A change worked out on what is stored.
pub(super) struct Outlook {
    pub(super) plan: Plan,
    pub(super) portions: Vec<Portion>,
    pub(super) names: HashMap<Digest, Name>,
    pub(super) titles: HashMap<i32, String>,
}

impl Outlook {
    pub(super) fn trial(&self) -> Trial {
        let mut trial = Trial {
            occurrences: self.portions.iter().map(|portion| portion.count).sum(),
            ..Trial::default()
        };
        for (into, errors) in &self.plan.joined {
            trial
                .joined
                .insert(reference(*into), errors.iter().map(|error| reference(*error)).collect());
        }
        let mut counts: BTreeMap<Digest, i64> = BTreeMap::new();
        for portion in &self.portions {
            *counts.entry(portion.key).or_default() += portion.count;
        }
        for (key, target) in &self.plan.keys {
            if let Target::SplitFrom(from) = target {
                let title = self.names.get(key).map(|name| name.title.clone()).unwrap_or_default();
                trial
                    .parts
                    .entry(reference(*from))
                    .or_default()
                    .push((title, counts.get(key).copied().unwrap_or_default()));
            }
        }
        for parts in trial.parts.values_mut() {
            parts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        }
        for (error, count) in &self.plan.split {
            let to_new: i64 = trial
                .parts
                .get(&reference(*error))
                .into_iter()
                .flatten()
                .map(|(_, count)| count)
                .sum();
            if *count > to_new {
                trial.leaving.insert(reference(*error), count - to_new);
            }
        }
        trial.titles = self
            .titles
            .iter()
            .map(|(error, title)| (reference(*error), title.clone()))
            .collect();
        trial
    }
}
