//! What notices are about: flags that rose and ended, what people did, and occurrences behind them.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use outcrop_core::notice::EventCase;
use outcrop_core::telemetry::facts;
use outcrop_core::text::plain;
use serde_json::{Map, Value};
use sqlx::FromRow;
use uuid::Uuid;

use super::events::{NewEvent, insert};
use crate::boxed;
use crate::flags::{FLAG_COLUMNS, FLAG_TABLES, Flag};
use crate::people::settings::ServiceSetting;
use crate::stacks::unpack_stack;
use crate::{Database, StoreError};

/// Flags looked at in one round.
const AT_ONCE: i64 = 200;
/// Occurrences that an event keeps of its error.
const CASES: i64 = 3;
/// The longest attribute that is kept of one, in characters.
const LONGEST: usize = 1_000;

/// A flag that was not noted yet, or whose end was not.
#[derive(Clone, Debug, FromRow)]
pub struct Unnoted {
    /// Its number.
    pub id: i64,
    /// The service's number.
    pub service_id: i32,
    /// The service's namespace.
    pub namespace: String,
    /// The environment's number.
    pub environment_id: i32,
    /// The flag.
    #[sqlx(flatten)]
    pub flag: Flag,
}

/// Flags that nobody noted yet, the first said first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn risen(database: &Database) -> Result<Vec<Unnoted>, StoreError> {
    unnoted(database, "flag.noted_at IS NULL").await
}

/// Flags that were noted, and have ended or were taken back since.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn ended(database: &Database) -> Result<Vec<Unnoted>, StoreError> {
    unnoted(
        database,
        "flag.end_noted_at IS NULL AND (flag.ended_at IS NOT NULL OR flag.withdrawn_at IS NOT NULL) AND flag.noted_at IS \
         NOT NULL",
    )
    .await
}

async fn unnoted(database: &Database, condition: &str) -> Result<Vec<Unnoted>, StoreError> {
    let statement = format!(
        "SELECT flag.id, flag.service_id, service.namespace, flag.environment_id, {FLAG_COLUMNS} FROM flag {FLAG_TABLES} \
         WHERE {condition} ORDER BY flag.said_at, flag.id LIMIT {AT_ONCE}"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .fetch_all(&database.pool)
        .await?)
}

/// Of some errors, those that occurred since a time in traces of which it is not known yet where they began to fail.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn awaiting_origins(
    database: &Database,
    errors: &[i32],
    since: DateTime<Utc>,
) -> Result<HashSet<i32>, StoreError> {
    let found: Vec<i32> = sqlx::query_scalar(
        "SELECT DISTINCT cause.error_id FROM cause JOIN occurrence o ON o.cause_id = cause.id AND o.id >= first_id_at($2) \
         WHERE cause.error_id = ANY($1) AND o.trace_id IN (SELECT trace_id FROM origin_due)",
    )
    .bind(errors)
    .bind(since)
    .fetch_all(&database.pool)
    .await?;
    Ok(found.into_iter().collect())
}

/// Notes events of flags, and that they were noted: all or nothing. Where several instances do, one succeeds.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn note_flags(
    database: &Database,
    events: &[NewEvent],
    (risen, ended): (&[i64], &[i64]),
    at: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let mut transaction = database.pool.begin().await?;
    sqlx::query("UPDATE flag SET noted_at = $2 WHERE id = ANY($1) AND noted_at IS NULL")
        .bind(risen)
        .bind(at)
        .execute(&mut *transaction)
        .await?;
    sqlx::query("UPDATE flag SET end_noted_at = $2 WHERE id = ANY($1) AND end_noted_at IS NULL")
        .bind(ended)
        .bind(at)
        .execute(&mut *transaction)
        .await?;
    let noted = insert(&mut transaction, events).await?;
    transaction.commit().await?;
    Ok(noted)
}

/// What somebody did so that nobody else needs to be told: took, settled or quieted an error.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Handled {
    /// The change's number.
    pub id: i64,
    /// The error's number.
    pub error_id: i32,
    /// When.
    pub at: DateTime<Utc>,
}

