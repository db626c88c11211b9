//! Sheets: documents of questions and text, saved under a name.

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::FromRow;

use super::saved::Saving;
use crate::boxed;
use crate::{Database, StoreError};

/// Most sheets of an installation: more than people find their way in.
pub const MAX_SHEETS: i64 = 500;

/// A sheet saved under a name.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Sheet {
    /// Its name.
    pub name: String,
    /// What is on it; whoever saves it says in which form.
    pub document: Value,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// How often it was saved.
    pub version: i32,
    /// When it was saved last.
    pub changed_at: DateTime<Utc>,
}

/// All sheets, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Sheet>, StoreError> {
    Ok(
        sqlx::query_as("SELECT name, document, owner, version, changed_at FROM sheet ORDER BY lower(name), name")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// The sheet of a name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, name: &str) -> Result<Option<Sheet>, StoreError> {
    Ok(
        sqlx::query_as("SELECT name, document, owner, version, changed_at FROM sheet WHERE name = $1")
            .bind(name)
            .fetch_optional(&database.pool)
            .await?,
    )
}

/// Saves a sheet for a member: a new one, or the next of the version that the member has seen.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn save(
    database: &Database,
    (name, document): (&str, &Value),
    seen: Option<i32>,
    member: &str,
    now: DateTime<Utc>,
) -> Result<Saving, StoreError> {
    let saved: Option<i32> = sqlx::query_scalar(match seen {
        Some(_) => {
            "UPDATE sheet SET document = $2, version = version + 1, changed_at = $4 WHERE name = $1 AND owner = $3 AND \
             version = $5 RETURNING version"
        }
        None => {
            "INSERT INTO sheet (name, document, owner, version, changed_at) SELECT $1, $2, $3, 1, $4 \
             WHERE $5::integer IS NULL AND (SELECT count(*) FROM sheet) < $6 ON CONFLICT (name) DO NOTHING RETURNING version"
        }
    })
    .bind(name)
    .bind(document)
    .bind(member)
    .bind(now)
    .bind(seen)
    .bind(MAX_SHEETS)
    .fetch_optional(&database.pool)
    .await?;
    if let Some(version) = saved {
        return Ok(Saving::Done(version));
    }
    let known = one(database, name).await?;
    Ok(match (known, seen) {
        (Some(sheet), Some(_)) if sheet.owner == member => Saving::Changed(sheet.version),
        (Some(sheet), _) => Saving::Taken(sheet.owner),
        (None, Some(_)) => Saving::Missing,
        (None, None) => Saving::Full,
    })
}

/// Removes a sheet: its owner's where `owner` is given, else whoever's it is. Returns whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, name: &str, owner: Option<&str>) -> Result<bool, StoreError> {
    let removed = sqlx::query("DELETE FROM sheet WHERE name = $1 AND ($2::text IS NULL OR owner = $2)")
        .bind(name)
        .bind(owner)
        .execute(&database.pool)
        .await?;
    Ok(removed.rows_affected() > 0)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::testing::database;

    const PURSER: &str = "purser@skerry.example";
    const MATE: &str = "mate@skerry.example";

    #[tokio::test]
    async fn a_sheet_is_changed_by_its_owner_alone_and_only_as_it_was_seen() {
        let database = database().await;
        let put = async |member: &str, text: &str, seen: Option<i32>| {
            let document = json!({"parts": [{"text": text}]});
            save(&database, ("Night watch", &document), seen, member, Utc::now())
                .await
                .unwrap()
        };
        assert_eq!(put(PURSER, "a", Some(1)).await, Saving::Missing);
        let (purser, mate) = tokio::join!(put(PURSER, "a", None), put(MATE, "b", None));
        let owner = one(&database, "Night watch").await.unwrap().unwrap().owner;
        let other = if owner == PURSER { MATE } else { PURSER };
        let taken = Saving::Taken(owner.clone());
        let (winner, loser) = if owner == PURSER {
            (purser, mate)
        } else {
            (mate, purser)
        };
        assert_eq!(
            (winner, loser),
            (Saving::Done(1), taken.clone()),
            "one of two has the name"
        );
        assert_eq!(put(other, "c", Some(1)).await, taken);
        assert_eq!(
            put(&owner, "c", None).await,
            taken,
            "a name is new or changed, never both"
        );
        assert_eq!(put(&owner, "c", Some(1)).await, Saving::Done(2));
        assert_eq!(put(&owner, "d", Some(1)).await, Saving::Changed(2));
        let listed = list(&database).await.unwrap();
        assert_eq!(listed[0].document["parts"][0]["text"], "c");
        assert!(!remove(&database, "Night watch", Some(other)).await.unwrap());
        assert!(remove(&database, "Night watch", None).await.unwrap());
        assert_eq!(list(&database).await.unwrap(), []);
    }

    #[tokio::test]
    async fn past_the_limit_no_new_sheet_is_saved() {
        let database = database().await;
        sqlx::query(
            "INSERT INTO sheet SELECT 'sheet ' || n, '{\"parts\": []}', 'purser@skerry.example', 1, now() \
             FROM generate_series(1, $1) n",
        )
        .bind(MAX_SHEETS)
        .execute(&database.pool)
        .await
        .unwrap();
        let document = json!({"parts": []});
        let put = async |name: &str, seen| save(&database, (name, &document), seen, PURSER, Utc::now()).await;
        assert_eq!(put("one more", None).await.unwrap(), Saving::Full);
        assert_eq!(put("sheet 7", Some(1)).await.unwrap(), Saving::Done(2));
    }
}
