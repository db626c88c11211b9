//! Change markers.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{FlagItem, Sums};

/// A change to mark.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewMarker {
    /// In a few words: `database upgraded to 17`.
    #[schema(min_length = 1, max_length = 200)]
    pub title: String,
    /// `database`, `configuration`, `provisioning` or `other`.
    #[serde(default = "other")]
    #[schema(pattern = "^(database|configuration|provisioning|other)$")]
    pub kind: String,
    /// When it began; now where not given.
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
    /// When it was over.
    #[serde(default)]
    pub ended_at: Option<DateTime<Utc>>,
    /// The service it may touch; all where not given.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub service: Option<String>,
    /// The environment it may touch; all where not given.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub environment: Option<String>,
    /// Where more is said.
    #[serde(default)]
    #[schema(max_length = 2_000)]
    pub link: String,
}

fn other() -> String {
    "other".to_owned()
}

/// Marked changes, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkerList {
    /// The changes.
    pub items: Vec<MarkerItem>,
}

/// A marked change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkerItem {
    /// Its number.
    pub id: i32,
    /// In a few words.
    pub title: String,
    /// `database`, `configuration`, `provisioning` or `other`.
    pub kind: String,
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over.
    pub ended_at: Option<DateTime<Utc>>,
    /// The service it may touch; null for all.
    pub service: Option<String>,
    /// The environment it may touch; null for all.
    pub environment: Option<String>,
    /// Where more is said; may be empty.
    pub link: String,
    /// Who marked it.
    pub by: String,
    /// What happened after it.
    pub check: MarkerCheck,
}

/// What happened after a marked change, where it may have touched something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkerCheck {
    /// `clear`, `flagged` or `too early`.
    pub outcome: String,
    /// The answer in words.
    pub sentence: String,
    /// Surges without a deploy that began within two hours after it.
    pub flags: Vec<FlagItem>,
    /// Requests of the same length of time before.
    pub before: Sums,
    /// Requests since.
    pub after: Sums,
}
