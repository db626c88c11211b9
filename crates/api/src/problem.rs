//! What an answer says when it says no (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The status in words.
    pub title: String,
    /// The HTTP status code.
    pub status: u16,
    /// A stable code for programs.
    pub code: String,
    /// What went wrong and what to do, for people.
    pub detail: String,
    /// Where in a text that was sent, in characters from 0; of a predicate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<u32>,
    /// How many characters it concerns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length: Option<u32>,
}
