//! Lists errors, and reads one, as a predicate narrows them.

use std::collections::HashMap;

use outcrop_core::Reference;
use outcrop_core::query::{Field, Predicate, Test};

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

/// The services whose errors a scope asks for, all of them where it names none; `None` where its predicate asks for more
/// than services.
pub(crate) async fn services_of(database: &Database, scope: &Scope) -> Result<Option<Option<Vec<i32>>>, StoreError> {
    let is_of_services = |test: &&Test| matches!(test.field, Field::Service | Field::Namespace);
    let predicate = scope.predicate.as_deref();
    if predicate.is_some_and(|predicate| !predicate.tests().iter().all(is_of_services)) {
        return Ok(None);
    }
    if predicate.is_none() && scope.service.is_none() {
        return Ok(Some(None));
    }
    let mut services: Vec<i32> = sqlx::query_scalar(
        "SELECT id FROM service WHERE $1::text IS NULL OR id IN (SELECT services_named($1)) ORDER BY id",
    )
    .bind(&scope.service)
    .fetch_all(&database.pool)
    .await?;
    if let Some(predicate) = predicate {
        let condition = resolve(database, predicate, scope).await?;
        services.retain(|service| condition.of_service(*service) == Some(true));
    }
    Ok(Some(Some(services)))
}

async fn summaries(database: &Database, scope: &Scope, only: Option<i32>) -> Result<Vec<Summary>, StoreError> {
    let only = only.map(|error| [error]);
    let found = all_of(database, scope, only.as_ref().map(<[i32; 1]>::as_slice)).await?;
    match &scope.predicate {
        // All occurrences of an error are of its service: nothing needs to be counted.
        Some(_) if let Some(Some(services)) = services_of(database, scope).await? => {
            let narrow = |summary: Summary| {
                if services.contains(&summary.service_id) {
                    return summary;
                }
                Summary {
                    count: 0,
                    users: 0,
                    environments: vec![],
                    versions: vec![],
                    ..summary
                }
            };
            Ok(found.into_iter().map(narrow).collect())
        }
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
