//! What stands out of an error's occurrences, and what they have in common.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::question::AttributeValues;

/// What the occurrences of an error have in common, against the service's requests in the same time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Common {
    /// Occurrences looked at: the newest 5,000 of the window at most.
    pub occurrences: u64,
    /// Sampled requests they are compared with.
    pub requests: u64,
    /// Values that stand out, the strongest first.
    pub stands_out: Vec<StandsOut>,
    /// Why nothing is compared, where that is so.
    pub not_compared: Option<String>,
    /// `every 15 minutes`, where the occurrences come in a rhythm.
    pub rhythm: Option<String>,
    /// The most frequent values of every attribute.
    pub attributes: Vec<AttributeValues>,
}

/// What log lines share that other lines of their services do not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SharedByLines {
    /// Lines that were looked at: the newest 2,000 at most.
    pub lines: u64,
    /// Lines of the same services that they were held against: the newest 5,000 at most.
    pub usual: u64,
    /// Values that stand out, the strongest first; counts and shares are of lines.
    pub stands_out: Vec<StandsOut>,
}

/// A value over-represented in an error's occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StandsOut {
    /// In words: `all with season = winter; usually 11 %`.
    pub sentence: String,
    /// The attribute's name.
    pub name: String,
    /// The value.
    pub value: String,
    /// A predicate for the occurrences with it; `null` where time is what stands out.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// Occurrences with it.
    pub count: u64,
    /// The share of occurrences with it, 0 to 1.
    pub share: f64,
    /// The share of requests with it, 0 to 1.
    pub usual_share: f64,
    /// How many times as frequent it is at least, by the bounds of both shares (95 %).
    pub ratio_at_least: f64,
}