/// What people did since a time that was not noted yet. An error that was handed over by itself was taken by nobody.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn handled(database: &Database, since: DateTime<Utc>) -> Result<Vec<Handled>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, error_id, at FROM handling_change WHERE at >= $1 AND verb IN ('take', 'settle', 'settle by', 'quiet') \
         AND by <> 'outcrop' AND NOT EXISTS (SELECT FROM notice_event e WHERE e.key = 'handled ' || handling_change.id) \
         ORDER BY id LIMIT $2",
    )
    .bind(since)
    .bind(AT_ONCE)
    .fetch_all(&database.pool)
    .await?)
}

/// The newest occurrences of an error in an environment, and how often it occurred and for how many users since a time.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn cases(
    database: &Database,
    (error, service, environment): (i32, i32, i32),
    settings: &HashMap<Option<i32>, ServiceSetting>,
) -> Result<Vec<EventCase>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        version: String,
        type_name: String,
        message: String,
        severity: i16,
        trace_id: Option<Uuid>,
        endpoint: String,
        uncaught: bool,
        attributes: Value,
        resource: Value,
        frames: Option<Vec<u8>>,
    }
    let rows: Vec<Row> = sqlx::query_as(include_str!("../../queries/notices/cases.sql"))
        .bind(error)
        .bind(environment)
        .bind(CASES)
        .fetch_all(&database.pool)
        .await?;
    let own = settings.get(&Some(service)).cloned().unwrap_or_default();
    let setting = settings
        .get(&None)
        .map_or_else(|| own.clone(), |all| own.clone().or(all));
    Ok(rows
        .into_iter()
        .map(|row| {
            let (attributes, resource) = (short(row.attributes), short(row.resource));
            let chosen = |name: Option<&String>| {
                let found =
                    name.and_then(|name| facts::value(&attributes, name).or_else(|| facts::value(&resource, name)));
                found.map(plain).unwrap_or_default()
            };
            EventCase {
                version: row.version,
                type_name: row.type_name,
                message: row.message,
                severity: row.severity,
                trace: row.trace_id.map(|id| id.simple().to_string()).unwrap_or_default(),
                endpoint: row.endpoint,
                uncaught: row.uncaught,
                group: chosen(setting.instance_group.as_ref()),
                customer: chosen(setting.customer.as_ref()),
                stack: row.frames.as_deref().and_then(unpack_stack),
                attributes,
                resource,
            }
        })
        .collect())
}

/// How many errors of other places follow from each of some, in the last hour; none of those from which none does.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn echoes(database: &Database, errors: &[i32]) -> Result<HashMap<i32, usize>, StoreError> {
    let rows: Vec<(i32, i64)> = sqlx::query_as(
        "SELECT cause.error_id, count(DISTINCT own.error_id) FROM occurrence_origin tie JOIN cause ON cause.id = \
         tie.origin_cause_id JOIN cause own ON own.id = tie.cause_id WHERE tie.origin_cause_id = ANY(ARRAY(SELECT id FROM \
         cause WHERE error_id = ANY($1))) AND own.error_id <> cause.error_id AND tie.at >= now() - interval '1 hour' GROUP \
         BY 1",
    )
    .bind(errors)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(error, count)| (error, usize::try_from(count).unwrap_or_default()))
        .collect())
}

