//! Occurrences: those of one error, and one in full.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::severity::Severity;
use super::stack::Stack;

/// An occurrence in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrenceItem {
    /// Its id in lower-case hex; ids sort by time.
    pub id: String,
    /// When it happened.
    pub at: DateTime<Utc>,
    /// When it was received.
    pub received_at: DateTime<Utc>,
    /// Its service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// The endpoint of its request, where known.
    pub endpoint: Option<String>,
    /// The exception's type.
    #[serde(rename = "type")]
    pub type_name: String,
    /// The exception's message.
    pub message: String,
    /// Its severity.
    pub severity: Severity,
    /// Whether it ended a request, job or process.
    pub uncaught: bool,
    /// Its trace in lower-case hex.
    pub trace_id: Option<String>,
    /// Its span in lower-case hex.
    pub span_id: Option<String>,
    /// The host's name.
    pub host: Option<String>,
    /// The instance's id.
    pub instance: Option<String>,
    /// The user.
    pub user: Option<String>,
    /// The values of the `columns` that were asked for, in their order; `null` where it has none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<Option<String>>,
}

/// A page of occurrences, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrencePage {
    /// The occurrences.
    pub items: Vec<OccurrenceItem>,
    /// How many are kept on all pages; 10,001 where there are more than 10,000.
    pub total: i64,
    /// The cursor of the next page; `null` on the last.
    pub next: Option<String>,
}

/// A further report of the same failure.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlsoReported {
    /// When.
    pub at: DateTime<Utc>,
    /// On which span, in lower-case hex.
    pub span_id: Option<String>,
    /// The type it gave.
    #[serde(rename = "type")]
    pub type_name: String,
    /// The message it gave.
    pub message: String,
}

/// One occurrence in full.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrenceDetail {
    /// What the list says of it.
    #[serde(flatten)]
    pub occurrence: OccurrenceItem,
    /// The error it belongs to.
    pub error: String,
    /// Its frames; `null` where no known runtime wrote the stack text.
    pub stack: Option<Stack>,
    /// The stack text as sent; `null` where it was not kept.
    pub stacktrace: Option<String>,
    /// The request, sorted for people.
    #[serde(default)]
    pub request: Vec<RequestPart>,
    /// The record's attributes.
    #[schema(value_type = Object)]
    pub attributes: serde_json::Value,
    /// The resource's attributes.
    #[schema(value_type = Object)]
    pub resource: serde_json::Value,
    /// Further reports of the same failure.
    pub also_reported: Vec<AlsoReported>,
    /// The exact data sent as OTLP/JSON, less what was scrubbed; `null` where it was not kept.
    #[schema(value_type = Option<Object>)]
    pub sent: Option<serde_json::Value>,
}

/// Which occurrences to list.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct OccurrenceQuery {
    /// Items per page, 1 to 500; 50 where not given.
    pub limit: Option<u32>,
    /// The cursor of a page.
    pub cursor: Option<String>,
    /// Only occurrences for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
    /// The window, back from now; all that is kept where not given. Not together with `from`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// End of the window; now where not given.
    pub to: Option<DateTime<Utc>>,
    /// Only what happened in this environment.
    pub environment: Option<String>,
    /// Only what happened in this version.
    pub version: Option<String>,
    /// Fields and attributes to read of each, by name, with commas between them; 8 at most.
    pub columns: Option<String>,
}

/// Which occurrence to stand at: one of these.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ChoiceQuery {
    /// `first`, `latest` (where nothing is given) or `fullest`.
    pub choice: Option<String>,
    /// The next older one than this id.
    pub older: Option<String>,
    /// The next newer one than this id.
    pub newer: Option<String>,
    /// The one with this id, for its place among the others.
    pub at: Option<String>,
    /// The first one at this time or later.
    pub from: Option<DateTime<Utc>>,
    /// The latest in this version.
    pub version: Option<String>,
    /// Only in this environment.
    pub environment: Option<String>,
}

/// The occurrence chosen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChosenOccurrence {
    /// Its id; `null` where there is none further.
    pub id: Option<String>,
    /// Its place among those kept, from 1 for the first.
    pub position: i64,
    /// How many are kept.
    pub total: i64,
}

/// A part of a request: a heading and rows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestPart {
    /// What it is about.
    pub title: String,
    /// Its rows.
    pub rows: Vec<RequestRow>,
}

/// One value of a request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestRow {
    /// What people call it.
    pub label: String,
    /// The value, as text.
    pub value: String,
    /// The attribute it was sent as; empty where it is worked out from others.
    pub attribute: String,
}
