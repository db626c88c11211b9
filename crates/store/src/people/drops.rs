//! What people want dropped as it comes in, and how much it was.

use chrono::{DateTime, Utc};
use outcrop_core::grouping::rules::{Drop, Dropped};
use outcrop_core::{Digest, query};
use sqlx::FromRow;
use uuid::Uuid;

use crate::{Database, StoreError};

/// Rules in force at most: each looks at every occurrence that comes in.
pub const MAX_RULES: i64 = 100;

/// A drop rule with what it dropped.
#[derive(Clone, Debug, FromRow)]
pub struct DropRule {
    /// Its number.
    pub id: i64,
    /// What is dropped, where it is said by a predicate.
    pub predicate: Option<String>,
    /// The error that is dropped, where it is one.
    pub error_id: Option<i32>,
    /// The error's title.
    pub title: Option<String>,
    /// Why, in people's words.
    pub note: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Who ended it.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<DateTime<Utc>>,
    /// Occurrences dropped in the last 24 hours.
    pub dropped_24h: i64,
    /// Occurrences dropped in all, as far back as is kept.
    pub dropped: i64,
}

/// All rules, those in force first, then the newest.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn list(database: &Database) -> Result<Vec<DropRule>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT rule.*, error_group.title, coalesce(n.day, 0)::bigint AS dropped_24h, coalesce(n.n, 0)::bigint AS \
         dropped FROM drop_rule rule \
         LEFT JOIN error_group ON error_group.id = rule.error_id \
         LEFT JOIN LATERAL (SELECT sum(n) AS n, sum(n) FILTER (WHERE hour > now() - interval '24 hours') AS day FROM \
         dropped WHERE rule_id = rule.id) n ON true \
         ORDER BY rule.ended_at IS NOT NULL, rule.id DESC LIMIT 200",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// Makes a rule from a predicate or an error. `None` when there are as many as there may be.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn make(
    database: &Database,
    predicate: Option<&str>,
    error: Option<i32>,
    note: &str,
    by: &str,
) -> Result<Option<i64>, StoreError> {
    let made: Option<(i64,)> = sqlx::query_as(
        "INSERT INTO drop_rule (predicate, error_id, note, made_by) SELECT $1, $2, $3, $4 \
         WHERE (SELECT count(*) FROM drop_rule WHERE ended_at IS NULL) < $5 RETURNING id",
    )
    .bind(predicate)
    .bind(error)
    .bind(note)
    .bind(by)
    .bind(MAX_RULES)
    .fetch_optional(&database.pool)
    .await?;
    Ok(made.map(|(id,)| id))
}

/// Ends a rule; whether there was one in force.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn end(database: &Database, id: i64, by: &str) -> Result<bool, StoreError> {
    let done = sqlx::query("UPDATE drop_rule SET ended_at = now(), ended_by = $2 WHERE id = $1 AND ended_at IS NULL")
        .bind(id)
        .bind(by)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// The rules in force, as the intake applies them, the oldest first.
pub(crate) async fn in_force(database: &Database) -> Result<Vec<Drop>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        id: i64,
        predicate: Option<String>,
        namespace: Option<String>,
        service: Option<String>,
        keys: Option<Vec<Uuid>>,
    }
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT rule.id, rule.predicate, service.namespace, service.display_name AS service, \
             (SELECT array_agg(key) FROM cause WHERE cause.error_id = rule.error_id) AS keys \
         FROM drop_rule rule LEFT JOIN error_group ON error_group.id = rule.error_id LEFT JOIN service ON service.id \
         = error_group.service_id \
         WHERE rule.ended_at IS NULL ORDER BY rule.id",
    )
    .fetch_all(&database.pool)
    .await?;
    let drops = rows.into_iter().filter_map(|row| {
        let what = if let Some(text) = row.predicate {
            // Saved predicates were parsed before; a release that reads them no more leaves the rule out.
            Dropped::Where(query::parse(&text).ok()?)
        } else {
            let keys = row
                .keys
                .unwrap_or_default()
                .iter()
                .map(|key| Digest(*key.as_bytes()))
                .collect();
            Dropped::Keys {
                namespace: row.namespace?,
                service: row.service?,
                keys,
            }
        };
        Some(Drop { id: row.id, what })
    });
    Ok(drops.collect())
}
