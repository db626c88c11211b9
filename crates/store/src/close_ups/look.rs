//! Looking for what close-ups under way take.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::close_up::State;
use sqlx::{FromRow, PgConnection, QueryBuilder};
use uuid::Uuid;

use super::Watched;
use crate::asking::resolve;
use crate::ids::{number, reference};
use crate::{Database, Scope, StoreError, boxed, grouping};

/// How long an occurrence is waited for, by its own clock: one that comes later is not taken.
const LATE: TimeDelta = TimeDelta::minutes(10);
/// How long the reports of one failure are waited for, so that it is taken once: senders flush every five seconds, and
/// what comes with one flush is decided together.
const SETTLES: TimeDelta = TimeDelta::seconds(3);
/// How long what is complete is looked after: a report that turns out to be part of another leaves room for one more.
const CORRECTED: TimeDelta = TimeDelta::minutes(10);

/// What close-ups under way may take.
///
/// # Errors
/// [`StoreError`] when the database does not answer; what was read last holds on.
#[boxed]
pub async fn watched(database: &Database) -> Result<Watched, StoreError> {
    let rows: Vec<(Option<i32>,)> = sqlx::query_as(
        "SELECT g.service_id FROM close_up u LEFT JOIN error_group g ON g.id = u.error_id WHERE u.state = 'open'",
    )
    .fetch_all(&database.all)
    .await?;
    Ok(Watched {
        all: rows.iter().any(|(service,)| service.is_none()),
        services: rows.into_iter().filter_map(|(service,)| service).collect(),
    })
}

#[derive(FromRow)]
struct Open {
    id: i32,
    error_id: Option<i32>,
    predicate: Option<String>,
    wanted: i32,
    until: DateTime<Utc>,
    asked_at: DateTime<Utc>,
    looked_at: DateTime<Utc>,
    /// The services closed to who asked; `None` where that member is gone.
    closed: Option<Vec<i32>>,
}

/// What a close-up takes is decided for one at a time, and by one instance: whoever comes second goes on to the next.
const TAKE: &str = "SELECT u.id, u.error_id, u.predicate, u.wanted, u.until, u.asked_at, u.looked_at, (SELECT \
    closed_to(m.id) FROM member m WHERE m.email = u.asked_by) AS closed FROM close_up u WHERE (u.state = 'open' OR \
    u.state = 'complete' AND u.ended_at > $1 AND u.until > $2) AND u.id > $3 ORDER BY u.id LIMIT 1 FOR UPDATE OF u SKIP \
    LOCKED";

/// Takes what close-ups under way look for, and ends those whose time is over. Returns how many occurrences were taken.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on from there.
#[boxed]
pub async fn look(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let (mut count, mut last) = (0, 0);
    loop {
        let mut transaction = database.all.begin().await?;
        let open: Option<Open> = sqlx::query_as(TAKE)
            .bind(now - CORRECTED)
            .bind(now)
            .bind(last)
            .fetch_optional(&mut *transaction)
            .await?;
        let Some(open) = open else { return Ok(count) };
        last = open.id;
        count += step(database, &mut transaction, &open, now).await?;
        transaction.commit().await?;
    }
}

