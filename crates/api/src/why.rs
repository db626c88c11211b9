//! Why an error is where it is, in sentences.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::TouchItem;

/// Why an error is there: the evidence in order.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// The version whose changes were looked at; null where none stands at its beginning.
    pub version: Option<String>,
    /// Sentences, the most telling first. Never empty: where nothing explains it, that is said.
    pub sentences: Vec<WhySentence>,
    /// Commits of that version near its frames, the nearest first.
    pub touches: Vec<TouchItem>,
    /// Who owns the files of its own frames, by CODEOWNERS.
    pub owners: Vec<String>,
    /// What to do next, as the evidence has it; the most promising first, 4 at most.
    pub steps: Vec<NextStep>,
}

/// What to do next.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NextStep {
    /// The step, in words.
    pub text: String,
    /// The command that takes it; null where a link does.
    pub command: Option<String>,
    /// A page that it leads to: a path of the console, or a whole address.
    pub link: Option<String>,
}

/// A sentence of evidence.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhySentence {
    /// `beginning`, `change`, `load`, `origin`, `stands out`, `together`, `history`, `nothing`.
    pub kind: String,
    /// The sentence.
    pub text: String,
    /// The error it speaks of, where it is another one.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
}
