//! What people change about grouping.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A change of how a service's occurrences are grouped.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum GroupingChange {
    /// Which code is the service's own: a rule, for what is known and for what comes.
    OwnCode {
        /// The service.
        service: String,
        /// Its namespace, needed only where several have a service of this name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        namespace: Option<String>,
        /// Beginnings of paths, modules or functions that are own code, of 1 to 500 bytes; with `library` at most 100.
        #[serde(default)]
        #[schema(max_items = 100)]
        own: Vec<String>,
        /// Such that belong to libraries.
        #[serde(default)]
        #[schema(max_items = 100)]
        library: Vec<String>,
    },
    /// Whatever a predicate holds for is one error: a rule.
    JoinWhere {
        /// The service.
        service: String,
        /// Its namespace, needed only where several have a service of this name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        namespace: Option<String>,
        /// The predicate, of what is known of a single occurrence.
        #[serde(rename = "where")]
        #[schema(max_length = 4_096)]
        predicate: String,
    },
    /// An error is told apart by an attribute's value: a rule.
    SplitBy {
        /// The error's reference.
        error: String,
        /// The attribute, of the record or its resource; at most 50 values.
        #[schema(max_length = 500)]
        attribute: String,
    },
    /// Errors of one service are joined by hand.
    JoinErrors {
        /// The reference that stays.
        error: String,
        /// References of those that become part of it.
        #[schema(min_items = 1, max_items = 1_000)]
        with: Vec<String>,
    },
    /// Causes become an error of their own, by hand.
    SplitOff {
        /// The error's reference.
        error: String,
        /// Numbers of its causes.
        #[schema(min_items = 1, max_items = 1_000)]
        causes: Vec<i64>,
    },
}

/// How a change is made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ChangeQuery {
    /// Only say what it would do.
    pub dry_run: Option<bool>,
    /// Over how many days back it is worked out, 1 to 30; 7 where none is given.
    #[param(minimum = 1, maximum = 30)]
    pub days: Option<u32>,
}

/// Which changes to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ChangesQuery {
    /// Only those that concern this error.
    pub error: Option<String>,
}

/// What a change does, or would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupingOutcome {
    /// The change's number, by which it is undone; none for a dry run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<i64>,
    /// In words.
    pub sentence: String,
    /// Over how many days it was worked out.
    pub days: u32,
    /// Occurrences looked at.
    pub occurrences: i64,
    /// Errors that become one.
    pub joined: Vec<JoinedErrors>,
    /// Errors that fall apart.
    pub split: Vec<SplitError>,
}

/// Errors that become one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JoinedErrors {
    /// The error that stays.
    pub into: NamedError,
    /// Those that become part of it.
    pub errors: Vec<NamedError>,
}

/// An error that falls apart.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SplitError {
    /// The error; its largest part keeps the reference.
    pub error: NamedError,
    /// The parts that become errors of their own, the largest first.
    pub parts: Vec<SplitPart>,
    /// Occurrences that go over to a known error.
    pub leaving: i64,
}

/// A part of an error that becomes an error of its own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SplitPart {
    /// Its title.
    pub title: String,
    /// Its occurrences in the days looked at.
    pub count: i64,
}

/// An error by reference and title.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NamedError {
    /// Its reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Its title.
    pub title: String,
}

/// Changes that were made, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupingChanges {
    /// The changes, 200 at most.
    pub items: Vec<GroupingChangeItem>,
}

/// A change that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupingChangeItem {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    pub by: String,
    /// In which service.
    pub service: String,
    /// Whether it also holds for what comes.
    pub is_rule: bool,
    /// What was asked for, in words.
    pub change: String,
    /// What it did, in words.
    pub sentence: String,
    /// When it was undone.
    pub undone_at: Option<DateTime<Utc>>,
    /// By whom.
    pub undone_by: Option<String>,
}

/// A change that was undone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// What happened, in words.
    pub sentence: String,
}

/// The causes of an error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CauseList {
    /// The causes that have occurred, the most frequent first.
    pub items: Vec<CauseItem>,
}

/// A cause: occurrences with one grouping key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CauseItem {
    /// Its number.
    pub id: i64,
    /// Occurrences of all time.
    pub count: i64,
    /// The first of them.
    pub first_seen: DateTime<Utc>,
    /// The last of them.
    pub last_seen: DateTime<Utc>,
    /// Type and message of the latest one kept.
    pub message: Option<String>,
}
