//! The record of what people changed in the set-up: members, tokens, keys, discarding, scrubbing, settings.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Days for which the record is kept: a yearly review finds all.
pub const KEPT_DAYS: i32 = 400;

/// One change.
#[derive(Clone, Debug, FromRow)]
pub struct Entry {
    /// Its number, rising with time.
    pub id: i64,
    /// When it was made.
    pub at: DateTime<Utc>,
    /// Who made it: a member's address, or who ran the command on the database.
    pub by: String,
    /// What was done, in words: `made sender key`.
    pub did: String,
    /// To what: a name, an address, a predicate.
    pub subject: String,
}

/// Writes down a change.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn note(database: &Database, by: &str, did: &str, subject: &str) -> Result<(), StoreError> {
    sqlx::query("INSERT INTO audit_entry (by, did, subject) VALUES ($1, $2, $3)")
        .bind(by)
        .bind(did)
        .bind(subject)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Changes, the newest first; those before an entry, where one is given.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, before: Option<i64>, limit: i64) -> Result<Vec<Entry>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, at, by, did, subject FROM audit_entry WHERE $1::bigint IS NULL OR id < $1 ORDER BY \
        id DESC LIMIT $2",
    )
    .bind(before)
    .bind(limit)
    .fetch_all(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::database;

    #[tokio::test]
    async fn changes_are_listed_newest_first_page_by_page() {
        let database = database().await;
        for number in 1..=5 {
            note(
                &database,
                "harbour@skerry.example",
                "made sender key",
                &format!("pier-{number}"),
            )
            .await
            .unwrap();
        }
        let subjects = async |before, limit| -> Vec<String> {
            list(&database, before, limit)
                .await
                .unwrap()
                .into_iter()
                .map(|entry| entry.subject)
                .collect()
        };
        assert_eq!(subjects(None, 2).await, ["pier-5", "pier-4"]);
        let last = list(&database, None, 2).await.unwrap()[1].id;
        assert_eq!(subjects(Some(last), 10).await, ["pier-3", "pier-2", "pier-1"]);
    }
}
