//! Pages of the console that members saved.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The views that members saved.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedViewList {
    /// By name.
    pub items: Vec<SavedView>,
}

/// A page of the console saved under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedView {
    /// Its name.
    pub name: String,
    /// The page's path and query, such as `/errors?where=uncaught`.
    pub address: String,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// When it was saved.
    pub saved_at: DateTime<Utc>,
}

/// A page to save.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSavedView {
    /// The page's path and query; 4,000 bytes at most.
    pub address: String,
}
