//! The latest occurrence of errors, and in which versions they were seen.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::failure::OccurrenceId;
use sqlx::FromRow;

use crate::boxed;
use crate::ids::{number, reference};
use crate::{Database, StoreError};

/// Of all time: one error in one environment and version.
#[derive(Clone, Debug, FromRow)]
pub struct Sighting {
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// Occurrences.
    pub count: i64,
    /// Of these, uncaught.
    pub uncaught: i64,
    /// First event.
    pub first_seen: DateTime<Utc>,
    /// Last event.
    pub last_seen: DateTime<Utc>,
}

/// What was thrown in an error's latest occurrence.
#[derive(Clone, Debug, FromRow)]
pub struct Latest {
    id: uuid::Uuid,
    /// The message.
    pub message: String,
}

impl Latest {
    /// The occurrence's id.
    #[must_use]
    pub const fn occurrence(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }
}

/// The latest occurrence of each error, as far as one is kept.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn latest(database: &Database, references: &[Reference]) -> Result<HashMap<Reference, Latest>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        error_id: i32,
        #[sqlx(flatten)]
        latest: Latest,
    }
    let numbers: Vec<i32> = references.iter().map(|reference| number(*reference)).collect();
    let rows: Vec<Row> = sqlx::query_as(include_str!("../../queries/errors/latest.sql"))
        .bind(numbers)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|row| (reference(row.error_id), row.latest))
        .collect())
}

/// Of all time: counts per environment and version, the latest version first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn sightings(database: &Database, reference: Reference) -> Result<Vec<Sighting>, StoreError> {
    Ok(sqlx::query_as(include_str!("../../queries/errors/sightings.sql"))
        .bind(number(reference))
        .fetch_all(&database.pool)
        .await?)
}
