//! Calls, statements, instances, and what is unwell now.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Who calls whom.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallList {
    /// The calls, what took most time first.
    pub items: Vec<CallItem>,
}

/// Calls of a service to one other place, or runs of one statement, over the window's whole hours.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallItem {
    /// The service that calls.
    pub service: String,
    /// `database`, `queue`, `consumed` (messages taken from a queue), `rpc`, `http`, `statement`.
    pub kind: String,
    /// What is called, as the caller names it; the statement, its values left out.
    pub name: String,
    /// The service behind the name, where a trace has shown it.
    pub to_service: Option<String>,
    /// Calls.
    pub count: i64,
    /// Of them failed.
    pub failed: i64,
    /// The mean duration.
    pub mean_ms: f64,
    /// The longest.
    pub longest_ms: f64,
    /// All together.
    pub total_ms: f64,
    /// Calls in the same time before.
    pub before: i64,
    /// The mean duration then; null without calls.
    pub mean_before_ms: Option<f64>,
}

/// Instances.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InstanceList {
    /// The instances, by service.
    pub items: Vec<InstanceItem>,
    /// What the platform said within the window, the newest first; 100 at most.
    pub platform_events: Vec<PlatformEventItem>,
}

/// Something that the platform that runs services did, or saw: a container killed, a unit that ended.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlatformEventItem {
    /// When.
    pub at: DateTime<Utc>,
    /// What it happened to: a pod, a node, a host.
    pub object: String,
    /// The instance above that this is, or runs on; null where none is known.
    pub instance: Option<String>,
    /// In a word, as the platform says it: `OOMKilling`, `BackOff`, `fares.service`.
    pub reason: String,
    /// In the platform's words.
    pub message: String,
    /// Whether the platform calls it a warning, or worse.
    pub is_warning: bool,
}

/// A running, or stopped, instance of a service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InstanceItem {
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// What tells it from others.
    pub instance: String,
    /// Its host; may be empty.
    pub host: String,
    /// Its region or zone; may be empty.
    pub region: String,
    /// When it first sent something.
    pub first_seen: DateTime<Utc>,
    /// When last.
    pub last_seen: DateTime<Utc>,
    /// Requests and runs over the window's whole hours.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Instances of the service that began on this host within the window.
    pub starts_on_host: i64,
    /// Its load as it sent it last, by the metric's name.
    pub readings: serde_json::Value,
    /// What it did in the period that the window is held against; null where none is asked for.
    pub against: Option<InstanceThen>,
}

/// What an instance did in an earlier period.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InstanceThen {
    /// Requests and runs.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
}

/// What is unwell now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NowReport {
    /// In one sentence.
    pub sentence: String,
    /// What needs somebody, what began last first: neither handled nor hours old.
    pub items: Vec<NowItem>,
    /// What somebody has taken, settled or made quiet and occurs.
    pub handled: Vec<NowItem>,
    /// Errors that were flagged hours ago, still occur, and are not listed.
    pub older: i64,
    /// All services, the worst first.
    pub fleet: Vec<FleetItem>,
    /// When the newest hour of `fleet` begins.
    pub fleet_from: DateTime<Utc>,
    /// How long a step of it is, in milliseconds.
    pub fleet_step_ms: i64,
    /// Requests of the last 15 minutes.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Services that sent something in them.
    pub services: i64,
    /// What of Outcrop itself is late or fails, on the instance that answers.
    pub troubles: Vec<TroubleItem>,
}

/// The answer of `/readyz` while the service is ready.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Ready {
    /// Always true: else the answer is a problem.
    pub ready: bool,
    /// What of it is late or fails all the same.
    pub troubles: Vec<TroubleItem>,
}

/// A writer or a job of Outcrop that is late or fails.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TroubleItem {
    /// Its name.
    pub name: String,
    /// What is wrong.
    pub says: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// Failures in a row; 0 where it is only late.
    pub failures: u32,
}

/// Something that is unwell.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NowItem {
    /// `failing` (an endpoint fails more than in its own past), `slow` (an endpoint takes longer
    /// than in its own past), `error` (a flag that holds).
    pub kind: String,
    /// The service.
    pub service: String,
    /// The endpoint, or the error's title.
    pub what: String,
    /// The error's reference, of an error.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// What is unwell about it, in words.
    pub why: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// How much it matters, 0 to 100.
    pub weight: u8,
    /// What follows from it in other services: errors that echo it, endpoints that fail with it.
    pub echoes: Vec<NowEcho>,
    /// Who has it, or why nobody needs to hear of it, in words.
    #[serde(default)]
    pub handled: Option<String>,
}

/// What follows from something that is unwell in another service.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NowEcho {
    /// As of a [`NowItem`].
    pub kind: String,
    /// The service.
    pub service: String,
    /// The endpoint, or the error's title.
    pub what: String,
    /// The error's reference, of an error.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// What is unwell about it, in words.
    pub why: String,
}

/// A service as it is now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FleetItem {
    /// Its name.
    pub service: String,
    /// The worst of what is told of it: `failing`, `slow`, `error`; null where it is well.
    pub worst: Option<String>,
    /// Requests of the newest hour.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Requests by step of the hour.
    pub requests_by_step: Vec<i64>,
    /// Of them failed.
    pub failed_by_step: Vec<i64>,
    /// The time that 95 % of the requests of this hour and the one before stayed below, in milliseconds.
    pub p95_ms: Option<f64>,
    /// The same of the week before.
    pub p95_before_ms: Option<f64>,
    /// Errors flagged new.
    pub new: i64,
    /// Errors flagged surging.
    pub surging: i64,
    /// Errors flagged returned.
    pub returned: i64,
    /// Versions with requests, and the share of each, 0 to 1; the one that began last first.
    pub versions: Vec<VersionShare>,
    /// Its latest deploy of the last three days, once there is an answer for it.
    pub deploy: Option<FleetDeploy>,
    /// The team or member that owns it.
    pub owner: Option<String>,
}

/// A version with its share of the requests.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VersionShare {
    /// Its name.
    pub version: String,
    /// The share, 0 to 1.
    pub share: f64,
}

/// A deploy with its answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FleetDeploy {
    /// The version.
    pub version: String,
    /// Where it was deployed.
    pub environment: String,
    /// When.
    pub at: DateTime<Utc>,
    /// `clear`, `flagged` or `too early`.
    pub outcome: String,
    /// The answer in words.
    pub sentence: String,
}
