//! Log lines, and what led up to a failure.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::Severity;

/// Which log lines to show.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct LogQuery {
    /// Only services of this name.
    pub service: Option<String>,
    /// Only this environment.
    pub environment: Option<String>,
    /// Only this version.
    pub version: Option<String>,
    /// The window, back from now: `30m`, `24h` (the default), `7d`. Not together with `from`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// End of the window; now where not given.
    pub to: Option<DateTime<Utc>>,
    /// The period to hold the window against: `before` it (where nothing is given), so much earlier
    /// (`1d`, `7d`), or `BEGINNING/END`. Templates only.
    pub against: Option<String>,
    /// A predicate over sender, severity, message, trace, user and attributes. Not for templates.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// Only lines that hold this text, in any case.
    pub text: Option<String>,
    /// Only lines of this severity or above: `trace`, `debug`, `info`, `warn`, `error`, `fatal`.
    pub severity: Option<String>,
    /// Only lines of this trace. Not for templates.
    pub trace: Option<String>,
    /// Only lines of traces in which this error occurred. Not for templates.
    pub error: Option<String>,
    /// Only lines like this one: a template's hash.
    pub template: Option<String>,
    /// Items at most, 1 to 500; 50 where not given. Not for what lines share.
    pub limit: Option<u32>,
    /// The cursor of a page. Lists of lines only.
    pub cursor: Option<String>,
}

/// Log lines.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogPage {
    /// The lines, the newest first.
    pub items: Vec<LogItem>,
    /// The cursor of the next page.
    pub next: Option<String>,
    /// What must be said of the question where nothing was found: that nothing has an attribute it asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// A log line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogItem {
    /// Its id.
    pub id: String,
    /// When it was written.
    pub at: DateTime<Utc>,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// Its severity; null where unknown.
    pub severity: Option<Severity>,
    /// What it says.
    pub message: String,
    /// The hash of what it has in common with others like it.
    pub template: String,
    /// Its trace.
    pub trace_id: Option<String>,
    /// Its span.
    pub span_id: Option<String>,
    /// Its attributes.
    pub attributes: serde_json::Value,
}

/// What lines have in common.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogTemplates {
    /// The templates, the most frequent first.
    pub items: Vec<LogTemplate>,
}

/// Lines that differ only in their values.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogTemplate {
    /// Its hash.
    pub template: String,
    /// The text, its variable parts replaced.
    pub text: String,
    /// The service that writes it.
    pub service: String,
    /// The highest severity it came with; null where unknown.
    pub severity: Option<Severity>,
    /// Lines within the window's whole hours.
    pub count: i64,
    /// Lines in the same time before.
    pub before: i64,
    /// Lines by the hour, over the window's whole hours.
    pub hours: Vec<HourCount>,
}

/// A number in an hour.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct HourCount {
    /// When the hour begins.
    pub at: DateTime<Utc>,
    /// The number.
    pub count: i64,
}

/// What happened before a failure.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LeadUp {
    /// Where it was taken from: `trace`, `instance` (what the same instance wrote in the ten
    /// seconds before), `nothing`.
    pub from: String,
    /// The steps in the order of time; the failure itself comes after the last.
    pub steps: Vec<LeadUpStep>,
    /// Earlier steps that are not shown.
    pub left_out: usize,
    /// Whether the trace holds more than was read of it.
    pub is_cut: bool,
}

/// One thing that happened before a failure.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LeadUpStep {
    /// How long before the failure.
    pub before_ms: f64,
    /// The service.
    pub service: String,
    /// `began` (and still ran), `done`, `event` or `line`.
    pub kind: String,
    /// In words.
    pub what: String,
    /// How long it took; of steps in a row, all together.
    pub took_ms: Option<f64>,
    /// Whether it failed.
    pub failed: bool,
    /// The severity of a line.
    pub severity: Option<Severity>,
    /// The span.
    pub span_id: Option<String>,
    /// How many times in a row.
    pub times: usize,
}
