//! Traces and traffic.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A whole request over all services.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TraceDetail {
    /// Its id in lower-case hex.
    pub trace_id: String,
    /// When its first span began.
    pub started_at: DateTime<Utc>,
    /// From the beginning of the first to the end of the last span.
    pub duration_ms: f64,
    /// The services that took part, in the order in which they were reached.
    pub services: Vec<String>,
    /// Why it is kept: `failed`, `slow`, `sample`; empty where it goes within the hour.
    pub kept_because: Vec<String>,
    /// Whether it stays until the retention's end, or goes within the hour if nothing more happens to it.
    pub is_kept: bool,
    /// Whether there are more spans than are shown.
    pub is_cut: bool,
    /// Where the request failed first and with what, in words; null where nothing failed.
    pub failed_first: Option<String>,
    /// What the request was mostly waiting for, in words.
    pub sentence: String,
    /// Spans that others name as their parent and that never came.
    pub missing: usize,
    /// Spans whose clock was set right.
    pub moved: usize,
    /// Statements run again and again below one span.
    pub repeated: Vec<RepeatedItem>,
    /// The chain of spans that decided how long the request took, in the order of time.
    pub critical_path: Vec<PathItem>,
    /// The spans, each after its parent.
    pub spans: Vec<SpanItem>,
}

/// A statement run again and again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RepeatedItem {
    /// The service that ran it.
    pub service: String,
    /// The statement, its values left out.
    pub statement: String,
    /// The span below which it ran.
    pub below: String,
    /// How often.
    pub count: usize,
    /// How long all runs took together.
    pub total_ms: f64,
}

/// A part of the critical path.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PathItem {
    /// The span.
    pub span_id: String,
    /// When it begins, counted from the trace's beginning.
    pub from_ms: f64,
    /// How long it is.
    pub duration_ms: f64,
}

/// A span in its place in the trace.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpanItem {
    /// Its id in lower-case hex.
    pub span_id: String,
    /// Its parent, also where that never came; null for a root.
    pub parent_id: Option<String>,
    /// How many spans stand above it.
    pub depth: usize,
    /// The service.
    pub service: String,
    /// The service's version.
    pub version: String,
    /// The service's environment.
    pub environment: String,
    /// Its name.
    pub name: String,
    /// Its kind: `internal`, `server`, `client`, `producer`, `consumer`.
    pub kind: String,
    /// When it began, by the clock of the trace's root.
    pub started_at: DateTime<Utc>,
    /// The same, counted from the trace's beginning.
    pub offset_ms: f64,
    /// How long it took.
    pub duration_ms: f64,
    /// Time in which none of its children ran.
    pub self_ms: f64,
    /// `error` or `ok`.
    pub status: String,
    /// The status message; may be empty.
    pub status_message: String,
    /// Whether the request was waiting for it at some moment.
    pub on_critical_path: bool,
    /// Whether it never came: others name it as their parent.
    pub is_missing: bool,
    /// How far its times were moved so that it lies within the call that caused it; 0 for not.
    pub moved_ms: f64,
    /// The failures reported on it.
    pub occurrences: Vec<SpanOccurrence>,
    /// The span in another service where its failure began.
    pub origin_span_id: Option<String>,
    /// The library that recorded it; may be empty.
    pub scope: String,
    /// Its attributes.
    pub attributes: serde_json::Value,
    /// Its resource's attributes; only on the first span of each sender.
    pub resource: Option<serde_json::Value>,
    /// Its events.
    pub events: Vec<SpanEventItem>,
    /// Spans elsewhere that it names.
    pub links: Vec<SpanLink>,
}

/// A failure reported on a span.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpanOccurrence {
    /// The occurrence's id.
    pub id: String,
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// The error's title.
    pub title: String,
}

/// An event of a span.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpanEventItem {
    /// Its name.
    pub name: String,
    /// When it happened, counted from the trace's beginning.
    pub offset_ms: f64,
    /// Its attributes.
    pub attributes: serde_json::Value,
}

/// A link of a span.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpanLink {
    /// The trace.
    pub trace_id: String,
    /// The span.
    pub span_id: String,
}
