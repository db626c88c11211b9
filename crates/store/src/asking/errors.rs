//! Lists errors, and reads one, as a predicate narrows them.

use std::collections::HashMap;

use outcrop_core::Reference;
use outcrop_core::query::Predicate;

use crate::asking::matched::Matched;
use crate::asking::{count, resolve};
use crate::boxed;
use crate::errors::Summary;
use crate::errors::labels::Labels;
use crate::errors::read::all_of;
use crate::ids::number;
use crate::{Database, Scope, StoreError};

/// Lists the errors that occurred in a window, in the order of their references' numbers.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn list_errors(database: &Database, scope: &Scope) -> Result<Vec<Summary>, StoreError> {
    summaries(database, scope, None).await
}

/// One error with its numbers in a window, or `None` where there is no such error. An error that did not occur in the
/// window has a count of 0.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn one_error(
    database: &Database,
    reference: Reference,
    scope: &Scope,
) -> Result<Option<Summary>, StoreError> {
    Ok(summaries(database, scope, Some(number(reference))).await?.pop())
}

async fn summaries(database: &Database, scope: &Scope, only: Option<i32>) -> Result<Vec<Summary>, StoreError> {
    let found = all_of(database, scope, only).await?;
    match &scope.predicate {
        Some(predicate) => Box::pin(narrowed(database, scope, predicate, found)).await,
        None => Ok(found),
    }
}

/// Keeps what a predicate holds for: errors with a matching occurrence, counted by these alone.
async fn narrowed(
    database: &Database,
    scope: &Scope,
    predicate: &Predicate,
    summaries: Vec<Summary>,
) -> Result<Vec<Summary>, StoreError> {
    let condition = resolve(database, predicate, scope).await?;
    let matched = count(database, scope, &condition).await?;
    let ids = |of: fn(&Matched) -> &Vec<i32>| matched.iter().flat_map(of).copied().collect::<Vec<_>>();
    let names = Labels::named(database, ids(|row| &row.environments), ids(|row| &row.versions)).await?;
    let mut matched: HashMap<i32, Matched> = matched.into_iter().map(|row| (row.error_id, row)).collect();
    let narrow = |mut summary: Summary| {
        let row = matched.remove(&number(summary.reference));
        summary.count = row.as_ref().map_or(0, |row| row.count);
        summary.users = row.as_ref().map_or(0, |row| row.users);
        summary.environments = row
            .as_ref()
            .map(|row| names.environments(&row.environments))
            .unwrap_or_default();
        summary.versions = row
            .as_ref()
            .map(|row| names.versions(&row.versions))
            .unwrap_or_default();
        summary
    };
    Ok(summaries.into_iter().map(narrow).collect())
}
