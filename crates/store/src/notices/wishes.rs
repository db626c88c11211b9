//! How members want to be told.

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// A member as a recipient.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Recipient {
    /// The member's number.
    pub id: i32,
    /// Their address.
    pub email: String,
    /// Their role.
    pub role: String,
    /// What they wish, as JSON; null where they never said.
    pub wishes: Value,
    /// When their last digest was made.
    pub digest_at: Option<DateTime<Utc>>,
    /// The services that they may not read.
    pub closed: Vec<String>,
}

/// All members as recipients.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn recipients(database: &Database) -> Result<Vec<Recipient>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT m.id, m.email, m.role, coalesce(w.wishes, 'null'::jsonb) AS wishes, w.digest_at, \
         ARRAY(SELECT display_name FROM service WHERE id = ANY(closed_to(m.id))) AS closed FROM member m LEFT JOIN \
         notice_wishes w ON w.member_id = m.id ORDER BY m.email",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// What a member wishes, as JSON; null where they never said.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn read(database: &Database, email: &str) -> Result<Value, StoreError> {
    let found: Option<Value> = sqlx::query_scalar(
        "SELECT w.wishes FROM notice_wishes w JOIN member m ON m.id = w.member_id WHERE m.email = $1",
    )
    .bind(email)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.unwrap_or_default())
}

/// Saves what a member wishes.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn save(database: &Database, email: &str, wishes: &Value) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO notice_wishes (member_id, wishes) SELECT id, $2 FROM member WHERE email = $1 ON CONFLICT \
         (member_id) DO UPDATE SET wishes = excluded.wishes",
    )
    .bind(email)
    .bind(wishes)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Notes that a member's digest of a time was made. Returns whether nobody else noted it before: who did makes it.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn digest_made(database: &Database, member: i32, of: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "INSERT INTO notice_wishes (member_id, wishes, digest_at) VALUES ($1, 'null', $2) ON CONFLICT (member_id) DO \
         UPDATE SET digest_at = excluded.digest_at WHERE notice_wishes.digest_at IS NULL OR notice_wishes.digest_at < \
         excluded.digest_at",
    )
    .bind(member)
    .bind(of)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::people::add_member;
    use crate::testing::database;

    #[tokio::test]
    async fn members_are_read_with_what_they_wish_and_a_digest_is_made_once() {
        let database = database().await;
        for (email, role) in [("purser@skerry.example", "admin"), ("mate@skerry.example", "viewer")] {
            add_member(&database, email, role, "a hash").await.unwrap();
        }
        assert_eq!(read(&database, "mate@skerry.example").await.unwrap(), Value::Null);
        save(&database, "mate@skerry.example", &json!({"pace": "daily"}))
            .await
            .unwrap();
        let all = recipients(&database).await.unwrap();
        assert_eq!(
            all.iter().map(|one| one.role.as_str()).collect::<Vec<_>>(),
            ["viewer", "admin"]
        );
        assert_eq!(
            (&all[0].wishes, &all[1].wishes),
            (&json!({"pace": "daily"}), &Value::Null)
        );
        let at = Utc::now();
        for member in [all[0].id, all[1].id] {
            assert!(digest_made(&database, member, at).await.unwrap());
            assert!(
                !digest_made(&database, member, at).await.unwrap(),
                "another instance did"
            );
        }
        assert_eq!(
            read(&database, "mate@skerry.example").await.unwrap(),
            json!({"pace": "daily"})
        );
    }
}
