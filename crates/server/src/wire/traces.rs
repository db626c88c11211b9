//! Traces and traffic.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An error of another service, tied to one by requests that failed in both.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TiedError {
    /// Its reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Its service.
    pub service: String,
    /// Its title.
    pub title: String,
    /// Occurrences that tie them, in the window.
    pub count: i64,
}

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

/// Which traffic to show.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TrafficQuery {
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
    /// Items at most, 1 to 500; 50 where not given.
    pub limit: Option<u32>,
    /// Only this endpoint. Requests, and the course of one endpoint.
    pub endpoint: Option<String>,
    /// Only requests with this text in their endpoint's name or in what they said of themselves. Requests only.
    pub text: Option<String>,
    /// Only this HTTP status. Requests only.
    pub status: Option<i16>,
    /// `failed` or `slow` requests only. Requests only.
    pub only: Option<String>,
    /// The cursor of a page. Requests only.
    pub cursor: Option<String>,
    /// The period to hold the window against: `before` it, so much earlier (`1d`, `7d`), or
    /// `BEGINNING/END`. Endpoints, calls, statements (these two are held against the time before
    /// where nothing is given) and instances.
    pub against: Option<String>,
}

/// An endpoint in the period that the window is held against.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndpointThen {
    /// Requests.
    pub count: i64,
    /// Of them failed.
    pub failed: i64,
    /// 95 of 100 took no longer.
    pub p95_ms: Option<f64>,
    /// What is different now: `fails more`, `slower`, `fails less`, `faster`, each where chance
    /// would do it once in ten thousand.
    pub changes: Vec<String>,
}

/// The endpoints with traffic, those with most requests first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndpointList {
    /// The endpoints.
    pub items: Vec<EndpointItem>,
    /// How many there are in all.
    pub total: usize,
    /// Services whose rates have to be taken with a word: those that do not send every request, or do not say.
    pub sampling: Vec<SamplingNote>,
}

/// What the instance groups of a service serve.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupList {
    /// The attribute that tells them apart; null where nobody has said one.
    pub attribute: Option<String>,
    /// The groups, those with most requests first.
    pub items: Vec<GroupItem>,
}

/// What one instance group serves.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GroupItem {
    /// The group.
    pub group: String,
    /// Requests.
    pub count: i64,
    /// Of them failed.
    pub failed: i64,
    /// Answers by the hundreds of their HTTP status: 1xx to 5xx.
    pub statuses: Vec<i64>,
    /// Half took no longer, in milliseconds.
    pub p50_ms: Option<f64>,
    /// 95 of 100.
    pub p95_ms: Option<f64>,
    /// 99 of 100.
    pub p99_ms: Option<f64>,
    /// How it differs from the other groups together, by a test: `fails more`, `slower`, `fails less`, `faster`.
    pub changes: Vec<String>,
}

/// What must be said beside the rates of requests of some services.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SamplingNote {
    /// The services.
    pub services: Vec<String>,
    /// What must be said.
    pub note: String,
}

/// An endpoint over a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndpointItem {
    /// The service's namespace; may be empty.
    pub namespace: String,
    /// The service.
    pub service: String,
    /// Its route, RPC method, destination or job name.
    pub endpoint: String,
    /// Requests.
    pub count: i64,
    /// Of them failed.
    pub failed: i64,
    /// Half of the requests took no longer, within 1 %, over the whole hours that the window touches.
    pub p50_ms: Option<f64>,
    /// 95 of 100 took no longer.
    pub p95_ms: Option<f64>,
    /// 99 of 100 took no longer.
    pub p99_ms: Option<f64>,
    /// From when on a request is slow.
    pub slow_from_ms: f64,
    /// Where that comes from: `set` by people, the `endpoint`'s own history, its `service`'s or the
    /// `fleet`'s while its own is too short, a `default` of 2 s while nothing is known.
    pub slow_by: String,
    /// Answers of 4xx and 5xx by status.
    pub statuses: Vec<StatusCount>,
    /// The period asked for by `against`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<EndpointThen>,
}

/// Answers with one status.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StatusCount {
    /// The HTTP status.
    pub status: i16,
    /// How many.
    pub count: i64,
    /// How many of them are kept to be looked into.
    pub kept: i64,
}

/// From when on a request of an endpoint is slow.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SlowSetting {
    /// The service.
    pub service: String,
    /// The endpoint.
    pub endpoint: String,
    /// In milliseconds; null leaves it to its history again.
    #[schema(minimum = 0.001, maximum = 86_400_000)]
    pub slow_from_ms: Option<f64>,
}

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

/// An endpoint over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Course {
    /// When the first step begins.
    pub from: DateTime<Utc>,
    /// How long a step is.
    pub step_ms: i64,
    /// How many steps there are.
    pub count: usize,
    /// The steps with requests, by time and version.
    pub steps: Vec<CourseStep>,
}

/// One step of an endpoint's course, in one version.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CourseStep {
    /// When it begins.
    pub at: DateTime<Utc>,
    /// The version.
    pub version: String,
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
}
