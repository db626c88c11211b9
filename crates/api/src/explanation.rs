//! Why failures are one error.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why an occurrence belongs to its error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// In words: what decided.
    pub sentence: String,
    /// What decided: `own_frames`, `library_frames` or `message`.
    pub tier: String,
    /// All that went into the grouping key, in order.
    pub counted: Vec<Counted>,
    /// What was left out, and why.
    pub ignored: Vec<String>,
}

/// A part of a grouping key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Counted {
    /// `type`, `frame`, `code` or `message`.
    pub kind: String,
    /// As it went in.
    pub text: String,
}
