//! Deleting what belongs to a service, an environment, an error or a user: tried with counts, then done by a job.
//!
//! Names stay: a writer remembers their numbers. Those that nobody uses go with their lifetime.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use sqlx::postgres::PgArguments;
use sqlx::query::Query;
use sqlx::{AssertSqlSafe, FromRow, PgConnection, Postgres};

use crate::asking::USER;
use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// What is deleted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cleaned {
    /// All that a service sent, and what was made of it.
    Service(i32),
    /// All that came from an environment.
    Environment(i32),
    /// An error's occurrences, counters, flags and handling.
    Error(i32),
    /// What tells of one user: occurrences, requests, log lines and traces.
    User {
        /// As occurrences have it.
        hash: i64,
        /// What the user is called, as it may be stored.
        names: Vec<String>,
    },
}

/// What was asked to be deleted.
#[derive(Clone, Debug, FromRow)]
pub struct Cleaning {
    /// Its number.
    pub id: i32,
    /// `service`, `environment`, `error` or `user`.
    pub kind: String,
    /// The name that was typed; of a user none.
    pub name: String,
    /// Who asked.
    pub asked_by: String,
    /// When.
    pub asked_at: DateTime<Utc>,
    /// Rows deleted so far.
    pub removed: i64,
    /// When it was done.
    pub done_at: Option<DateTime<Utc>>,
}

/// Tables of names and of what people set: they stay.
const STAY: [&str; 15] = [
    "called",
    "cause",
    "cause_shape",
    "cleaning",
    "drop_rule",
    "endpoint",
    "environment",
    "error_group",
    "grouping_change",
    "limited_service",
    "metric_series",
    "service",
    "service_setting",
    "team_service",
    "version",
];

/// What is counted before, by the tables that hold most.
const COUNTED: [(&str, &str); 4] = [
    ("occurrences", "occurrence"),
    ("requests", "request"),
    ("log lines", "log_record"),
    ("pieces of traces", "kept_chunk"),
];

const CAUSES_OF_SERVICE: &str = "(SELECT id FROM cause WHERE service_id = $1)";
const CAUSES_OF_ERROR: &str = "(SELECT id FROM cause WHERE error_id = $1)";

