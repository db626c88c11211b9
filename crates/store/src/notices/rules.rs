//! Rules of notices, as people wrote them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Rules at most: each is held against every event.
pub const MAX_RULES: i64 = 2_000;

/// A rule as it is stored.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Stored {
    /// Its number.
    pub id: i32,
    /// Its name; no two rules share one, whatever its case.
    pub name: String,
    /// All else, as JSON.
    pub setting: Value,
    /// Whether it is on.
    pub is_on: bool,
    /// Who changed it last; `outcrop` for those that an installation begins with.
    pub changed_by: String,
    /// When.
    pub changed_at: DateTime<Utc>,
}

/// A rule to store.
#[derive(Clone, Copy, Debug)]
pub struct NewRule<'r> {
    /// Its name.
    pub name: &'r str,
    /// All else, as JSON.
    pub setting: &'r Value,
    /// Whether it is on.
    pub is_on: bool,
}

/// Why a rule was not stored.
#[derive(Debug, thiserror::Error)]
pub enum RuleError {
    /// Another one has its name.
    #[error("another rule has the name `{0}`")]
    Named(String),
    /// There are as many as there may be.
    #[error("there are {MAX_RULES} rules already: remove one first")]
    TooMany,
    /// There is none of that number.
    #[error("there is no notice rule {0}")]
    Unknown(i32),
    /// The database did not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl RuleError {
    fn of(error: sqlx::Error, name: &str) -> Self {
        if error
            .as_database_error()
            .is_some_and(sqlx::error::DatabaseError::is_unique_violation)
        {
            Self::Named(name.to_owned())
        } else {
            Self::Store(error.into())
        }
    }
}

/// All rules, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Stored>, StoreError> {
    Ok(
        sqlx::query_as("SELECT id, name, setting, is_on, changed_by, changed_at FROM notice_rule ORDER BY lower(name)")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// Makes a rule; returns its number.
///
/// # Errors
/// [`RuleError`] with the reason.
#[boxed]
pub async fn make(database: &Database, new: &NewRule<'_>, (by, at): (&str, DateTime<Utc>)) -> Result<i32, RuleError> {
    let made: Option<i32> = sqlx::query_scalar(
        "INSERT INTO notice_rule (name, setting, is_on, changed_by, changed_at) SELECT $1, $2, $3, $4, $5 WHERE (SELECT \
         count(*) FROM notice_rule) < $6 RETURNING id",
    )
    .bind(new.name)
    .bind(new.setting)
    .bind(new.is_on)
    .bind(by)
    .bind(at)
    .bind(MAX_RULES)
    .fetch_optional(&database.pool)
    .await
    .map_err(|error| RuleError::of(error, new.name))?;
    made.ok_or(RuleError::TooMany)
}

/// Changes a rule.
///
/// # Errors
/// [`RuleError`] with the reason.
#[boxed]
pub async fn change(
    database: &Database,
    id: i32,
    new: &NewRule<'_>,
    (by, at): (&str, DateTime<Utc>),
) -> Result<(), RuleError> {
    let done = sqlx::query(
        "UPDATE notice_rule SET name = $2, setting = $3, is_on = $4, changed_by = $5, changed_at = $6 WHERE id = $1",
    )
    .bind(id)
    .bind(new.name)
    .bind(new.setting)
    .bind(new.is_on)
    .bind(by)
    .bind(at)
    .execute(&database.pool)
    .await
    .map_err(|error| RuleError::of(error, new.name))?;
    if done.rows_affected() == 0 {
        return Err(RuleError::Unknown(id));
    }
    Ok(())
}

/// How many notices each rule sent since a time, by the rules' numbers; none of those that sent none.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn sent(database: &Database, since: DateTime<Utc>) -> Result<HashMap<i32, i64>, StoreError> {
    let rows: Vec<(i32, i64)> = sqlx::query_as(
        "SELECT rule_id, count(*) FROM notice WHERE made_at >= $1 AND rule_id IS NOT NULL AND state = 'sent' AND reason IN \
         ('rule', 'passed-on') GROUP BY 1",
    )
    .bind(since)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().collect())
}

/// Removes a rule; returns its name, where there was one. What it sent stays on record.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, id: i32) -> Result<Option<String>, StoreError> {
    Ok(
        sqlx::query_scalar("DELETE FROM notice_rule WHERE id = $1 RETURNING name")
            .bind(id)
            .fetch_optional(&database.pool)
            .await?,
    )
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::testing::database;

    #[tokio::test]
    async fn an_installation_begins_with_good_rules_and_rules_have_names_of_their_own() {
        let database = database().await;
        let by = ("purser", Utc::now());
        let first = list(&database).await.unwrap();
        assert_eq!(first.len(), 2);
        assert!(
            first.iter().all(|rule| rule.is_on && rule.changed_by == "outcrop"),
            "{first:?}"
        );
        let setting = json!({"when": ["surging"]});
        let named = |name| NewRule {
            name,
            setting: &setting,
            is_on: true,
        };
        let id = make(&database, &named("Surges"), by).await.unwrap();
        let same = make(&database, &named("SURGES"), by).await;
        assert!(matches!(same, Err(RuleError::Named(_))), "{same:?}");
        change(&database, id, &named("Floods"), by).await.unwrap();
        let taken = change(&database, first[0].id, &named("floods"), by).await;
        assert!(matches!(taken, Err(RuleError::Named(_))), "{taken:?}");
        let listed = list(&database).await.unwrap();
        assert_eq!((listed[1].name.as_str(), listed[1].is_on), ("Floods", true));
        assert_eq!(remove(&database, id).await.unwrap().as_deref(), Some("Floods"));
        assert_eq!(remove(&database, id).await.unwrap(), None);
        let gone = change(&database, id, &named("x"), by).await;
        assert!(matches!(gone, Err(RuleError::Unknown(_))), "{gone:?}");
    }
}
