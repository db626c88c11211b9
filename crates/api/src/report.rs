//! A failure reported by hand.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::Severity;

/// A failure, in plain JSON. One of `message`, `type` and `stacktrace` must say something.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Report {
    /// The service it happened in.
    pub service: String,
    /// The service's namespace.
    #[serde(default)]
    pub namespace: Option<String>,
    /// The environment.
    #[serde(default)]
    pub environment: Option<String>,
    /// The service's version.
    #[serde(default)]
    pub version: Option<String>,
    /// The host.
    #[serde(default)]
    pub host: Option<String>,
    /// The exception's type, or what kind of failure it is.
    #[serde(default, rename = "type")]
    pub type_name: String,
    /// What happened.
    #[serde(default)]
    pub message: String,
    /// The stack's text as the runtime prints it.
    #[serde(default)]
    pub stacktrace: String,
    /// How severe it is; `error` where not given.
    #[serde(default)]
    pub severity: Option<Severity>,
    /// When it happened; now where not given.
    #[serde(default)]
    pub time: Option<DateTime<Utc>>,
    /// The user it happened to.
    #[serde(default)]
    pub user: Option<String>,
    /// Whether it is only a test: an error of test reports alone is deleted a day after the last.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub test: bool,
    /// Further data: any JSON, by name.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub data: serde_json::Map<String, serde_json::Value>,
}

/// A report that is stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reported {
    /// The service it was stored for.
    pub service: String,
    /// The error it belongs to; null where it was dropped by a rule.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// The error's page, as a path of the service, or a whole address where its public one is set.
    pub link: Option<String>,
}
