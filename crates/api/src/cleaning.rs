//! Wire types of deleting what belongs to a service, an environment, an error or a user.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What may be deleted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CleaningKind {
    /// All that a service sent, and what was made of it. Its name and its settings stay.
    Service,
    /// All that came from an environment.
    Environment,
    /// An error's occurrences, counters, flags and handling.
    Error,
    /// What tells of one user: occurrences, requests, log lines and traces. Counts stay.
    User,
}

/// What to delete.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCleaning {
    /// What it is.
    pub kind: CleaningKind,
    /// Its name: a service's, an environment's, an error's reference, a user as occurrences have them.
    #[schema(min_length = 1, max_length = 400)]
    pub name: String,
    /// The same name once more: only then it is deleted. Not looked at where it is only tried.
    #[serde(default)]
    pub confirm: String,
}

/// How much would be deleted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CleaningTrial {
    /// What it is.
    pub kind: CleaningKind,
    /// Its whole name, as it must be confirmed.
    pub name: String,
    /// What there is of it.
    pub counts: Vec<CleaningCount>,
}

/// How much there is of something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CleaningCount {
    /// `occurrences`, `requests`, `log lines`, `pieces of traces`.
    pub what: String,
    /// How many.
    pub count: i64,
}

/// What was asked to be deleted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CleaningItem {
    /// Its number.
    pub id: i32,
    /// `service`, `environment`, `error` or `user`.
    pub kind: String,
    /// Its name; of a user none is kept.
    pub name: String,
    /// Who asked; `outcrop` for old test reports.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// Rows deleted so far.
    pub removed: i64,
    /// When it was done; `null` while it goes on.
    pub done_at: Option<DateTime<Utc>>,
}

/// What was asked to be deleted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CleaningList {
    /// The newest first, 100 at most.
    pub items: Vec<CleaningItem>,
}
