//! Counts the occurrences that a condition holds for.

use sqlx::{Postgres, QueryBuilder};

use super::condition::Condition;
use crate::{Database, Scope, StoreError};

/// Errors with the occurrences of a window that a condition holds for.
#[derive(sqlx::FromRow)]
pub(crate) struct Matched {
    pub error_id: i32,
    pub count: i64,
    pub environments: Vec<i32>,
    pub versions: Vec<i32>,
    pub users: i64,
}

/// Where occurrences (as `o`) lie: the window and the scope's service, environment and version.
pub(crate) fn within(sql: &mut QueryBuilder<Postgres>, scope: &Scope) {
    sql.push("o.id >= first_id_at(")
        .push_bind(scope.from)
        .push(") AND o.id < first_id_at(")
        .push_bind(scope.to)
        .push(")");
    scope.narrow(sql, "o");
}

/// Counts matching occurrences per error.
pub(crate) async fn count(
    database: &Database,
    scope: &Scope,
    condition: &Condition,
) -> Result<Vec<Matched>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT cause.error_id, count(*) AS count, array_agg(DISTINCT o.environment_id) AS environments, \
         array_agg(DISTINCT o.version_id) AS versions, count(DISTINCT o.user_hash) AS users \
         FROM occurrence o JOIN cause ON cause.id = o.cause_id WHERE ",
    );
    within(&mut sql, scope);
    sql.push(" AND ");
    condition.write(&mut sql);
    sql.push(" GROUP BY cause.error_id");
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}