impl Cleaned {
    fn kind(&self) -> &'static str {
        match self {
            Self::Service(_) => "service",
            Self::Environment(_) => "environment",
            Self::Error(_) => "error",
            Self::User { .. } => "user",
        }
    }

    /// Tables with the condition under which a row goes, in an order in which each still finds what it needs.
    fn steps(&self, tables: &BTreeMap<String, Vec<String>>) -> Vec<(String, String)> {
        let mut steps: Vec<(String, String)> = vec![];
        let mut add = |table: &str, condition: String| steps.push((table.to_owned(), condition));
        if let Self::User { .. } = self {
            let named = format!("{} = ANY($2)", USER.replace("o.attributes", "attributes"));
            let of_user = format!("(user_hash = $1 OR {named})");
            let traces = format!(
                "trace_id IN (SELECT trace_id FROM occurrence WHERE {of_user} AND trace_id IS NOT NULL UNION SELECT \
                 trace_id FROM request WHERE {named})"
            );
            add("kept_chunk", traces);
            let occurrences = format!("(SELECT id FROM occurrence WHERE {of_user})");
            for table in ["payload", "kept_body", "occurrence_origin"] {
                add(table, format!("occurrence_id IN {occurrences}"));
            }
            for table in ["also_reported", "occurrence"] {
                add(table, of_user.clone());
            }
            for table in ["request", "request_sample", "log_record"] {
                add(table, named.clone());
            }
            let named = format!("{} = ANY($2)", USER.replace("o.attributes", "(c -> 'attributes')"));
            add(
                "notice_event",
                format!("$1 = $1 AND EXISTS (SELECT FROM jsonb_array_elements(facts -> 'cases') c WHERE {named})"),
            );
            return steps;
        }
        let of_occurrences = match self {
            Self::Service(_) => "(SELECT id FROM occurrence WHERE service_id = $1)".to_owned(),
            Self::Environment(_) => "(SELECT id FROM occurrence WHERE environment_id = $1)".to_owned(),
            _ => format!("(SELECT id FROM occurrence WHERE cause_id IN {CAUSES_OF_ERROR})"),
        };
        if let Self::Environment(_) = self {
            let traces = "trace_id IN (SELECT trace_id FROM occurrence WHERE environment_id = $1 AND trace_id IS NOT NULL \
                          UNION SELECT trace_id FROM request WHERE environment_id = $1)";
            add("kept_chunk", traces.to_owned());
        }
        let column = match self {
            Self::Service(_) => "service_id",
            Self::Environment(_) => "environment_id",
            _ => "error_id",
        };
        add(
            "notice",
            format!("event_ids && ARRAY(SELECT id FROM notice_event WHERE {column} = $1)"),
        );
        // What points at something goes before it.
        if !matches!(self, Self::Error(_)) {
            let column = if matches!(self, Self::Service(_)) {
                "service_id"
            } else {
                "environment_id"
            };
            let instances = format!("(SELECT id FROM instance WHERE {column} = $1)");
            add("instance_hour", format!("instance_id IN {instances}"));
            let series = format!("(SELECT id FROM metric_series WHERE {column} = $1)");
            for table in ["metric_hour", "metric_point"] {
                add(table, format!("series_id IN {series}"));
            }
        }
        if let Self::Service(_) = self {
            for table in ["called_day", "called_hour"] {
                add(
                    table,
                    "called_id IN (SELECT id FROM called WHERE service_id = $1)".to_owned(),
                );
            }
        }
        for table in ["payload", "kept_body", "occurrence_origin"] {
            add(table, format!("occurrence_id IN {of_occurrences}"));
        }
        for (table, columns) in tables.iter().filter(|(table, _)| !STAY.contains(&table.as_str())) {
            let has = |column: &str| columns.iter().any(|each| each == column);
            let condition = match self {
                Self::Service(_) if has("service_id") => "service_id = $1".to_owned(),
                Self::Service(_) if has("cause_id") => format!("cause_id IN {CAUSES_OF_SERVICE}"),
                Self::Service(_) if has("error_id") => {
                    "error_id IN (SELECT id FROM error_group WHERE service_id = $1)".to_owned()
                }
                Self::Environment(_) if has("environment_id") => "environment_id = $1".to_owned(),
                Self::Error(_) if has("error_id") => "error_id = $1".to_owned(),
                Self::Error(_) if has("cause_id") => format!("cause_id IN {CAUSES_OF_ERROR}"),
                _ => continue,
            };
            add(table, condition);
        }
        steps
    }

    fn bound(&self, statement: String) -> Query<'_, Postgres, PgArguments> {
        let query = sqlx::query(AssertSqlSafe(statement));
        match self {
            Self::Service(number) | Self::Environment(number) | Self::Error(number) => query.bind(number),
            Self::User { hash, names } => query.bind(hash).bind(names),
        }
    }
}

/// How much of what is there would be deleted: what, and how many.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn counts(database: &Database, what: &Cleaned) -> Result<Vec<(&'static str, i64)>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let tables = crate::database::tables(&mut connection).await?;
    let steps = what.steps(&tables);
    let mut counts = vec![];
    for (words, table) in COUNTED {
        let Some((_, condition)) = steps.iter().find(|(named, _)| named == table) else {
            continue;
        };
        let statement = format!("SELECT count(*) FROM {table} WHERE {condition}");
        let row = what.bound(statement).fetch_one(&mut *connection).await?;
        counts.push((words, sqlx::Row::try_get(&row, 0)?));
    }
    Ok(counts)
}

/// Has something deleted, soon. Returns its number.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn ask(
    database: &Database,
    what: &Cleaned,
    name: &str,
    (by, at): (&str, DateTime<Utc>),
) -> Result<i32, StoreError> {
    let (number, hash, names) = match what {
        Cleaned::Service(number) | Cleaned::Environment(number) | Cleaned::Error(number) => (Some(*number), None, None),
        Cleaned::User { hash, names } => (None, Some(*hash), Some(names)),
    };
    Ok(sqlx::query_scalar(
        "INSERT INTO cleaning (kind, name, number, user_hash, users, asked_by, asked_at) VALUES ($1, $2, $3, $4, $5, $6, \
         $7) RETURNING id",
    )
    .bind(what.kind())
    .bind(name)
    .bind(number)
    .bind(hash)
    .bind(names)
    .bind(by)
    .bind(at)
    .fetch_one(&database.pool)
    .await?)
}

