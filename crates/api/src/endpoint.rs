//! Endpoints: their requests, failures and latency.

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
