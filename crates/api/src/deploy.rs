//! Deploys and flags.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::{DeployChanges, EndpointChange};

/// A deploy to record.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDeploy {
    /// The service.
    #[schema(min_length = 1, max_length = 200)]
    pub service: String,
    /// The version.
    #[schema(min_length = 1, max_length = 200)]
    pub version: String,
    /// The environment.
    #[schema(min_length = 1, max_length = 200)]
    pub environment: String,
    /// When it began; now where not given.
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
    /// When it was over, or a canary ended.
    #[serde(default)]
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic that a canary takes, above 0 and below 1.
    #[serde(default)]
    #[schema(exclusive_minimum = 0, exclusive_maximum = 1)]
    pub share: Option<f32>,
    /// The instance group that it goes to, as the service's attribute for groups names it.
    #[serde(default)]
    #[schema(min_length = 1, max_length = 200)]
    pub instance_group: Option<String>,
    /// The commit.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub revision: String,
    /// The pipeline's page.
    #[serde(default)]
    #[schema(max_length = 2_000)]
    pub link: String,
    /// What it brought: commits with the lines they changed, and who owns which files.
    #[serde(default)]
    pub changes: Option<DeployChanges>,
    /// References of the service's errors that it settles, in this version.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 500)]
    pub settles: Vec<String>,
}

/// What became of events.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EventsTaken {
    /// Deploys recorded.
    pub recorded: u32,
    /// Types of the events that tell of no deploy.
    pub other: Vec<String>,
}

/// Which deploys to list.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct DeployQuery {
    /// Only of services of this name.
    pub service: Option<String>,
    /// Only into this environment.
    pub environment: Option<String>,
    /// The window, back from now; `7d` where not given. Not together with `from`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// End of the window; now where not given.
    pub to: Option<DateTime<Utc>>,
    /// Deploys at most, 1 to 500; 50 where not given.
    pub limit: Option<u32>,
}

/// Deploys, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeployList {
    /// The deploys.
    pub items: Vec<DeployItem>,
}

/// A deploy with its answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeployItem {
    /// The service.
    pub service: String,
    /// The version.
    pub version: String,
    /// The environment.
    pub environment: String,
    /// When it began: as announced, else its first telemetry.
    pub at: DateTime<Utc>,
    /// When it was over, if that was announced.
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic of a canary.
    pub share: Option<f32>,
    /// The instance group that it went to; null for all.
    pub instance_group: Option<String>,
    /// Whether a pipeline announced it; else it was seen from its first telemetry.
    pub announced: bool,
    /// Whether it went back to a version that had run there before.
    pub rollback: bool,
    /// The commit; may be empty.
    pub revision: String,
    /// The pipeline's page; may be empty.
    pub link: String,
    /// Who recorded it; may be empty.
    pub by: String,
    /// Whether it sent anything in the last ten minutes.
    pub runs: bool,
    /// What was said of it.
    pub check: DeployCheck,
}

/// Which deploy to check.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct CheckQuery {
    /// The service.
    pub service: String,
    /// The version.
    pub version: String,
    /// The environment.
    pub environment: String,
    /// Which flags count, comma-separated: `new,surging,returned,slower`; the first three where not given.
    pub fail_on: Option<String>,
}

/// The answer after a deploy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeployCheck {
    /// `clear`, `flagged` or `too early`.
    pub outcome: String,
    /// The answer in words.
    pub sentence: String,
    /// The flags that are charged to the deploy.
    pub flags: Vec<FlagItem>,
    /// Flags that were charged to it and were taken back: they count no more.
    pub withdrawn: Vec<FlagItem>,
    /// How often the answer is wrong, in words; null where no requests are reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rates: Option<String>,
    /// Endpoints that fail more than before. They make a deploy flagged unless other kinds of harm are asked for.
    pub failing: Vec<EndpointChange>,
    /// Endpoints that are slower than before. They make a deploy flagged unless other kinds of harm are asked for.
    pub slower: Vec<EndpointChange>,
    /// Errors first seen in this version that are not called new: its place was too young to say so.
    pub first_seen: Vec<super::StoppedError>,
    /// Errors that are settled in this version, and whether they are gone: of one deploy, not in lists.
    pub settled: Vec<super::SettledError>,
    /// Requests of the same length of time before, of all versions.
    pub before: Sums,
    /// Requests of the version since.
    pub after: Sums,
    /// How many more requests of the version are needed to rule out that failures doubled; 0 where there were enough.
    pub needs_requests: i64,
    /// The deploy's page in the console, where the installation knows its public address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
}

/// Requests of a time.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sums {
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Over how many minutes.
    pub minutes: i64,
}

/// What was said of an error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlagItem {
    /// `new`, `surging` or `returned`.
    pub flag: String,
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// The error's title.
    pub title: String,
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The version it is charged to.
    pub version: String,
    /// Whether a deploy stands at its beginning.
    pub by_deploy: bool,
    /// When it began.
    pub since: DateTime<Utc>,
    /// The minute whose data was needed to say so.
    pub said_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// The evidence in words and numbers.
    pub evidence: String,
    /// Why, in sentences, as it was worked out when the flag rose; empty where it was not.
    pub why: Vec<String>,
    /// When it was taken back: data that came late showed that it was none. It counts no more.
    pub withdrawn_at: Option<DateTime<Utc>>,
}
