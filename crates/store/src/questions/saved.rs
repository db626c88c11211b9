//! Questions saved under a name, with what they were before.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Most saved questions of an installation: more than people find their way in.
pub const MAX_SAVED: i64 = 1_000;
/// Versions of a question that are kept beside the present one.
const MAX_BEFORE: i32 = 50;

/// A question saved under a name.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Saved {
    /// Its name.
    pub name: String,
    /// Its text.
    pub question: String,
    /// What it is for; may be empty.
    pub description: String,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// How often it was saved.
    pub version: i32,
    /// When it was saved last.
    pub changed_at: DateTime<Utc>,
}

/// What a saved question was.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Before {
    /// Its version then.
    pub version: i32,
    /// Its text then.
    pub question: String,
    /// What it was for.
    pub description: String,
    /// When it was saved so.
    pub changed_at: DateTime<Utc>,
}

/// A question to save.
#[derive(Clone, Copy, Debug)]
pub struct NewSaved<'s> {
    /// Its name.
    pub name: &'s str,
    /// Its text.
    pub question: &'s str,
    /// What it is for.
    pub description: &'s str,
    /// The version that is changed; a new name where `None`.
    pub version: Option<i32>,
}

/// What became of a question to save.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Saving {
    /// It is saved, as this version.
    Done(i32),
    /// The name is taken, by whom.
    Taken(String),
    /// It was changed meanwhile, and is of this version now.
    Changed(i32),
    /// There is none of that name to change.
    Missing,
    /// There are [`MAX_SAVED`] already.
    Full,
}

/// All saved questions, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Saved>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT name, question, description, owner, version, changed_at FROM saved_question ORDER BY lower(name), name",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// A saved question, and what it was before, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, name: &str) -> Result<Option<(Saved, Vec<Before>)>, StoreError> {
    let saved: Option<Saved> = sqlx::query_as(
        "SELECT name, question, description, owner, version, changed_at FROM saved_question WHERE name = $1",
    )
    .bind(name)
    .fetch_optional(&database.pool)
    .await?;
    let Some(saved) = saved else { return Ok(None) };
    let before = sqlx::query_as(
        "SELECT b.version, b.question, b.description, b.changed_at FROM saved_question_before b JOIN saved_question s \
         ON s.id = b.saved_id WHERE s.name = $1 ORDER BY b.version DESC",
    )
    .bind(name)
    .fetch_all(&database.pool)
    .await?;
    Ok(Some((saved, before)))
}

/// Saves a question for a member. It never takes the place of somebody else's, nor of a version that the member has not
/// seen.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn save(
    database: &Database,
    new: &NewSaved<'_>,
    member: &str,
    now: DateTime<Utc>,
) -> Result<Saving, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let known: Option<(i32, String, i32)> =
        sqlx::query_as("SELECT id, owner, version FROM saved_question WHERE name = $1 FOR UPDATE")
            .bind(new.name)
            .fetch_optional(&mut *transaction)
            .await?;
    let saving = match (known, new.version) {
        (Some((_, owner, _)), None) => Saving::Taken(owner),
        (Some((_, owner, _)), Some(_)) if owner != member => Saving::Taken(owner),
        (Some((_, _, version)), Some(seen)) if version != seen => Saving::Changed(version),
        (None, Some(_)) => Saving::Missing,
        (Some((id, _, version)), Some(_)) => {
            sqlx::query(
                "WITH was AS (INSERT INTO saved_question_before (saved_id, version, question, description, changed_at) \
                 SELECT id, version, question, description, changed_at FROM saved_question WHERE id = $1), gone AS \
                 (DELETE FROM saved_question_before WHERE saved_id = $1 AND version <= $2 - $3) UPDATE saved_question \
                 SET question = $4, description = $5, version = $2 + 1, changed_at = $6 WHERE id = $1",
            )
            .bind(id)
            .bind(version)
            .bind(MAX_BEFORE)
            .bind(new.question)
            .bind(new.description)
            .bind(now)
            .execute(&mut *transaction)
            .await?;
            Saving::Done(version + 1)
        }
        (None, None) => {
            let made = sqlx::query(
                "INSERT INTO saved_question (name, question, description, owner, version, changed_at) SELECT $1, $2, \
                 $3, $4, 1, $5 WHERE (SELECT count(*) FROM saved_question) < $6 ON CONFLICT (name) DO NOTHING",
            )
            .bind(new.name)
            .bind(new.question)
            .bind(new.description)
            .bind(member)
            .bind(now)
            .bind(MAX_SAVED)
            .execute(&mut *transaction)
            .await?
            .rows_affected();
            // Somebody else may have taken the name in this moment.
            let owner: Option<String> = sqlx::query_scalar("SELECT owner FROM saved_question WHERE name = $1")
                .bind(new.name)
                .fetch_optional(&mut *transaction)
                .await?;
            match owner {
                _ if made == 1 => Saving::Done(1),
                Some(owner) => Saving::Taken(owner),
                None => Saving::Full,
            }
        }
    };
    transaction.commit().await?;
    Ok(saving)
}

