//! What occurrences fall into: the values of a field, and users.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

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