/// What was asked to be deleted, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Cleaning>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, kind, name, asked_by, asked_at, removed, done_at FROM cleaning ORDER BY id DESC LIMIT 100",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// Deletes what was asked for first and is not done. Returns what was done, and how many rows that were; begun again where
/// it broke off. Does nothing while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
#[boxed]
pub async fn clean(database: &Database, now: DateTime<Utc>) -> Result<Option<(Cleaning, i64)>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        #[sqlx(flatten)]
        asked: Cleaning,
        number: Option<i32>,
        user_hash: Option<i64>,
        users: Option<Vec<String>>,
    }
    let mut held = database.pool.begin().await?;
    if !Lock::Cleaning.try_take(&mut held).await? {
        return Ok(None);
    }
    let found: Option<Row> = sqlx::query_as("SELECT * FROM cleaning WHERE done_at IS NULL ORDER BY id LIMIT 1")
        .fetch_optional(&mut *held)
        .await?;
    let Some(row) = found else { return Ok(None) };
    let what = match (row.asked.kind.as_str(), row.number, row.user_hash, row.users) {
        ("service", Some(number), _, _) => Cleaned::Service(number),
        ("environment", Some(number), _, _) => Cleaned::Environment(number),
        ("error", Some(number), _, _) => Cleaned::Error(number),
        ("user", _, Some(hash), Some(names)) => Cleaned::User { hash, names },
        _ => return Err(StoreError::Unusable("what is to be deleted cannot be read".to_owned())),
    };
    let mut connection = database.pool.acquire().await?;
    let tables = crate::database::tables(&mut connection).await?;
    let mut removed = 0;
    for (table, condition) in what.steps(&tables) {
        for part in parts(&mut connection, &table).await? {
            removed += remove(database, &what, &part, &condition).await?;
        }
        sqlx::query("UPDATE cleaning SET removed = $2 WHERE id = $1")
            .bind(row.asked.id)
            .bind(removed)
            .execute(&mut *connection)
            .await?;
    }
    // Whom it was about is not kept longer than it is needed.
    sqlx::query("UPDATE cleaning SET done_at = $2, users = NULL, user_hash = NULL WHERE id = $1")
        .bind(row.asked.id)
        .bind(now)
        .execute(&mut *connection)
        .await?;
    held.commit().await?;
    Ok(Some((row.asked, removed)))
}

/// Deletes the rows of one table, or of one partition, in a transaction of its own, however long it takes.
async fn remove(database: &Database, what: &Cleaned, table: &str, condition: &str) -> Result<i64, StoreError> {
    let mut transaction = database.pool.begin().await?;
    sqlx::query("SET LOCAL statement_timeout = '15min'")
        .execute(&mut *transaction)
        .await?;
    let statement = format!("DELETE FROM {table} WHERE {condition}");
    let done = what.bound(statement).execute(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(i64::try_from(done.rows_affected()).unwrap_or(i64::MAX))
}

/// The partitions of a table, or the table itself.
async fn parts(connection: &mut PgConnection, table: &str) -> Result<Vec<String>, StoreError> {
    let parts: Vec<String> = sqlx::query_scalar(
        "SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = to_regclass($1) ORDER BY 1",
    )
    .bind(table)
    .fetch_all(&mut *connection)
    .await?;
    // A hot table is no partition of the table that it is made like.
    Ok(if parts.is_empty() && table != "hot_chunk" {
        vec![table.to_owned()]
    } else {
        parts
    })
}

/// The number of an environment.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn environment(database: &Database, name: &str) -> Result<Option<i32>, StoreError> {
    Ok(sqlx::query_scalar("SELECT id FROM environment WHERE name = $1")
        .bind(name)
        .fetch_optional(&database.pool)
        .await?)
}

