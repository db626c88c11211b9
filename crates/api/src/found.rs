//! What was found of something pasted.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Whatever somebody has at hand.
#[derive(Clone, Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct FindQuery {
    /// A reference, a link, a trace or request id, a user, a log line, a stack: at most 64 kB.
    pub text: String,
}

/// What was found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FoundPage {
    /// The likeliest first, 10 at most.
    pub items: Vec<Candidate>,
}

/// Something that the text may mean.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Candidate {
    /// How it was found: `error`, `occurrence`, `trace`, `attribute`, `resource`, `version`,
    /// `endpoint`, `file`, `function`, `log lines`, `stack`, `log line` or `words`.
    pub by: String,
    /// In words.
    pub title: String,
    /// The error's reference, where it is one error.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// The console's page, with its view.
    pub path: String,
    /// The predicate for what was found, where it is no single error.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
}
