//! Slices, users, and what is said of services.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Predicates saved under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SliceList {
    /// The slices, by name.
    pub items: Vec<SliceItem>,
}

/// A predicate saved under a name; `slice = NAME` asks for it in other predicates.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SliceItem {
    /// Its name.
    pub name: String,
    /// The predicate.
    #[serde(rename = "where")]
    pub predicate: String,
    /// Who saved it.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// A slice to save.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSlice {
    /// The predicate; it may not name another slice.
    #[serde(rename = "where")]
    #[schema(max_length = 4_096)]
    pub predicate: String,
}

/// Which values to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PartQuery {
    /// The field or attribute: `namespace`, `kind`, `touches`, `group`, `customer`, `cloud.region`, …
    pub by: String,
    /// Only services of this name.
    pub service: Option<String>,
    /// Only this environment.
    pub environment: Option<String>,
    /// Only this version.
    pub version: Option<String>,
    /// How far back: `24h`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// Its end.
    pub to: Option<DateTime<Utc>>,
    /// Only occurrences for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
}

/// The values of a field over the occurrences of a window.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PartList {
    /// The field or attribute.
    pub by: String,
    /// Its values, the most frequent first, 50 at most.
    pub items: Vec<PartItem>,
    /// What must be said beside: that the values are claims, or, where nothing was found, that
    /// nothing has an attribute asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// One value, with what falls to it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PartItem {
    /// The value.
    pub value: String,
    /// Errors.
    pub errors: i64,
    /// Occurrences.
    pub occurrences: i64,
    /// Users.
    pub users: i64,
    /// The predicate that narrows to it.
    #[serde(rename = "where")]
    pub predicate: String,
}

/// Users an error hit.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UserPage {
    /// The users, those hit most often first.
    pub items: Vec<UserItem>,
    /// The cursor of the next page; `null` at the end.
    pub next: Option<String>,
}

/// A user an error hit.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UserItem {
    /// What they are called in the attributes.
    pub user: String,
    /// Occurrences of the error.
    pub occurrences: i64,
    /// The first of them.
    pub first_seen: DateTime<Utc>,
    /// The last of them.
    pub last_seen: DateTime<Utc>,
    /// Errors of any service that hit them in the window.
    pub errors: i64,
    /// The predicate that finds all of them.
    #[serde(rename = "where")]
    pub predicate: String,
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

/// A part of a request: a heading and rows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestPart {
    /// What it is about.
    pub title: String,
    /// Its rows.
    pub rows: Vec<RequestRow>,
}

/// One value of a request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RequestRow {
    /// What people call it.
    pub label: String,
    /// The value, as text.
    pub value: String,
    /// The attribute it was sent as; empty where it is worked out from others.
    pub attribute: String,
}

/// A variable of a frame.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// Its value, as text.
    pub value: String,
}

/// Lines of source around a frame's line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceLines {
    /// The number of the first, from 1.
    pub first: u32,
    /// The lines.
    pub lines: Vec<String>,
    /// Where they are from: `sender`, or the checkout's revision such as `v2.4.0` or `HEAD`.
    pub from: String,
}

/// Which users to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct UserQuery {
    /// Only this environment.
    pub environment: Option<String>,
    /// How far back: `24h`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// Its end.
    pub to: Option<DateTime<Utc>>,
    /// Only occurrences for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
    /// Items per page, 1 to 500; 50 where none is given.
    pub limit: Option<u32>,
    /// The page that begins here.
    pub cursor: Option<String>,
}