/// The number of a service.
///
/// # Errors
/// [`StoreError::Ambiguous`] where the name stands in several namespaces; others when the database does not answer.
#[boxed]
pub async fn service(database: &Database, name: &str) -> Result<Option<i32>, StoreError> {
    Ok(crate::people::service_names::named(database, name)
        .await?
        .map(|service| service.id))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, failing, now, number, of, resource_of, spans, store, trace, writer};
    use crate::upkeep::reported::{note_test, old_tests};

    /// A failure of each of three places, as traces from a number on.
    async fn sent(database: &Database, first: u64) {
        let writer = writer(database);
        let places = [("fares", "production"), ("fares", "staging"), ("ledger", "production")];
        for (id, (service, environment)) in (first..).zip(places) {
            let resource = resource_of(&[("service.name", service), ("deployment.environment.name", environment)]);
            let message = format!("{service} failed");
            let failure = failing(trace(id), id, None, now(), &message);
            store(&writer, &[spans(vec![of(resource, vec![failure])], now())]).await;
        }
    }

    async fn count(database: &Database, table: &'static str) -> i64 {
        let (n,): (i64,) = sqlx::query_as(AssertSqlSafe(format!("SELECT count(*) FROM {table}")))
            .fetch_one(&database.pool)
            .await
            .unwrap();
        n
    }

    async fn done(database: &Database, what: &Cleaned) -> i64 {
        ask(database, what, "it", ("master", Utc::now())).await.unwrap();
        let (asked, removed) = clean(database, Utc::now()).await.unwrap().unwrap();
        assert_eq!(asked.kind, what.kind());
        assert!(clean(database, Utc::now()).await.unwrap().is_none(), "it is done");
        let kept = list(database).await.unwrap().remove(0);
        assert!(kept.done_at.is_some() && kept.removed == removed);
        removed
    }

    #[tokio::test]
    async fn a_service_an_environment_and_an_error_go_with_their_data_and_nothing_else() {
        let database = database().await;
        sent(&database, 1).await;
        let counted = ["occurrence", "payload", "tally_minute", "traffic_minute", "sighted"];
        let all = async || {
            let mut counts = vec![];
            for table in counted {
                counts.push(count(&database, table).await);
            }
            counts
        };
        assert_eq!(all().await, [3, 3, 3, 3, 3]);
        let staging = environment(&database, "staging").await.unwrap().unwrap();
        let of_staging = Cleaned::Environment(staging);
        assert_eq!(counts(&database, &of_staging).await.unwrap()[0], ("occurrences", 1));
        assert!(done(&database, &of_staging).await > 4);
        assert_eq!(all().await, [2, 2, 2, 2, 2]);

        let ledger = service(&database, "ledger").await.unwrap().unwrap();
        done(&database, &Cleaned::Service(ledger)).await;
        assert_eq!(all().await, [1, 1, 1, 1, 1]);
        assert_eq!(count(&database, "service").await, 2, "names stay");

        let error = number(
            &database,
            "SELECT error_id::bigint FROM cause JOIN sighted ON cause_id = cause.id",
        )
        .await;
        done(&database, &Cleaned::Error(i32::try_from(error).unwrap())).await;
        assert_eq!(all().await, [0, 0, 0, 1, 0], "its service's requests stay");
        // What comes again is stored again.
        sent(&database, 100).await;
        assert_eq!(count(&database, "occurrence").await, 3);
    }

    #[tokio::test]
    async fn what_tells_of_a_user_goes_and_their_name_with_it() {
        let database = database().await;
        sent(&database, 1).await;
        sqlx::query("UPDATE occurrence SET user_hash = 7 WHERE service_id = (SELECT min(id) FROM service)")
            .execute(&database.pool)
            .await
            .unwrap();
        let user = Cleaned::User {
            hash: 7,
            names: vec!["u-7".to_owned()],
        };
        let before = counts(&database, &user).await.unwrap();
        assert_eq!(before[0], ("occurrences", 2));
        done(&database, &user).await;
        assert_eq!(count(&database, "occurrence").await, 1);
        assert_eq!(count(&database, "payload").await, 1);
        assert_eq!(
            count(&database, "cleaning WHERE users IS NOT NULL OR user_hash IS NOT NULL").await,
            0
        );
    }

    #[tokio::test]
    async fn errors_of_test_reports_alone_are_old_a_day_after_the_last() {
        let database = database().await;
        sent(&database, 1).await;
        let later = Utc::now() + chrono::TimeDelta::hours(25);
        let errors: Vec<i32> = sqlx::query_scalar("SELECT id FROM error_group ORDER BY id")
            .fetch_all(&database.pool)
            .await
            .unwrap();
        for error in &errors {
            note_test(&database, *error, Utc::now()).await.unwrap();
        }
        assert!(
            old_tests(&database, later).await.unwrap().is_empty(),
            "they occurred otherwise too"
        );
        sqlx::query(
            "UPDATE occurrence SET attributes = attributes || '{\"outcrop.test\": true}' WHERE service_id = (SELECT \
             min(id) FROM service)",
        )
        .execute(&database.pool)
        .await
        .unwrap();
        assert!(old_tests(&database, Utc::now()).await.unwrap().is_empty(), "too young");
        let old = old_tests(&database, later).await.unwrap();
        assert_eq!(old.len(), 1);
        done(&database, &Cleaned::Error(old[0])).await;
        assert!(old_tests(&database, later).await.unwrap().is_empty());
    }
}
