//! What people add to the built-in scrubbing.

use chrono::{DateTime, Utc};
use outcrop_core::scrub::{BrokenRule, Rule, Scrubbing};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Rules in force at most: each is tried on every name or text that comes in.
pub const MAX_RULES: i64 = 100;

/// A rule as people made it.
#[derive(Clone, Debug, FromRow)]
pub struct ScrubRule {
    /// Its number.
    pub id: i64,
    /// The service it is for; `None` for all.
    pub service: Option<String>,
    /// `remove`, `keep` or `shape`.
    pub verb: String,
    /// The name, or the regular expression.
    pub what: String,
    /// What the mark says; empty for `keep`.
    pub reason: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Who ended it.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<DateTime<Utc>>,
}

/// What a rule says, to be checked before it is stored.
///
/// # Errors
/// [`BrokenRule`] when it cannot be used.
pub fn rule(verb: &str, what: &str, reason: &str) -> Result<Option<Rule>, BrokenRule> {
    match verb {
        "remove" => Rule::remove(what, reason).map(Some),
        "keep" => Rule::keep(what).map(Some),
        "shape" => Rule::shape(what, reason).map(Some),
        _ => Ok(None),
    }
}

/// All rules, those in force first, then the newest.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<ScrubRule>, StoreError> {
    Ok(
        sqlx::query_as("SELECT * FROM scrub_rule ORDER BY ended_at IS NOT NULL, id DESC LIMIT 200")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// A rule that somebody makes.
#[derive(Clone, Copy, Debug)]
pub struct NewRule<'r> {
    /// The service it is for; none for all.
    pub service: Option<&'r str>,
    /// What is done: `remove` or `keep`.
    pub verb: &'r str,
    /// What it is done to.
    pub what: &'r str,
    /// Why.
    pub reason: &'r str,
    /// Who makes it.
    pub by: &'r str,
}

/// Makes a rule. `None` when there are as many as there may be.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn make(database: &Database, rule: NewRule<'_>) -> Result<Option<i64>, StoreError> {
    let made: Option<(i64,)> = sqlx::query_as(
        "INSERT INTO scrub_rule (service, verb, what, reason, made_by) SELECT $1, $2, $3, $4, $5 \
         WHERE (SELECT count(*) FROM scrub_rule WHERE ended_at IS NULL) < $6 RETURNING id",
    )
    .bind(rule.service)
    .bind(rule.verb)
    .bind(rule.what)
    .bind(rule.reason)
    .bind(rule.by)
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
    let done = sqlx::query("UPDATE scrub_rule SET ended_at = now(), ended_by = $2 WHERE id = $1 AND ended_at IS NULL")
        .bind(id)
        .bind(by)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// How what comes in is scrubbed now. A stored rule that this release cannot use is left out.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn in_force(database: &Database) -> Result<Scrubbing, StoreError> {
    with(database, None).await
}

/// Like [`in_force`], with one rule more.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn with(database: &Database, more: Option<(Option<String>, Rule)>) -> Result<Scrubbing, StoreError> {
    let addresses = crate::people::settings::addresses(database).await?;
    let rows: Vec<ScrubRule> = sqlx::query_as("SELECT * FROM scrub_rule WHERE ended_at IS NULL ORDER BY id")
        .fetch_all(&database.pool)
        .await?;
    let rules = rows
        .into_iter()
        .filter_map(|row| Some((row.service, rule(&row.verb, &row.what, &row.reason).ok()??)));
    Ok(Scrubbing::new(addresses, rules.chain(more)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::database;

    fn named<'r>(service: Option<&'r str>, verb: &'r str, what: &'r str) -> NewRule<'r> {
        NewRule {
            service,
            verb,
            what,
            reason: "crew data",
            by: "purser@skerry.example",
        }
    }

    #[tokio::test]
    async fn rules_hold_for_their_service_and_one_can_be_tried_before_it_is_made() {
        let database = database().await;
        let name = "skerry.passport";
        assert_eq!(in_force(&database).await.unwrap().of("fares").reason(name), None);
        let tried = with(
            &database,
            rule("remove", name, "crew data").unwrap().map(|rule| (None, rule)),
        )
        .await
        .unwrap();
        assert_eq!(tried.of("fares").reason(name), Some("crew data"), "a trial");
        assert_eq!(
            in_force(&database).await.unwrap().of("fares").reason(name),
            None,
            "which leaves nothing behind"
        );
        let id = make(&database, named(Some("fares"), "remove", name))
            .await
            .unwrap()
            .unwrap();
        let scrubbing = in_force(&database).await.unwrap();
        assert_eq!(scrubbing.of("fares").reason(name), Some("crew data"));
        assert_eq!(scrubbing.of("berths").reason(name), None, "another service");
        assert!(end(&database, id, "bosun@skerry.example").await.unwrap());
        assert!(!end(&database, id, "bosun@skerry.example").await.unwrap());
        assert_eq!(in_force(&database).await.unwrap().of("fares").reason(name), None);
    }

    #[tokio::test]
    async fn a_stored_rule_that_cannot_be_used_is_left_out_and_the_others_hold() {
        let database = database().await;
        assert!(rule("remove", "/(/", "x").is_err());
        make(&database, named(None, "remove", "/(/")).await.unwrap();
        make(&database, named(None, "remove", "skerry.passport")).await.unwrap();
        let scrubbing = in_force(&database).await.unwrap();
        assert_eq!(scrubbing.of("fares").reason("skerry.passport"), Some("crew data"));
    }
}
