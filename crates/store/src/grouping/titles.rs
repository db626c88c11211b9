//! Titles of errors, by their numbers.

use std::collections::{BTreeSet, HashMap};

use crate::{Database, StoreError};

pub(super) async fn titles(
    database: &Database,
    errors: impl Iterator<Item = i32>,
) -> Result<HashMap<i32, String>, StoreError> {
    let errors: BTreeSet<i32> = errors.collect();
    let rows: Vec<(i32, String)> = sqlx::query_as("SELECT id, title FROM error_group WHERE id = ANY($1)")
        .bind(errors.into_iter().collect::<Vec<_>>())
        .fetch_all(&database.pool)
        .await?;
    Ok(rows.into_iter().collect())
}
