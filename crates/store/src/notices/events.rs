//! What happened, noted once each.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::notice::Event;
use serde_json::Value;
use sqlx::PgConnection;

use crate::boxed;
use crate::{Database, StoreError, from_utc, to_utc};

/// An event to note.
#[derive(Clone, Debug)]
pub struct NewEvent {
    /// What it is of: noted once.
    pub key: String,
    /// The service's number.
    pub service_id: Option<i32>,
    /// The environment's number.
    pub environment_id: Option<i32>,
    /// The error's number.
    pub error_id: Option<i32>,
    /// Whether it happened long ago: nobody is told, and rules are tried on it.
    pub is_late: bool,
    /// The event; its number is given when it is noted.
    pub event: Event,
}

/// Notes events; those that were noted before are left. Returns how many are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn note(database: &Database, events: &[NewEvent]) -> Result<u64, StoreError> {
    let mut connection = database.pool.acquire().await?;
    insert(&mut connection, events).await
}

pub(super) async fn insert(connection: &mut PgConnection, events: &[NewEvent]) -> Result<u64, StoreError> {
    if events.is_empty() {
        return Ok(0);
    }
    let facts: Result<Vec<Value>, _> = events.iter().map(|new| serde_json::to_value(&new.event)).collect();
    let facts = facts.map_err(|error| StoreError::Unusable(error.to_string()))?;
    let done = sqlx::query(
        "INSERT INTO notice_event (key, kind, at, is_late, is_planned, service_id, environment_id, error_id, facts) \
         SELECT key, kind, at, is_late, is_late, service, environment, error, facts FROM UNNEST($1::text[], $2::text[], \
         $3::timestamptz[], $4::bool[], $5::int[], $6::int[], $7::int[], $8::jsonb[]) AS new (key, kind, at, is_late, \
         service, environment, error, facts) ON CONFLICT (key) DO NOTHING",
    )
    .bind(events.iter().map(|new| new.key.clone()).collect::<Vec<_>>())
    .bind(events.iter().map(|new| new.event.kind.word()).collect::<Vec<_>>())
    .bind(events.iter().map(|new| to_utc(new.event.at)).collect::<Vec<_>>())
    .bind(events.iter().map(|new| new.is_late).collect::<Vec<_>>())
    .bind(events.iter().map(|new| new.service_id).collect::<Vec<_>>())
    .bind(events.iter().map(|new| new.environment_id).collect::<Vec<_>>())
    .bind(events.iter().map(|new| new.error_id).collect::<Vec<_>>())
    .bind(facts)
    .execute(connection)
    .await?;
    Ok(done.rows_affected())
}

type Row = (i64, DateTime<Utc>, Value);

fn read((id, at, facts): Row) -> Option<Event> {
    let event: Event = serde_json::from_value(facts)
        .inspect_err(|error| tracing::warn!(%error, id, "an event cannot be read"))
        .ok()?;
    Some(Event {
        id,
        at: from_utc(at),
        ..event
    })
}

/// Events read at once: of a week in which more happened, the newest are looked at.
pub const MOST: i64 = 20_000;

/// Events of a time, the earliest first; the newest [`MOST`] of them.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn between(database: &Database, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Vec<Event>, StoreError> {
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT * FROM (SELECT id, at, facts FROM notice_event WHERE at >= $1 AND at < $2 ORDER BY at DESC, id DESC \
         LIMIT $3) newest ORDER BY at, id",
    )
    .bind(from)
    .bind(to)
    .bind(MOST)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().filter_map(read).collect())
}

/// Events that wait to be planned, the earliest first.
pub(super) async fn waiting(connection: &mut PgConnection, limit: i64) -> Result<Vec<Event>, StoreError> {
    let rows: Vec<Row> =
        sqlx::query_as("SELECT id, at, facts FROM notice_event WHERE NOT is_planned ORDER BY at, id LIMIT $1")
            .bind(limit)
            .fetch_all(connection)
            .await?;
    Ok(rows.into_iter().filter_map(read).collect())
}

/// Events by their numbers, in the order of these; those that are gone are left out.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_ids(database: &Database, ids: &[i64]) -> Result<Vec<Event>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    by_ids(&mut connection, ids).await
}

