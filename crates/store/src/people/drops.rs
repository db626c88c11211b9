//! What people want dropped as it comes in, and how much it was.

use chrono::{DateTime, Utc};
use outcrop_core::grouping::rules::{Drop, Dropped};
use outcrop_core::{Digest, query};
use sqlx::FromRow;
use uuid::Uuid;

use crate::boxed;
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
#[boxed]
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
#[boxed]
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
#[boxed]
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asking::list_errors;
    use crate::ids::number;
    use crate::testing::{database, failing, now, of, resource, spans, store, trace, writer};
    use crate::{Scope, to_utc};

    #[tokio::test]
    async fn rules_by_predicate_and_by_error_hold_until_they_end_once() {
        let database = database().await;
        let sent = vec![of(
            resource("fares"),
            vec![failing(trace(1), 1, None, now(), "berth 7 is taken")],
        )];
        store(&writer(&database), &[spans(sent, now())]).await;
        let to = to_utc(now()) + chrono::TimeDelta::minutes(1);
        let from = to - chrono::TimeDelta::hours(1);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to,
            predicate: None,
        };
        let error = list_errors(&database, &scope).await.unwrap()[0].reference;
        let by = "purser@skerry.example";
        let noise = make(&database, Some("type = Noise"), None, "probes", by)
            .await
            .unwrap()
            .unwrap();
        let known = make(&database, None, Some(number(error)), "known", by)
            .await
            .unwrap()
            .unwrap();
        let held = in_force(&database).await.unwrap();
        assert_eq!(
            held.iter().map(|drop| drop.id).collect::<Vec<_>>(),
            [noise, known],
            "the oldest first"
        );
        assert!(matches!(&held[0].what, Dropped::Where(_)));
        let Dropped::Keys { service, keys, .. } = &held[1].what else {
            panic!("{held:?}")
        };
        assert_eq!((service.as_str(), keys.len()), ("fares", 1));
        assert!(end(&database, noise, "bosun@skerry.example").await.unwrap());
        assert!(!end(&database, noise, by).await.unwrap(), "it has ended");
        assert_eq!(in_force(&database).await.unwrap().len(), 1);
        let listed = list(&database).await.unwrap();
        assert_eq!(
            (listed[0].id, listed[1].ended_by.as_deref()),
            (known, Some("bosun@skerry.example"))
        );
    }

    #[tokio::test]
    async fn there_are_no_more_rules_than_there_may_be() {
        let database = database().await;
        for at in 0..MAX_RULES {
            assert!(
                make(&database, Some("uncaught"), None, "", "x")
                    .await
                    .unwrap()
                    .is_some(),
                "rule {at}"
            );
        }
        assert_eq!(make(&database, Some("uncaught"), None, "", "x").await.unwrap(), None);
        let one = list(&database).await.unwrap()[0].id;
        assert!(end(&database, one, "x").await.unwrap());
        assert!(
            make(&database, Some("uncaught"), None, "", "x")
                .await
                .unwrap()
                .is_some(),
            "one has ended"
        );
    }
}
