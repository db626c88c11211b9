//! Services, and what is missing of them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A service that has sent something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceItem {
    /// Its namespace; may be empty.
    pub namespace: String,
    /// Its name.
    pub service: String,
    /// Its environments.
    pub environments: Vec<String>,
    /// Its versions, in the order they were first received.
    pub versions: Vec<String>,
    /// When its first data was received.
    pub first_received_at: DateTime<Utc>,
    /// Its latest event.
    pub last_event_at: DateTime<Utc>,
    /// Requests of the last 24 hours.
    pub requests: i64,
    /// Occurrences of the last 24 hours.
    pub occurrences: i64,
    /// What must be said beside its rates of requests; null where every request is sent, or none.
    pub sampling: Option<String>,
    /// What is missing for good answers, in words; empty where nothing is.
    pub missing: Vec<String>,
}

/// The services that have sent something, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceList {
    /// The services.
    pub items: Vec<ServiceItem>,
}

/// What people say of services.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ServiceSettings {
    /// Template of a link to a line of source, with `{path}`, `{line}`, `{revision}` (the commit,
    /// else the version), `{service}`.
    #[serde(default)]
    pub source_url: Option<String>,
    /// The folder the code runs in, which is no part of the path in its repository.
    #[serde(default)]
    pub source_root: Option<String>,
    /// The attribute that tells instance groups apart, such as `cloud.region`.
    #[serde(default)]
    pub instance_group: Option<String>,
    /// The attribute that names the customer.
    #[serde(default)]
    pub customer: Option<String>,
    /// Whether e-mail addresses are kept as they are; where not, pseudonyms stand for them.
    #[serde(default)]
    pub keep_addresses: Option<bool>,
    /// What attention to the service's errors is multiplied with, 0.1 to 4; `null` and 1 change nothing. Not for `all`.
    #[serde(default)]
    #[schema(minimum = 0.1, maximum = 4)]
    pub weight: Option<f64>,
    /// The same for single endpoints; where an error has one of these, it wins over the service's.
    #[serde(default)]
    pub endpoint_weights: Vec<EndpointWeight>,
}

/// The weight of one endpoint.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EndpointWeight {
    /// The endpoint, as it is listed.
    pub endpoint: String,
    /// 0.1 to 4.
    #[schema(minimum = 0.1, maximum = 4)]
    pub factor: f64,
}
