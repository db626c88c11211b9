//! What people do about errors.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something done about an error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "verb", rename_all = "snake_case")]
pub enum HandlingAction {
    /// Somebody takes it.
    Take {
        /// A person or team; the caller where not given.
        #[serde(default)]
        by: Option<String>,
    },
    /// Nobody has it any more.
    HandBack,
    /// It must not occur from a version on; where it does, it returned.
    Settle {
        /// The version; it need not be deployed yet.
        #[schema(min_length = 1, max_length = 200)]
        version: String,
    },
    /// Nobody is told of it for a time, or until something holds for it. One of the two must be given.
    Quiet {
        /// Until when.
        #[serde(default)]
        until: Option<DateTime<Utc>>,
        /// Until this predicate holds for what occurs from now on: `users > 50`.
        #[serde(default, rename = "where")]
        predicate: Option<String>,
    },
    /// It is neither settled nor quiet.
    Reopen,
    /// Something worth knowing.
    Note {
        /// The text.
        text: String,
    },
}

/// How an error is handled.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HandlingState {
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Who has it.
    pub taken_by: Option<String>,
    /// The version from which on it must not occur.
    pub settled_in: Option<String>,
    /// The time, or the predicate, until which nobody is told.
    pub quiet_until: Option<String>,
    /// Neither settled nor quiet.
    pub open: bool,
    /// What was done, the newest first.
    pub history: Vec<HandlingChange>,
}

/// One thing that was done.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HandlingChange {
    /// When.
    pub at: DateTime<Utc>,
    /// Who did it; `outcrop` for what happened by itself.
    pub by: String,
    /// `take`, `hand back`, `settle`, `quiet`, `reopen`, `return`, `speak up` (the quiet ended), `note`.
    pub verb: String,
    /// To whom, in which version, until what, or the note.
    pub what: String,
}
