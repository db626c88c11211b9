//! Slices, users, and what is said of services.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
