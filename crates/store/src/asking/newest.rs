//! The newest occurrences of an error, and the endpoints they came from.

use outcrop_core::Reference;
use sqlx::QueryBuilder;

use crate::asking::{resolve, within};
use crate::boxed;
use crate::errors::Summary;
use crate::errors::read::{Bounds, traffic};
use crate::ids::number;
use crate::{Database, Scope, StoreError};

/// An endpoint that an error occurs at.
#[derive(Clone, Debug, PartialEq)]
pub struct HitEndpoint {
    /// Its name.
    pub endpoint: String,
    /// The share of the error's occurrences that fall on it, 0 to 1: of the newest 5,000.
    pub share: f64,
    /// Its requests in the window; 0 where none are known.
    pub requests: i64,
}

/// The endpoints that an error occurs at in a window, those with most of its occurrences first, `limit` at most.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn main_endpoints(
    database: &Database,
    summary: &Summary,
    scope: &Scope,
    limit: usize,
) -> Result<Vec<HitEndpoint>, StoreError> {
    let mut sql = QueryBuilder::new("WITH seen AS MATERIALIZED (SELECT o.endpoint_id FROM occurrence o WHERE ");
    newest(&mut sql, database, summary.reference, scope).await?;
    sql.push(
        ") SELECT endpoint.id, endpoint.name, count(*), (SELECT count(*) FROM seen) FROM seen JOIN endpoint ON \
         endpoint.id = seen.endpoint_id \
         GROUP BY 1, 2 ORDER BY 3 DESC, 2 LIMIT ",
    );
    sql.push_bind(i64::try_from(limit).unwrap_or(i64::MAX));
    let found: Vec<(i32, String, i64, i64)> = sql.build_query_as().fetch_all(&database.pool).await?;
    let endpoints: Vec<i32> = found.iter().map(|(id, ..)| *id).collect();
    let traffic = traffic(database, &Bounds::of(scope), scope, Some(&endpoints)).await?;
    let environments = environment_ids(database, &summary.environments).await?;
    let requests_of = |endpoint: i32| -> i64 {
        let is_here = |(service, at, environment): &(i32, i32, i32)| {
            *service == summary.service_id && *at == endpoint && environments.contains(environment)
        };
        traffic.iter().filter(|(place, _)| is_here(place)).map(|(_, n)| n).sum()
    };
    #[expect(clippy::cast_precision_loss, reason = "at most some thousands")]
    let share = |n: i64, all: i64| n as f64 / all.max(1) as f64;
    let hit = |(id, endpoint, n, all)| HitEndpoint {
        endpoint,
        share: share(n, all),
        requests: requests_of(id),
    };
    Ok(found.into_iter().map(hit).collect())
}

async fn environment_ids(database: &Database, names: &[String]) -> Result<Vec<i32>, StoreError> {
    Ok(sqlx::query_scalar("SELECT id FROM environment WHERE name = ANY($1)")
        .bind(names)
        .fetch_all(&database.pool)
        .await?)
}

/// Occurrences looked at where all of them would be too many.
const NEWEST: i64 = 5_000;

/// Writes what holds for an error's occurrences in a scope, the newest 5,000 of them.
pub(crate) async fn newest(
    sql: &mut QueryBuilder<sqlx::Postgres>,
    database: &Database,
    error: Reference,
    scope: &Scope,
) -> Result<(), StoreError> {
    within(sql, scope);
    sql.push(" AND o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ")
        .push_bind(number(error))
        .push("))");
    if let Some(predicate) = &scope.predicate {
        let condition = resolve(database, predicate, scope).await?;
        sql.push(" AND ");
        condition.write(sql);
    }
    sql.push(" ORDER BY o.id DESC LIMIT ").push_bind(NEWEST);
    Ok(())
}
