//! Wire types of storage.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A kind of data that is kept.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StorageItem {
    /// What it is, in words.
    pub kind: String,
    /// Bytes of the database that it takes, with indexes.
    pub bytes: i64,
    /// For how many days it is kept; null for less than one, or for good.
    pub days: Option<i64>,
    /// How many bytes it may take; null for as many as there are.
    pub max_bytes: Option<i64>,
}

/// What is kept, and the room it takes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Storage {
    /// Each kind of data.
    pub items: Vec<StorageItem>,
    /// Bytes of the whole database.
    pub bytes: i64,
    /// How many bytes it may take; null for as many as there are.
    pub max_bytes: Option<i64>,
    /// Bytes free on the database's disk; null where that cannot be seen.
    pub free_bytes: Option<i64>,
    /// Bytes that must stay free.
    pub min_free_bytes: i64,
    /// Why nothing is taken for lack of room; null while telemetry is taken.
    pub closed: Option<String>,
}
