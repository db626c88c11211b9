//! Sender keys, what was refused, and what is dropped.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A sender key to make.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct NewKey {
    /// What it is called.
    #[schema(min_length = 1, max_length = 200)]
    pub name: String,
    /// The services it may write for; empty for all.
    #[serde(default)]
    #[schema(max_items = 100)]
    pub services: Vec<String>,
    /// The environments it may write for; empty for all.
    #[serde(default)]
    #[schema(max_items = 100)]
    pub environments: Vec<String>,
    /// How many bytes of bodies it may send a minute and instance of Outcrop, inflated; null for no limit of its own.
    #[serde(default)]
    #[schema(minimum = 1)]
    pub bytes_per_minute: Option<i64>,
}

/// A sender key just made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeKey {
    /// What it is called.
    pub name: String,
    /// The secret, shown this once.
    pub key: String,
}

/// A rotation of a key's secret.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct Rotation {
    /// How many hours the secret before is taken too; 24 where not given, 0 ends it at once, at most 720.
    #[schema(minimum = 0, maximum = 720)]
    pub overlap_hours: Option<u32>,
}

/// A sender key, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeyItem {
    /// Its name.
    pub name: String,
    /// The services it may write for; empty for all.
    pub services: Vec<String>,
    /// The environments it may write for; empty for all.
    pub environments: Vec<String>,
    /// How many bytes it may send a minute; null for no limit of its own.
    pub bytes_per_minute: Option<i64>,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// Until when the secret before the last rotation is taken too.
    pub previous_until: Option<DateTime<Utc>>,
    /// When it was revoked.
    pub revoked_at: Option<DateTime<Utc>>,
    /// Requests taken in the last 24 hours.
    pub requests_24h: i64,
    /// Bytes of their bodies, as sent.
    pub bytes_24h: i64,
    /// Requests refused in the last 24 hours.
    pub refused_24h: i64,
}

/// All sender keys, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeyList {
    /// The keys.
    pub items: Vec<KeyItem>,
}

/// Which refused requests to list.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RefusedQuery {
    /// How many minutes back, 1 to 1440; 15 where not given.
    #[param(minimum = 1, maximum = 1_440)]
    pub minutes: Option<u32>,
}

/// Requests of senders refused in one minute for one reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusedItem {
    /// The latest of them.
    pub last_at: DateTime<Utc>,
    /// How many.
    pub count: i64,
    /// The key's name; empty where none was known.
    pub key: String,
    /// Where they were sent to.
    pub path: String,
    /// What the sender says it is, and its address.
    pub sender: String,
    /// Why they were refused, as the sender was told.
    pub reason: String,
}

/// Refused requests, the latest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusedList {
    /// Over how many minutes back from now.
    pub minutes: u32,
    /// The requests.
    pub items: Vec<RefusedItem>,
}

/// Something to be dropped from now on as it comes in.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct NewDrop {
    /// What is dropped: a predicate over single occurrences. Give this or `error`.
    #[serde(rename = "where")]
    #[schema(max_length = 2_000)]
    pub predicate: Option<String>,
    /// The reference of an error to drop.
    pub error: Option<String>,
    /// Why.
    #[serde(default)]
    #[schema(max_length = 2_000)]
    pub note: String,
}

/// A drop rule.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DropItem {
    /// Its number.
    pub id: i64,
    /// What is dropped, where a predicate says it.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// The reference of the error that is dropped, where it is one.
    pub error: Option<String>,
    /// The error's title.
    pub title: Option<String>,
    /// Why.
    pub note: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Who ended it; null while it is in force.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<DateTime<Utc>>,
    /// Occurrences dropped in the last 24 hours.
    pub dropped_24h: i64,
    /// Occurrences dropped in the last 30 days.
    pub dropped: i64,
}

/// Drop rules, those in force first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DropList {
    /// The rules.
    pub items: Vec<DropItem>,
}

/// The number of a rule just made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeDrop {
    /// Its number.
    pub id: i64,
}
