//! Predicates: completed, checked, and what values there are.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A predicate that is being written.
#[derive(Clone, Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct CompletionQuery {
    /// The text so far.
    pub text: String,
    /// The place to complete at, in characters; its end where not given.
    pub at: Option<u32>,
}

/// What may stand at a place of a predicate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Completion {
    /// Where the word being written begins, in characters.
    pub from: u32,
    /// `field`, `check`, `value`, `connective` or `nothing`.
    pub wanted: String,
    /// What it may become, the likeliest first, ready to be put in.
    pub offers: Vec<String>,
    /// What is wrong with the text as it stands; `null` where it is a predicate.
    pub mistake: Option<Mistake>,
}

/// A mistake in a predicate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Mistake {
    /// Where, in characters from 0.
    pub at: u32,
    /// How many characters it concerns; 0 at the end.
    pub length: u32,
    /// What is wrong, and what would be right.
    pub message: String,
}

/// The values of an attribute over an error's occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AttributeValues {
    /// Its name.
    pub name: String,
    /// How many different values there are.
    pub kinds: i64,
    /// The 20 most frequent at most.
    pub values: Vec<ValueCount>,
}

/// A value with its number of occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ValueCount {
    /// The value.
    pub value: String,
    /// Occurrences with it.
    pub count: i64,
    /// A predicate for the occurrences with it; `null` for times.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
}
