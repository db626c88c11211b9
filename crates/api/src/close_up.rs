//! Close-ups: the next occurrences kept in full.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::occurrence::OccurrenceItem;

/// What is asked of a list of close-ups.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct CloseUpQuery {
    /// Only those of this error.
    pub error: Option<String>,
}

/// A close-up to begin: of an error, or of what a predicate holds for.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCloseUp {
    /// The reference of the error whose next occurrences are kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// In place of an error: the predicate that holds for the occurrences.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub predicate: Option<String>,
    /// How many occurrences, 1 to 100; 3 where none is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 100)]
    pub count: Option<u32>,
    /// Until when at most, within 7 days; 24 hours from now where none is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// Whether you are told once it ends of itself.
    #[serde(default)]
    pub tell: bool,
}

/// Close-ups: those under way first, then the newest; 100 at most.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CloseUpList {
    /// The close-ups.
    pub items: Vec<CloseUpItem>,
}

/// A close-up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CloseUpItem {
    /// Its number.
    pub id: i32,
    /// The reference of the error that it is of.
    pub error: Option<String>,
    /// The service of that error.
    pub service: Option<String>,
    /// What that error is called.
    pub title: Option<String>,
    /// In place of an error: the predicate.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// How many occurrences were asked for.
    pub count: u32,
    /// How many are kept by now.
    pub taken: u32,
    /// Until when at most.
    pub until: DateTime<Utc>,
    /// Whether who asked is told once it ends of itself.
    pub tell: bool,
    /// Who asked.
    pub asked_by: String,
    /// When.
    pub asked_at: DateTime<Utc>,
    /// `open`; `complete` once all are kept, `over` past its time, `ended` by hand.
    pub state: String,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Who ended it.
    pub ended_by: Option<String>,
    /// What it has come to, with times in UTC: `2 of 5 kept; 3 left, until 18:00 UTC`.
    pub said: String,
}

/// A close-up with what it took.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CloseUp {
    /// The close-up.
    #[serde(flatten)]
    pub item: CloseUpItem,
    /// The occurrences that it took and that are still kept, the first first.
    pub occurrences: Vec<TakenOccurrence>,
}

/// An occurrence that a close-up took.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakenOccurrence {
    /// The reference of its error.
    pub error: String,
    /// The occurrence.
    #[serde(flatten)]
    pub occurrence: OccurrenceItem,
}
