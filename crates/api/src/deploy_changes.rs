//! What a deploy brought: commits, owners, endpoints that changed.

use outcrop_core::touching::Commit;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a deploy brought, as its pipeline read it from the repository.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct DeployChanges {
    /// The repository's name.
    #[serde(default)]
    pub repository: String,
    /// Its commits, each with the lines of the deployed revision that are its own.
    #[schema(value_type = Vec<Object>)]
    pub commits: Vec<Commit>,
    /// Patterns of CODEOWNERS with their owners, in order: the last that fits a file counts.
    #[serde(default)]
    pub owners: Vec<Owned>,
}

/// Who owns the files of a pattern.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Owned {
    /// The pattern, as in CODEOWNERS.
    pub pattern: String,
    /// The owners; none takes the files out.
    pub owners: Vec<String>,
}

/// An endpoint before a deploy against after it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndpointChange {
    /// The endpoint.
    pub endpoint: String,
    /// Requests to other versions in the day before.
    pub requests_before: i64,
    /// Of them failed.
    pub failed_before: i64,
    /// 95 of 100 of them took no longer.
    pub p95_before_ms: Option<f64>,
    /// Requests to the deployed version since.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// 95 of 100 of them took no longer.
    pub p95_ms: Option<f64>,
    /// What changed, by a test: `fails more`, `slower`, `fails less`, `faster`; empty where nothing
    /// is shown to have changed.
    pub changes: Vec<String>,
}

/// An error that stopped with a deploy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoppedError {
    /// Its reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Its title.
    pub title: String,
    /// Occurrences in the day before.
    pub count: i64,
}