pub(super) async fn by_ids(connection: &mut PgConnection, ids: &[i64]) -> Result<Vec<Event>, StoreError> {
    let rows: Vec<Row> = sqlx::query_as("SELECT id, at, facts FROM notice_event WHERE id = ANY($1)")
        .bind(ids)
        .fetch_all(connection)
        .await?;
    let mut events: HashMap<i64, Event> = rows
        .into_iter()
        .filter_map(read)
        .map(|event| (event.id, event))
        .collect();
    Ok(ids.iter().filter_map(|id| events.remove(id)).collect())
}

/// Numbers of events by their keys; those that were never noted are left out.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_keys(database: &Database, keys: &[String]) -> Result<HashMap<String, i64>, StoreError> {
    let rows: Vec<(String, i64)> = sqlx::query_as("SELECT key, id FROM notice_event WHERE key = ANY($1)")
        .bind(keys)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows.into_iter().collect())
}

/// Numbers of the errors that events are of, by the events' numbers.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn errors_of(database: &Database, ids: &[i64]) -> Result<HashMap<i64, i32>, StoreError> {
    let rows: Vec<(i64, i32)> =
        sqlx::query_as("SELECT id, error_id FROM notice_event WHERE id = ANY($1) AND error_id IS NOT NULL")
            .bind(ids)
            .fetch_all(&database.pool)
            .await?;
    Ok(rows.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use outcrop_core::notice::EventKind;

    use super::*;
    use crate::notices::testing::event;
    use crate::testing::database;

    #[tokio::test]
    async fn what_happened_is_noted_once_and_read_in_its_order() {
        let database = database().await;
        let at = Utc::now();
        let earlier = event("deploy 7 clear", EventKind::DeployClear, at - TimeDelta::hours(2));
        let later = event("deploy 8 flagged", EventKind::DeployFlagged, at);
        assert_eq!(note(&database, &[later.clone(), earlier.clone()]).await.unwrap(), 2);
        assert_eq!(note(&database, std::slice::from_ref(&later)).await.unwrap(), 0);
        let read = between(&database, at - TimeDelta::days(1), at + TimeDelta::minutes(1))
            .await
            .unwrap();
        assert_eq!(
            read.iter().map(|event| event.kind).collect::<Vec<_>>(),
            [EventKind::DeployClear, EventKind::DeployFlagged]
        );
        let ids: Vec<i64> = read.iter().rev().map(|event| event.id).chain([99]).collect();
        assert_eq!(
            of_ids(&database, &ids).await.unwrap(),
            [read[1].clone(), read[0].clone()]
        );
        let known = of_keys(&database, &["deploy 8 flagged".to_owned(), "flag 1".to_owned()])
            .await
            .unwrap();
        assert_eq!(known, [("deploy 8 flagged".to_owned(), read[1].id)].into());
        assert!(
            between(&database, at - TimeDelta::hours(1), at)
                .await
                .unwrap()
                .is_empty()
        );
    }

    #[tokio::test]
    async fn what_tells_of_a_user_goes_with_the_user() {
        let database = database().await;
        let at = Utc::now();
        let of = |key: &str, user: &str| {
            let mut new = event(key, EventKind::New, at);
            let attributes = serde_json::json!({"user.id": user});
            new.event.cases = vec![outcrop_core::notice::EventCase {
                attributes: attributes.as_object().cloned().unwrap_or_default(),
                ..outcrop_core::notice::EventCase::default()
            }];
            new
        };
        note(&database, &[of("flag 1", "u-7"), of("flag 2", "u-8")])
            .await
            .unwrap();
        let user = crate::upkeep::cleaning::Cleaned::User {
            hash: 0,
            names: vec!["u-7".to_owned()],
        };
        crate::upkeep::cleaning::ask(&database, &user, "", ("master", at))
            .await
            .unwrap();
        crate::upkeep::cleaning::clean(&database, at).await.unwrap();
        let keys = ["flag 1".to_owned(), "flag 2".to_owned()];
        let left = of_keys(&database, &keys).await.unwrap();
        assert_eq!(left.keys().collect::<Vec<_>>(), ["flag 2"]);
    }
}