/// Attributes without those that are long: what a predicate looks at is short.
fn short(attributes: Value) -> Map<String, Value> {
    let Value::Object(mut attributes) = attributes else {
        return Map::new();
    };
    attributes.retain(|_, value| plain(value).chars().nth(LONGEST).is_none());
    attributes
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use outcrop_core::notice::EventKind;

    use super::*;
    use crate::errors::handling::{Action, act};
    use crate::notices::testing::event;
    use crate::testing::{database, failing, now, of, resource, spans, store, trace, writer};

    async fn with_flag() -> Database {
        let database = database().await;
        let failure = failing(trace(1), 1, None, now(), "no tariff");
        store(
            &writer(&database),
            &[spans(vec![of(resource("fares"), vec![failure])], now())],
        )
        .await;
        sqlx::query(
            "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, count, \
             expected, evidence) SELECT id, service_id, (SELECT min(id) FROM environment), 'new', '2.4.0', false, now(), \
             now(), 1, 0, 0 FROM error_group",
        )
        .execute(&database.pool)
        .await
        .unwrap();
        database
    }

    #[tokio::test]
    async fn a_flag_is_noted_when_it_rises_and_when_it_ends() {
        let database = with_flag().await;
        let first = risen(&database).await.unwrap();
        assert_eq!((first.len(), first[0].flag.service.as_str()), (1, "fares"));
        let at = Utc::now();
        let noted = event("flag 1", EventKind::New, at);
        assert_eq!(
            note_flags(&database, std::slice::from_ref(&noted), (&[first[0].id], &[]), at)
                .await
                .unwrap(),
            1
        );
        assert_eq!(
            note_flags(&database, &[noted], (&[first[0].id], &[]), at)
                .await
                .unwrap(),
            0
        );
        assert!(risen(&database).await.unwrap().is_empty() && ended(&database).await.unwrap().is_empty());
        sqlx::query("UPDATE flag SET withdrawn_at = now()")
            .execute(&database.pool)
            .await
            .unwrap();
        let ends = ended(&database).await.unwrap();
        assert!(ends[0].flag.withdrawn_at.is_some());
        note_flags(
            &database,
            &[event("flag 1 ended", EventKind::TakenBack, at)],
            (&[], &[ends[0].id]),
            at,
        )
        .await
        .unwrap();
        assert!(ended(&database).await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn an_errors_newest_occurrences_are_read_with_what_they_were_sent_with() {
        let database = with_flag().await;
        let flag = risen(&database).await.unwrap().remove(0);
        let group = ServiceSetting {
            instance_group: Some("host.name".to_owned()),
            ..ServiceSetting::default()
        };
        let settings = [(None, group)].into();
        let of = (flag.flag.error_id, flag.service_id, flag.environment_id);
        let found = cases(&database, of, &settings).await.unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(
            (found[0].message.as_str(), found[0].group.as_str()),
            ("no tariff", "pier-3")
        );
        assert_eq!((found[0].version.as_str(), found[0].uncaught), ("2.4.0", true));
        assert_eq!(found[0].resource["host.name"], "pier-3");
        assert!(cases(&database, (of.0, of.1, 99), &settings).await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn what_people_did_is_noted_once() {
        let database = with_flag().await;
        let error = risen(&database).await.unwrap()[0].flag.error_id;
        let reference = crate::ids::reference(error);
        let since = Utc::now() - TimeDelta::hours(1);
        let by = ("purser", Utc::now());
        act(&database, &[reference], &Action::Take("purser".to_owned()), by, None)
            .await
            .unwrap();
        let by_itself = ("outcrop", Utc::now());
        act(
            &database,
            &[reference],
            &Action::Take("tariff desk".to_owned()),
            by_itself,
            None,
        )
        .await
        .unwrap();
        act(&database, &[reference], &Action::Note("looked".to_owned()), by, None)
            .await
            .unwrap();
        let done = handled(&database, since).await.unwrap();
        assert_eq!((done.len(), done[0].error_id), (1, error), "a note changes nothing");
        let noted = event(&format!("handled {}", done[0].id), EventKind::Handled, Utc::now());
        super::super::events::note(&database, &[noted]).await.unwrap();
        assert!(handled(&database, since).await.unwrap().is_empty());
    }

    #[test]
    fn long_attributes_are_left_out() {
        let long = "x".repeat(LONGEST + 1);
        let kept = short(serde_json::json!({"a": "b", "long": long, "n": 7}));
        assert_eq!(Value::Object(kept), serde_json::json!({"a": "b", "n": 7}));
    }
}
