//! What people do about errors.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Something done about an error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "verb", rename_all = "snake_case", deny_unknown_fields)]
pub enum HandlingAction {
    /// Somebody takes it.
    Take {
        /// A person or team; the caller where not given.
        #[serde(default)]
        by: Option<String>,
    },
    /// Nobody has it any more.
    HandBack,
    /// It must not occur from then on; where it does, it returned. One of the three must be given.
    Settle {
        /// From this version on; it need not be deployed yet.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(min_length = 1, max_length = 200)]
        version: Option<String>,
        /// From the first deploy on that holds this commit: its id, or the first 7 digits of it or more.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(min_length = 7, max_length = 64)]
        commit: Option<String>,
        /// From now on, whatever the version.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        now: bool,
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

/// What whoever acts has seen of the error before.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct HandlingQuery {
    /// The last change seen, `last_change`: where another came since, nothing is done and the answer is 409.
    pub after: Option<i64>,
}

/// The same done about many errors: about all, or about none.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct HandlingOfMany {
    /// Their references.
    #[schema(min_items = 1, max_items = 500)]
    pub errors: Vec<String>,
    /// What is done.
    pub action: HandlingAction,
}

/// How many errors are handled.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HandlingList {
    /// In the order they were asked for.
    pub items: Vec<HandlingState>,
}

/// A change to undo.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UndoneHandling {
    /// Its number, `last_change`: it must be the last one.
    pub change: i64,
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
    /// The commit by which it is settled; while `settled_in` is `null`, no deploy is known to hold it.
    #[serde(default)]
    pub settled_by: Option<String>,
    /// The time from which on it must not occur, where that is said of no version.
    #[serde(default)]
    pub settled_from: Option<DateTime<Utc>>,
    /// The time, or the predicate, until which nobody is told.
    pub quiet_until: Option<String>,
    /// Neither settled nor quiet.
    pub open: bool,
    /// Whether it is gone, where it is settled.
    #[serde(default)]
    pub verdict: Option<SettledVerdict>,
    /// Its ticket in another program.
    #[serde(default)]
    pub ticket: Option<super::TicketItem>,
    /// To whom it may be handed, where nobody took it: its owner first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proposals: Vec<super::HandOver>,
    /// The number of the last change of how it is handled; `null` where there was none.
    #[serde(default)]
    pub last_change: Option<i64>,
    /// Whether that change can be undone.
    #[serde(default)]
    pub can_be_undone: bool,
    /// What was done, the newest first.
    pub history: Vec<HandlingChange>,
}

/// What is asked of an error's history.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct HistoryQuery {
    /// Only what happened before this time: `next` of the page before.
    pub before: Option<DateTime<Utc>>,
    /// Entries at most, 1 to 500; 50 where not given. What happened at the same time as the last one comes along.
    pub limit: Option<u32>,
}

/// What happened to an error: what people did, what was said of it, and the deploys of its service where it occurs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// The entries, the newest first.
    pub items: Vec<HistoryEntry>,
    /// Where the page after this one begins; `null` after the last.
    pub next: Option<DateTime<Utc>>,
}

/// One thing that happened to an error, or around it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HistoryEntry {
    /// When.
    pub at: DateTime<Utc>,
    /// What it is.
    pub kind: HistoryKind,
    /// Who did it; `null` for what was seen or said by Outcrop.
    pub by: Option<String>,
    /// What happened, after the name where there is one: `settled it in 2.4.1`. Of a note: its text, in the plain subset
    /// of Markdown.
    pub text: String,
}

/// What an entry of an error's history is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HistoryKind {
    /// Its handling changed.
    Handling,
    /// Somebody wrote something worth knowing.
    Note,
    /// It was said to be new, surging or returned; or that ended, or was taken back.
    Flag,
    /// A version of its service came to a place where it occurs.
    Deploy,
}

