//! What people say of scrubbing, on the wire.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rule of scrubbing to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewScrubRule {
    /// The service it is for; without one, all.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub service: Option<String>,
    /// `remove`: values under names that end with these words; `keep`: the same stay, though a
    /// built-in name says otherwise; `shape`: what a regular expression finds in any text is
    /// removed.
    #[schema(pattern = "^(remove|keep|shape)$")]
    pub verb: String,
    /// The name in words, whatever its dress (`passport number` finds `passportNumber`), or the regular expression.
    #[schema(min_length = 1)]
    pub what: String,
    /// What the mark says in the place of the value; without one, what was said.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub reason: Option<String>,
}

/// A rule of scrubbing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ScrubRuleItem {
    /// Its number.
    pub id: i64,
    /// The service it is for; null for all.
    pub service: Option<String>,
    /// `remove`, `keep` or `shape`.
    pub verb: String,
    /// The name, or the regular expression.
    pub what: String,
    /// What the mark says; empty for `keep`.
    pub reason: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Who ended it; null while it is in force.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<DateTime<Utc>>,
}

/// Rules of scrubbing, those in force first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ScrubRuleList {
    /// The rules.
    pub items: Vec<ScrubRuleItem>,
}

/// The number of a rule just made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeScrubRule {
    /// Its number.
    pub id: i64,
}

/// A text to be scrubbed for trial: nothing is stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScrubTrial {
    /// The service whose rules hold; without one, those for all.
    #[serde(default)]
    pub service: Option<String>,
    /// The text: a message, a form, a header, JSON.
    #[schema(max_length = 65_536)]
    pub text: String,
    /// A rule that is tried beside those in force.
    #[serde(default)]
    pub rule: Option<NewScrubRule>,
}

/// What would be stored of a text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ScrubbedText {
    /// The text with marks in the place of what is removed, and pseudonyms in that of e-mail addresses.
    pub text: String,
    /// Whether it differs from what was given.
    pub changed: bool,
}