/// Removes a saved question: its owner's where `owner` is given, else whoever's it is. Returns whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, name: &str, owner: Option<&str>) -> Result<bool, StoreError> {
    let removed = sqlx::query("DELETE FROM saved_question WHERE name = $1 AND ($2::text IS NULL OR owner = $2)")
        .bind(name)
        .bind(owner)
        .execute(&database.pool)
        .await?;
    Ok(removed.rows_affected() > 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::database;

    const PURSER: &str = "purser@skerry.example";
    const MATE: &str = "mate@skerry.example";

    async fn put(database: &Database, member: &str, question: &str, version: Option<i32>) -> Saving {
        let new = NewSaved {
            name: "Errors by type",
            question,
            description: "of the week",
            version,
        };
        save(database, &new, member, Utc::now()).await.unwrap()
    }

    #[tokio::test]
    async fn a_saved_question_is_changed_by_its_owner_alone_and_only_as_it_was_seen() {
        let database = database().await;
        assert_eq!(put(&database, PURSER, "a", Some(1)).await, Saving::Missing);
        assert_eq!(put(&database, PURSER, "a", None).await, Saving::Done(1));
        for (member, version) in [(PURSER, None), (MATE, None), (MATE, Some(1))] {
            assert_eq!(
                put(&database, member, "b", version).await,
                Saving::Taken(PURSER.to_owned())
            );
        }
        assert_eq!(put(&database, PURSER, "b", Some(1)).await, Saving::Done(2));
        assert_eq!(put(&database, PURSER, "c", Some(1)).await, Saving::Changed(2));
        let (saved, before) = one(&database, "Errors by type").await.unwrap().unwrap();
        assert_eq!((saved.question.as_str(), saved.version), ("b", 2));
        let before: Vec<_> = before.iter().map(|was| (was.version, was.question.as_str())).collect();
        assert_eq!(before, [(1, "a")]);
        assert_eq!(list(&database).await.unwrap(), [saved]);
        assert!(!remove(&database, "Errors by type", Some(MATE)).await.unwrap());
        assert!(remove(&database, "Errors by type", None).await.unwrap());
        assert_eq!(one(&database, "Errors by type").await.unwrap(), None);
    }

    #[tokio::test]
    async fn the_last_versions_are_kept_and_of_two_who_take_a_name_one_has_it() {
        let database = database().await;
        let (one_saves, other_saves) = tokio::join!(put(&database, PURSER, "a", None), put(&database, MATE, "b", None));
        let done = [&one_saves, &other_saves]
            .iter()
            .filter(|saving| ***saving == Saving::Done(1))
            .count();
        assert_eq!(done, 1, "{one_saves:?} {other_saves:?}");
        let owner = list(&database).await.unwrap()[0].owner.clone();
        for version in 1..60 {
            assert_eq!(
                put(&database, &owner, "c", Some(version)).await,
                Saving::Done(version + 1)
            );
        }
        let (_, before) = one(&database, "Errors by type").await.unwrap().unwrap();
        let versions: Vec<i32> = before.iter().map(|was| was.version).collect();
        assert_eq!(versions, (10..60).rev().collect::<Vec<_>>());
    }
}