/// How an error is settled, in words: `settled in 2.4.1`; `None` where it is not.
#[must_use]
pub fn settled_in_words(version: Option<&str>, commit: Option<&str>, from: Option<DateTime<Utc>>) -> Option<String> {
    let time = |at: DateTime<Utc>| at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    match (version, commit, from) {
        (Some(version), _, _) => Some(format!("settled in {version}")),
        (None, _, Some(from)) => Some(format!("settled from {} on", time(from))),
        (None, Some(commit), None) => Some(format!("settled by commit {commit}, in no deploy yet")),
        (None, None, None) => None,
    }
}

/// An error that is settled in a version, and whether it is gone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SettledError {
    /// Its reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Its title.
    pub title: String,
    /// Whether it is gone.
    pub verdict: SettledVerdict,
}

/// Whether a settled error is gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SettledOutcome {
    /// It did not occur, and an error as before would hardly have stayed away so long.
    Gone,
    /// It did not occur, and an error as before may well have stayed away so long.
    TooEarly,
    /// It occurred since.
    Back,
    /// Nothing is known of it before, or of the version.
    Unknown,
}

/// What is said of a settled error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SettledVerdict {
    /// What is said.
    pub outcome: SettledOutcome,
    /// The same in a sentence, with what it rests on.
    pub sentence: String,
    /// When the first telemetry of the version that it is settled in occurred, or the time from which on it is settled;
    /// `null` where there is none.
    pub since: Option<DateTime<Utc>>,
    /// Requests of that version and later ones.
    pub requests: i64,
    /// How often an error as before would have stayed away so long, 0 to 1; `null` where that is not known.
    pub chance: Option<f64>,
}

/// One thing that was done.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HandlingChange {
    /// When.
    pub at: DateTime<Utc>,
    /// Who did it; `outcrop` for what happened by itself.
    pub by: String,
    /// `take`, `hand back`, `settle`, `settle by`, `quiet`, `reopen`, `return`, `speak up` (the quiet ended), `note`.
    pub verb: String,
    /// To whom, in which version (empty: from then on), by which commit, until what, or the note.
    pub what: String,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::{Value, json};

    use super::*;

    #[rstest]
    #[case::by_oneself(json!({"verb": "take"}), json!({"verb": "take", "by": null}))]
    #[case::by_a_team(json!({"verb": "take", "by": "deck team"}), json!({"verb": "take", "by": "deck team"}))]
    #[case::back(json!({"verb": "hand_back"}), json!({"verb": "hand_back"}))]
    #[case::settled(json!({"verb": "settle", "version": "2.4.1"}), json!({"verb": "settle", "version": "2.4.1"}))]
    #[case::quiet(
        json!({"verb": "quiet", "where": "users > 50"}),
        json!({"verb": "quiet", "until": null, "where": "users > 50"})
    )]
    #[case::reopened(json!({"verb": "reopen"}), json!({"verb": "reopen"}))]
    #[case::noted(json!({"verb": "note", "text": "winter only"}), json!({"verb": "note", "text": "winter only"}))]
    fn an_action_is_read_and_written_by_its_verb(#[case] sent: Value, #[case] written: Value) {
        let action: HandlingAction = serde_json::from_value(sent).unwrap();
        assert_eq!(serde_json::to_value(action).unwrap(), written);
    }

    #[rstest]
    #[case::unknown_verb(json!({"verb": "forget"}), "unknown variant `forget`")]
    #[case::no_verb(json!({}), "verb")]
    #[case::no_commit(json!({"verb": "settle", "commit": 3}), "invalid type: integer `3`")]
    #[case::an_unknown_field(json!({"verb": "take", "who": "deck team"}), "unknown field `who`")]
    fn what_is_no_action_is_refused_with_what_is_wrong(#[case] sent: Value, #[case] said: &str) {
        let refused = serde_json::from_value::<HandlingAction>(sent).unwrap_err().to_string();
        assert!(refused.contains(said), "{refused}");
    }
}
