//! Requests that are kept by themselves, and slow ones.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Kept requests.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestPage {
    /// The requests, the newest first.
    pub items: Vec<RequestItem>,
    /// The cursor of the next page.
    pub next: Option<String>,
}

/// A request that is kept by itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestItem {
    /// When it began.
    pub at: DateTime<Utc>,
    /// Its trace.
    pub trace_id: String,
    /// Its entry span.
    pub span_id: String,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// Its endpoint.
    pub endpoint: String,
    /// The HTTP status.
    pub status: Option<i16>,
    /// Whether it failed.
    pub failed: bool,
    /// How long it took.
    pub duration_ms: f64,
    /// Why it is kept: `failed`, `slow`, `sample`.
    pub kept_because: Vec<String>,
    /// The same sorted for people: what was asked, with what, by whom, in which time.
    pub request: Vec<super::RequestPart>,
    /// What it said of itself, where it failed or was answered 4xx.
    pub attributes: Option<serde_json::Value>,
}

/// Slow requests by what made them slow, worst first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SlowList {
    /// How many of the slowest requests were looked at; a request and what it called elsewhere are one.
    pub looked_at: usize,
    /// What made them slow.
    pub items: Vec<SlowItem>,
}

/// What made requests slow.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SlowItem {
    /// The endpoint that was slow.
    pub service: String,
    /// Its name.
    pub endpoint: String,
    /// What it was mostly waiting for, in words.
    pub why: String,
    /// The service that did that.
    pub by_service: String,
    /// How many of the requests.
    pub count: usize,
    /// The longest.
    pub worst_ms: f64,
    /// How much of all their time went there, together.
    pub total_ms: f64,
    /// The trace of the longest.
    pub trace_id: String,
}
