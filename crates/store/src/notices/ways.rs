//! Ways by which notices go to no single member: chats and webhooks.

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Ways at most: rules name them.
pub const MAX_WAYS: i64 = 100;

/// A way as it is stored.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Stored {
    /// Its name, by which rules name it.
    pub name: String,
    /// All else, as JSON.
    pub setting: Value,
    /// Who changed it last.
    pub changed_by: String,
    /// When.
    pub changed_at: DateTime<Utc>,
}

/// All ways, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Stored>, StoreError> {
    Ok(
        sqlx::query_as("SELECT name, setting, changed_by, changed_at FROM notice_way ORDER BY name")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// A way's setting.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, name: &str) -> Result<Option<Value>, StoreError> {
    Ok(sqlx::query_scalar("SELECT setting FROM notice_way WHERE name = $1")
        .bind(name)
        .fetch_optional(&database.pool)
        .await?)
}

/// Makes or changes a way; `false` where there are as many as there may be.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn set(
    database: &Database,
    name: &str,
    setting: &Value,
    (by, at): (&str, DateTime<Utc>),
) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "INSERT INTO notice_way (name, setting, changed_by, changed_at) SELECT $1, $2, $3, $4 WHERE EXISTS (SELECT FROM \
         notice_way WHERE name = $1) OR (SELECT count(*) FROM notice_way) < $5 ON CONFLICT (name) DO UPDATE SET setting \
         = excluded.setting, changed_by = excluded.changed_by, changed_at = excluded.changed_at",
    )
    .bind(name)
    .bind(setting)
    .bind(by)
    .bind(at)
    .bind(MAX_WAYS)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Removes a way; whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, name: &str) -> Result<bool, StoreError> {
    let done = sqlx::query("DELETE FROM notice_way WHERE name = $1")
        .bind(name)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::testing::database;

    #[tokio::test]
    async fn a_way_is_set_anew_under_its_name_and_their_number_is_bounded() {
        let database = database().await;
        let by = ("purser", Utc::now());
        assert!(set(&database, "ops-room", &json!({"kind": "chat"}), by).await.unwrap());
        assert!(
            set(&database, "ops-room", &json!({"kind": "webhook"}), by)
                .await
                .unwrap()
        );
        assert_eq!(list(&database).await.unwrap().len(), 1);
        assert_eq!(
            one(&database, "ops-room").await.unwrap(),
            Some(json!({"kind": "webhook"}))
        );
        for number in 1..MAX_WAYS {
            assert!(set(&database, &format!("way-{number}"), &json!({}), by).await.unwrap());
        }
        assert!(!set(&database, "one-too-many", &json!({}), by).await.unwrap());
        assert!(set(&database, "ops-room", &json!({}), by).await.unwrap());
        assert!(remove(&database, "ops-room").await.unwrap() && !remove(&database, "ops-room").await.unwrap());
    }
}