async fn step(
    database: &Database,
    connection: &mut PgConnection,
    open: &Open,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let kept: i64 = sqlx::query_scalar(
        "WITH gone AS (DELETE FROM close_up_taken t WHERE t.close_up_id = $1 AND NOT EXISTS (SELECT FROM occurrence o \
         WHERE o.id = t.occurrence_id) RETURNING 1) SELECT (SELECT count(*) FROM close_up_taken WHERE close_up_id = $1) - \
         (SELECT count(*) FROM gone)",
    )
    .bind(open.id)
    .fetch_one(&mut *connection)
    .await?;
    let found = match &open.closed {
        Some(closed) => found(database, connection, open, (closed, i64::from(open.wanted) - kept, now)).await?,
        None => vec![],
    };
    sqlx::query(
        "INSERT INTO close_up_taken (close_up_id, occurrence_id, taken_at) SELECT $1, id, $3 FROM UNNEST($2::uuid[]) AS \
         new (id)",
    )
    .bind(open.id)
    .bind(&found)
    .bind(now)
    .execute(&mut *connection)
    .await?;
    let kept = kept + i64::try_from(found.len()).unwrap_or(i64::MAX);
    let state = if kept >= i64::from(open.wanted) {
        State::Complete
    } else if open.closed.is_none() {
        State::Ended
    } else if open.until + SETTLES <= now {
        State::Over
    } else {
        State::Open
    };
    sqlx::query(
        "UPDATE close_up SET state = $2, looked_at = $3, ended_at = CASE WHEN $2 = 'open' THEN NULL ELSE coalesce(ended_at, \
         $3) END WHERE id = $1",
    )
    .bind(open.id)
    .bind(state.word())
    .bind(now)
    .execute(connection)
    .await?;
    Ok(found.len())
}

/// The next occurrences that a close-up takes, in the order in which they were received: those kept in full.
async fn found(
    database: &Database,
    connection: &mut PgConnection,
    open: &Open,
    (closed, left, now): (&[i32], i64, DateTime<Utc>),
) -> Result<Vec<Uuid>, StoreError> {
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: open.asked_at.max(open.looked_at) - LATE,
        to: now + LATE,
        predicate: None,
    };
    let mut sql = QueryBuilder::new("SELECT o.id FROM occurrence o WHERE o.id >= first_id_at(");
    sql.push_bind(scope.from).push(") AND o.id < first_id_at(");
    sql.push_bind(scope.to).push(") AND o.received_at >= ");
    sql.push_bind(open.asked_at).push(" AND o.received_at < ");
    sql.push_bind(open.until.min(now - SETTLES));
    sql.push(" AND o.service_id <> ALL(").push_bind(closed.to_vec());
    sql.push(
        ") AND EXISTS (SELECT FROM payload p WHERE p.occurrence_id = o.id) AND NOT EXISTS (SELECT FROM \
         close_up_taken t WHERE t.close_up_id = ",
    );
    sql.push_bind(open.id).push(" AND t.occurrence_id = o.id) AND ");
    let error = match open.error_id {
        // What was joined into another error goes on under that one.
        Some(error) => Some(grouping::standing(&database.whole(), reference(error)).await?),
        None => None,
    };
    match (error, open.predicate.as_deref().map(outcrop_core::query::parse)) {
        (Some(error), _) => {
            sql.push("o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ");
            sql.push_bind(number(error)).push("))");
        }
        (None, Some(Ok(predicate))) => resolve(&database.whole(), &predicate, &scope).await?.write(&mut sql),
        // Written by a later release: it takes nothing here.
        (None, _) => return Ok(vec![]),
    }
    sql.push(" ORDER BY o.received_at, o.id LIMIT ").push_bind(left.max(0));
    Ok(sql.build_query_scalar().fetch_all(connection).await?)
}

/// A close-up that ended of itself, whose asker is to be told.
#[derive(Clone, Debug, FromRow)]
pub struct Done {
    /// Its number.
    pub id: i32,
    /// Who asked.
    pub asked_by: String,
}

/// Close-ups that ended of themselves and of which nobody was told yet.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn untold(database: &Database) -> Result<Vec<Done>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, asked_by FROM close_up WHERE tells AND told_at IS NULL AND state IN ('complete', 'over') ORDER BY id \
         LIMIT 100",
    )
    .fetch_all(&database.all)
    .await?)
}

/// Notes that who asked is told; whether nobody noted it before: who did tells.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn told(database: &Database, id: i32, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query("UPDATE close_up SET told_at = $2 WHERE id = $1 AND told_at IS NULL")
        .bind(id)
        .bind(now)
        .execute(&database.all)
        .await?;
    Ok(done.rows_affected() > 0)
}
