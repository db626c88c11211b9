//! Counts stale errors anew.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::attention::of_echo;
use sqlx::PgConnection;

use super::{FORM, PART, WINDOWS, scope_of};
use crate::boxed;
use crate::database::locks::Lock;
use crate::errors::Summary;
use crate::errors::read::all_of;
use crate::ids::number;
use crate::traces::main_origins;
use crate::{Database, StoreError};

/// Stale errors counted in one round: a fraction of a second's work.
const AT_ONCE: i32 = 200;
/// Errors counted anew in one round because their window has moved on.
const DUE_AT_ONCE: i32 = 400;

/// A row of the board: window, environment (0: all), error.
type Place = (i32, i32, i32);

/// Counts errors anew that are stale or due. Returns whether more may be waiting. Does nothing while another instance
/// is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time; what was stale then waits for the next round.
#[boxed]
pub async fn refresh(database: &Database, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    if !Lock::Board.try_take(&mut transaction).await? {
        return Ok(false);
    }
    let form: Option<i16> = sqlx::query_scalar("SELECT form FROM board_round LIMIT 1")
        .fetch_optional(&mut *transaction)
        .await?;
    if form.is_some_and(|form| form != FORM) {
        forget(&mut transaction).await?;
    }
    let stale: Vec<i32> = sqlx::query_scalar(
        "DELETE FROM error_stale WHERE error_id = ANY(ARRAY(SELECT error_id FROM error_stale ORDER BY since, error_id \
         LIMIT $1 FOR UPDATE SKIP LOCKED)) RETURNING error_id",
    )
    .bind(AT_ONCE)
    .fetch_all(&mut *transaction)
    .await?;
    let due: Vec<(i32, i32)> = sqlx::query_as(
        "SELECT minutes, error_id FROM error_numbers WHERE due_at <= $1 AND environment_id = 0 ORDER BY due_at LIMIT $2",
    )
    .bind(now)
    .bind(DUE_AT_ONCE)
    .fetch_all(&mut *transaction)
    .await?;
    let is_full = |count: usize, most: i32| i32::try_from(count).is_ok_and(|count| count == most);
    let is_more = is_full(stale.len(), AT_ONCE) || is_full(due.len(), DUE_AT_ONCE);
    for minutes in WINDOWS {
        let of_window = due.iter().filter(|(of, _)| *of == minutes).map(|(_, error)| *error);
        let errors: BTreeSet<i32> = of_window.chain(stale.iter().copied()).collect();
        if !errors.is_empty() {
            let errors: Vec<i32> = errors.into_iter().collect();
            let rows = count(database, minutes, &errors, now).await?;
            write(&mut transaction, minutes, &errors, rows, now).await?;
        }
    }
    sqlx::query(
        "WITH known AS (UPDATE board_round SET ended_at = $1, form = $2 RETURNING 1) INSERT INTO board_round (ended_at, \
         form) SELECT $1, $2 WHERE NOT EXISTS (SELECT FROM known)",
    )
    .bind(now)
    .bind(FORM)
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(is_more)
}

/// The numbers of errors in a window, in all environments and in each.
async fn count(
    database: &Database,
    minutes: i32,
    errors: &[i32],
    now: DateTime<Utc>,
) -> Result<BTreeMap<Place, Row>, StoreError> {
    let mut rows = BTreeMap::new();
    let whole = scope_of(minutes, None, now);
    let origins = main_origins(database, errors, whole.from, whole.to).await?;
    let ids: Vec<(i32, String)> = sqlx::query_as("SELECT id, name FROM environment")
        .fetch_all(&database.pool)
        .await?;
    let ids: HashMap<String, i32> = ids.into_iter().map(|(id, name)| (name, id)).collect();
    let mut apart: BTreeMap<String, Vec<i32>> = BTreeMap::new();
    for summary in all_of(database, &whole, Some(errors)).await? {
        let error = number(summary.reference);
        if summary.count <= 0 {
            continue;
        }
        if let [environment] = summary.environments.as_slice() {
            // What is of one environment alone is the same there.
            if let Some(environment) = ids.get(environment) {
                rows.insert((minutes, *environment, error), Row::of(summary.clone(), &origins, now));
            }
        } else {
            for environment in &summary.environments {
                apart.entry(environment.clone()).or_default().push(error);
            }
        }
        rows.insert((minutes, 0, error), Row::of(summary, &origins, now));
    }
    for (environment, errors) in apart {
        let Some(id) = ids.get(&environment) else { continue };
        let scope = scope_of(minutes, Some(&environment), now);
        for summary in all_of(database, &scope, Some(&errors)).await? {
            if summary.count > 0 {
                rows.insert(
                    (minutes, *id, number(summary.reference)),
                    Row::of(summary, &origins, now),
                );
            }
        }
    }
    Ok(rows)
}

/// An error's numbers, and how it ranks while it is open.
struct Row {
    score: i16,
    summary: Summary,
}

