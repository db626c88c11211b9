//! Rules that say who owns what, and new errors that wait for their owner.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::ownership::Rule;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Rules at most: each is held against every new error.
pub const MAX_RULES: i64 = 500;

/// A rule with who made it.
#[derive(Clone, Debug)]
pub struct Made {
    /// The rule.
    pub rule: Rule,
    /// Who made it.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// All rules, the latest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Made>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        id: i32,
        owner: String,
        service: Option<String>,
        namespace: Option<String>,
        path: Option<String>,
        predicate: Option<String>,
        hands_over: bool,
        makes_ticket: bool,
        made_by: String,
        made_at: DateTime<Utc>,
    }
    let rows: Vec<Row> = sqlx::query_as("SELECT * FROM owner_rule ORDER BY id DESC")
        .fetch_all(&database.pool)
        .await?;
    let made = rows.into_iter().map(|row| Made {
        rule: Rule {
            id: row.id,
            owner: row.owner,
            service: row.service,
            namespace: row.namespace,
            path: row.path,
            predicate: row.predicate,
            hands_over: row.hands_over,
            makes_ticket: row.makes_ticket,
        },
        by: row.made_by,
        at: row.made_at,
    });
    Ok(made.collect())
}

/// Makes a rule, whatever number it has. Returns its number; `None` where there are as many as there may be.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn make(database: &Database, rule: &Rule, by: &str, at: DateTime<Utc>) -> Result<Option<i32>, StoreError> {
    Ok(sqlx::query_scalar(
        "INSERT INTO owner_rule (owner, service, namespace, path, predicate, hands_over, made_by, made_at, \
         makes_ticket) SELECT $1, $2, $3, $4, $5, $6, $7, $8, $10 WHERE (SELECT count(*) FROM owner_rule) < $9 RETURNING \
         id",
    )
    .bind(&rule.owner)
    .bind(&rule.service)
    .bind(&rule.namespace)
    .bind(&rule.path)
    .bind(&rule.predicate)
    .bind(rule.hands_over)
    .bind(by)
    .bind(at)
    .bind(MAX_RULES)
    .bind(rule.makes_ticket)
    .fetch_optional(&database.pool)
    .await?)
}

/// Removes a rule; whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, id: i32) -> Result<bool, StoreError> {
    let done = sqlx::query("DELETE FROM owner_rule WHERE id = $1")
        .bind(id)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// How long after it was said to be new an error goes to its owner by itself: what a replay says of days past does not.
const FRESH: TimeDelta = TimeDelta::hours(1);

/// An error that was said to be new and waits for its owner.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Waiting {
    /// The flag's number.
    pub flag: i64,
    /// The error's number.
    pub error_id: i32,
    /// Its service, as pages name it.
    pub service: String,
    /// The service's namespace.
    pub namespace: String,
    /// The version it is new in.
    pub version: String,
}

/// New errors that nobody took and of which nobody looked whether they go to their owner.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn waiting(database: &Database, now: DateTime<Utc>) -> Result<Vec<Waiting>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT flag.id AS flag, flag.error_id, service.display_name AS service, service.namespace, flag.version FROM \
         flag JOIN service ON service.id = flag.service_id WHERE flag.kind = 'new' AND flag.withdrawn_at IS NULL AND \
         flag.handed_at IS NULL AND flag.said_at > $1 AND NOT EXISTS (SELECT FROM handling h WHERE h.error_id = \
         flag.error_id AND h.taken_by IS NOT NULL) ORDER BY flag.id LIMIT 200",
    )
    .bind(now - FRESH)
    .fetch_all(&database.pool)
    .await?)
}

/// Notes that it was looked whether a new error goes to its owner. Returns whether nobody else noted it before: who did
/// hands it over.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn looked_at(database: &Database, flag: i64, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query("UPDATE flag SET handed_at = $2 WHERE id = $1 AND handed_at IS NULL")
        .bind(flag)
        .bind(now)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// The service and its namespace of an error, and the version it was seen in last; `None` of one that is not known.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn place(database: &Database, error: i32) -> Result<Option<(String, String, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT service.display_name, service.namespace, coalesce((SELECT version.label FROM sighted JOIN cause ON \
         cause.id = sighted.cause_id JOIN version ON version.id = sighted.version_id WHERE cause.error_id = \
         error_group.id ORDER BY sighted.last_at DESC LIMIT 1), '') FROM error_group JOIN service ON service.id = \
         error_group.service_id WHERE error_group.id = $1",
    )
    .bind(error)
    .fetch_optional(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::errors::handling::{Action, act};
    use crate::testing::{database, failing, now, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn rules_are_made_listed_and_removed() {
        let database = database().await;
        let rule = Rule {
            owner: "tariff desk".to_owned(),
            service: Some("fares".to_owned()),
            path: Some("app/**".to_owned()),
            hands_over: true,
            ..Rule::default()
        };
        let at = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let id = make(&database, &rule, "purser", at).await.unwrap().unwrap();
        let listed = list(&database).await.unwrap();
        assert_eq!((listed[0].by.as_str(), listed[0].at), ("purser", at));
        assert_eq!(listed[0].rule, Rule { id, ..rule });
        assert!(remove(&database, id).await.unwrap() && !remove(&database, id).await.unwrap());
    }

    #[tokio::test]
    async fn a_new_error_waits_once_for_its_owner_and_not_where_somebody_took_it() {
        let database = database().await;
        for (id, message) in [(1, "no tariff"), (2, "no such sailing")] {
            let failure = failing(trace(id), id, None, now(), message);
            store(
                &writer(&database),
                &[spans(vec![of(resource("fares"), vec![failure])], now())],
            )
            .await;
        }
        let said = async |ago: i64| {
            sqlx::query(
                "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, \
                 count, expected, evidence) SELECT id, service_id, (SELECT min(id) FROM environment), 'new', '2.4.0', \
                 false, $1, $1, 1, 0, 0 FROM error_group ON CONFLICT DO NOTHING",
            )
            .bind(Utc::now() - TimeDelta::minutes(ago))
            .execute(&database.pool)
            .await
            .unwrap();
        };
        said(90).await;
        assert!(waiting(&database, Utc::now()).await.unwrap().is_empty(), "too long ago");
        said(1).await;
        let both = waiting(&database, Utc::now()).await.unwrap();
        assert_eq!(both.len(), 2);
        assert_eq!((both[0].service.as_str(), both[0].version.as_str()), ("fares", "2.4.0"));
        let take = Action::Take("purser".to_owned());
        let taken = crate::ids::reference(both[0].error_id);
        act(&database, &[taken], &take, ("purser", Utc::now()), None)
            .await
            .unwrap();
        let rest = waiting(&database, Utc::now()).await.unwrap();
        assert_eq!(rest, [both[1].clone()]);
        assert!(looked_at(&database, rest[0].flag, Utc::now()).await.unwrap());
        assert!(
            !looked_at(&database, rest[0].flag, Utc::now()).await.unwrap(),
            "another instance did"
        );
        assert!(waiting(&database, Utc::now()).await.unwrap().is_empty());
        let (service, namespace, version) = place(&database, rest[0].error_id).await.unwrap().unwrap();
        assert_eq!((service.as_str(), namespace.as_str()), ("fares", ""));
        assert!(version.is_empty() || version.starts_with(char::is_numeric), "{version}");
    }
}