impl Row {
    fn of(summary: Summary, origins: &HashMap<i32, (i32, i64)>, now: DateTime<Utc>) -> Self {
        let open = Summary {
            handling: crate::errors::handling::Handling::default(),
            ..summary
        };
        let score = open.attention(now).score;
        let follows = origins
            .get(&number(open.reference))
            .is_some_and(|(_, n)| n * 2 >= open.count);
        Self {
            score: i16::from(if follows { of_echo(score) } else { score }),
            summary: open,
        }
    }
}

impl Row {
    /// By when it is to be counted anew though nothing changed: a part of its window later, and while it is young a tenth of
    /// its age, since what it is held against has only begun as well.
    fn due_at(&self, minutes: i32, now: DateTime<Utc>) -> DateTime<Utc> {
        let young = ((now - self.summary.first_seen) / 10).max(TimeDelta::seconds(10));
        now + TimeDelta::minutes((minutes / PART).max(1).into()).min(young)
    }
}

/// Writes what was counted of errors of a window, and takes away what they no longer have.
async fn write(
    connection: &mut PgConnection,
    minutes: i32,
    errors: &[i32],
    rows: BTreeMap<Place, Row>,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let environments: Vec<i32> = rows.keys().map(|place| place.1).collect();
    let numbers: Vec<i32> = rows.keys().map(|place| place.2).collect();
    for statement in [
        "DELETE FROM error_now n WHERE n.minutes = $1 AND n.error_id = ANY($2) AND NOT EXISTS (SELECT FROM \
         UNNEST($3::int[], $4::int[]) AS kept (environment, error) WHERE kept.environment = n.environment_id AND \
         kept.error = n.error_id)",
        "DELETE FROM error_numbers n WHERE n.minutes = $1 AND n.error_id = ANY($2) AND NOT EXISTS (SELECT FROM \
         UNNEST($3::int[], $4::int[]) AS kept (environment, error) WHERE kept.environment = n.environment_id AND \
         kept.error = n.error_id)",
    ] {
        sqlx::query(statement)
            .bind(minutes)
            .bind(errors)
            .bind(&environments)
            .bind(&numbers)
            .execute(&mut *connection)
            .await?;
    }
    let of = |value: fn(&Summary) -> bool| rows.values().map(|row| value(&row.summary)).collect::<Vec<bool>>();
    let services: Vec<i32> = rows.values().map(|row| row.summary.service_id).collect();
    sqlx::query(
        "INSERT INTO error_now AS known (minutes, environment_id, error_id, service_id, score, uncaught, \
         came_with_version, first_seen) SELECT $1, * FROM UNNEST($2::int[], $3::int[], $4::int[], $5::smallint[], \
         $6::bool[], $7::bool[], $8::timestamptz[]) AS new (environment, error, service, score, uncaught, came, first) \
         ON CONFLICT (minutes, environment_id, error_id) DO UPDATE SET service_id = excluded.service_id, score = \
         excluded.score, uncaught = excluded.uncaught, came_with_version = excluded.came_with_version, first_seen = \
         excluded.first_seen \
         WHERE (known.service_id, known.score, known.uncaught, known.came_with_version, known.first_seen) IS DISTINCT \
         FROM (excluded.service_id, excluded.score, excluded.uncaught, excluded.came_with_version, excluded.first_seen)",
    )
    .bind(minutes)
    .bind(&environments)
    .bind(&numbers)
    .bind(&services)
    .bind(rows.values().map(|row| row.score).collect::<Vec<_>>())
    .bind(of(|summary| summary.uncaught))
    .bind(of(|summary| summary.came_with_version))
    .bind(rows.values().map(|row| row.summary.first_seen).collect::<Vec<_>>())
    .execute(&mut *connection)
    .await?;
    let summaries: Vec<serde_json::Value> = rows
        .values()
        .map(|row| serde_json::to_value(&row.summary).expect("a summary of plain values always encodes"))
        .collect();
    sqlx::query(
        "INSERT INTO error_numbers (minutes, environment_id, error_id, service_id, summary, due_at) SELECT \
         $1, environment, error, service, summary, due FROM UNNEST($2::int[], $3::int[], $4::int[], $5::jsonb[], \
         $6::timestamptz[]) AS new (environment, error, service, summary, due) ON CONFLICT (minutes, environment_id, \
         error_id) DO UPDATE SET service_id = excluded.service_id, summary = excluded.summary, due_at = \
         excluded.due_at",
    )
    .bind(minutes)
    .bind(&environments)
    .bind(&numbers)
    .bind(&services)
    .bind(summaries)
    .bind(rows.values().map(|row| row.due_at(minutes, now)).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// Forgets all of it: lists are counted until the job has counted them anew.
async fn forget(connection: &mut PgConnection) -> Result<(), StoreError> {
    sqlx::raw_sql(
        "DELETE FROM error_now; DELETE FROM error_numbers; INSERT INTO error_stale (error_id) SELECT id FROM \
         error_group ORDER BY 1 ON CONFLICT DO NOTHING",
    )
    .execute(connection)
    .await?;
    Ok(())
}
