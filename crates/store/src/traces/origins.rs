//! Where the failures of traces began.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, Utc};
use outcrop_core::telemetry::SpanId;
use outcrop_core::trace::{Trace, origin_of_report};
use sqlx::{AssertSqlSafe, FromRow, PgConnection};
use uuid::Uuid;

use super::chunks::without_details;
use super::read::{IN_TRACE, InTrace, MAX_ORIGINS_BYTES, in_tables, read_rows};
use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// Traces looked at per transaction for where their failures began.
const CHUNK: i64 = 200;

/// Finds where the failures of due traces began. Returns whether more may be waiting. Does nothing
/// while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the traces then wait for the next call.
#[boxed]
pub async fn find_origins(database: &Database) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let is_ours = Lock::Origins.try_take(&mut transaction).await?;
    if !is_ours {
        return Ok(false);
    }
    let due: Vec<(Uuid,)> = sqlx::query_as(
        "DELETE FROM origin_due WHERE trace_id IN (SELECT trace_id FROM origin_due WHERE due_at <= now() ORDER BY \
         due_at LIMIT $1) RETURNING trace_id",
    )
    .bind(CHUNK)
    .fetch_all(&mut *transaction)
    .await?;
    if due.is_empty() {
        return Ok(false);
    }
    let taken = due.len();
    // What failed in one service alone has its origin there: most traces, and nothing more has to be read of them.
    let ids = of_several_services(&mut transaction, due.into_iter().map(|(id,)| id).collect()).await?;
    if ids.is_empty() {
        transaction.commit().await?;
        return Ok(i64::try_from(taken).is_ok_and(|taken| taken == CHUNK));
    }
    let mut chunks = read_rows(&mut transaction, &ids, MAX_ORIGINS_BYTES, without_details)
        .await?
        .chunks;
    let mut occurrences: BTreeMap<Uuid, Vec<InTrace>> = BTreeMap::new();
    for occurrence in sqlx::query_as::<_, InTrace>(IN_TRACE)
        .bind(&ids)
        .fetch_all(&mut *transaction)
        .await?
    {
        occurrences.entry(occurrence.trace_id).or_default().push(occurrence);
    }
    let mut found: Vec<(&InTrace, i64)> = vec![];
    for (id, occurrences) in &occurrences {
        let trace = Trace::new(chunks.remove(id).unwrap_or_default());
        found.extend(
            origins(&trace, occurrences)
                .into_iter()
                .map(|(echo, origin)| (&occurrences[echo], occurrences[origin].cause_id)),
        );
    }
    sqlx::query("DELETE FROM occurrence_origin WHERE trace_id = ANY($1)")
        .bind(&ids)
        .execute(&mut *transaction)
        .await?;
    sqlx::query(
        "INSERT INTO occurrence_origin (occurrence_id, trace_id, at, cause_id, environment_id, origin_cause_id) \
         SELECT occurrence, trace, id_time(occurrence), cause, environment, origin \
         FROM UNNEST($1::uuid[], $2::uuid[], $3::bigint[], $4::int[], $5::bigint[]) AS new (occurrence, trace, cause, \
         environment, origin) ORDER BY 1 \
         ON CONFLICT (occurrence_id) DO UPDATE SET origin_cause_id = excluded.origin_cause_id",
    )
    .bind(found.iter().map(|(echo, _)| echo.id).collect::<Vec<_>>())
    .bind(found.iter().map(|(echo, _)| echo.trace_id).collect::<Vec<_>>())
    .bind(found.iter().map(|(echo, _)| echo.cause_id).collect::<Vec<_>>())
    .bind(found.iter().map(|(echo, _)| echo.environment_id).collect::<Vec<_>>())
    .bind(found.iter().map(|(_, origin)| *origin).collect::<Vec<_>>())
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(i64::try_from(taken).is_ok_and(|taken| taken == CHUNK))
}

/// Those of the traces that several services sent parts of.
async fn of_several_services(connection: &mut PgConnection, traces: Vec<Uuid>) -> Result<Vec<Uuid>, StoreError> {
    let parts = in_tables(connection, "trace_id, service_id", "trace_id, service_id").await?;
    let statement =
        format!("SELECT trace_id FROM ({parts}) parts GROUP BY trace_id HAVING min(service_id) < max(service_id)");
    let found: Vec<(Uuid,)> = sqlx::query_as(AssertSqlSafe(statement))
        .bind(traces)
        .fetch_all(connection)
        .await?;
    Ok(found.into_iter().map(|(id,)| id).collect())
}

/// For each occurrence that failed because another service did: its place and that of the occurrence where it began.
#[must_use]
pub fn origins(trace: &Trace, occurrences: &[InTrace]) -> Vec<(usize, usize)> {
    let places: HashMap<SpanId, usize> = trace.spans.iter().enumerate().map(|(at, span)| (span.id, at)).collect();
    let mut entries: HashMap<usize, usize> = HashMap::new();
    let reported: Vec<Option<usize>> = occurrences
        .iter()
        .map(|occurrence| places.get(&occurrence.span()?).copied())
        .collect();
    // Of several occurrences of one request in a service, the one that came last is what it failed with.
    for (number, at) in reported.iter().enumerate() {
        let mut at = *at;
        while let Some(place) = at {
            entries.insert(place, number);
            at = trace
                .parent(place)
                .filter(|parent| trace.spans[*parent].service == trace.spans[place].service);
        }
    }
    let mut origins = vec![];
    for (number, at) in reported.iter().enumerate() {
        let Some(origin) = at.and_then(|at| origin_of_report(trace, at)) else {
            continue;
        };
        if let Some(began) = entries.get(&origin).filter(|began| **began != number) {
            origins.push((number, *began));
        }
    }
    origins
}

/// How an error is tied to others by where failures began.
#[derive(Clone, Debug, FromRow)]
pub struct Tie {
    /// The number of the other error.
    pub error_id: i32,
    /// Its service.
    pub service: String,
    /// Its title.
    pub title: String,
    /// Occurrences that tie them.
    pub count: i64,
}

/// Errors in which occurrences of this one began, and errors that followed from it, over a window;
/// the most frequent first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn ties(
    database: &Database,
    error: i32,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<(Vec<Tie>, Vec<Tie>), StoreError> {
    let statement = |own: &str, other: &str| {
        format!(
            "SELECT cause.error_id, service.display_name AS service, error_group.title, count(*) AS count FROM \
             occurrence_origin tie \
             JOIN cause own ON own.id = tie.{own} JOIN cause ON cause.id = tie.{other} JOIN error_group ON \
             error_group.id = cause.error_id \
             JOIN service ON service.id = error_group.service_id \
             WHERE own.error_id = $1 AND cause.error_id <> $1 AND tie.at >= $2 AND tie.at < $3 GROUP BY 1, 2, 3 ORDER \
             BY count DESC, 1 LIMIT 20"
        )
    };
    let of = async |own, other| {
        sqlx::query_as::<_, Tie>(AssertSqlSafe(statement(own, other)))
            .bind(error)
            .bind(from)
            .bind(to)
            .fetch_all(&database.pool)
            .await
    };
    Ok((
        of("cause_id", "origin_cause_id").await?,
        of("origin_cause_id", "cause_id").await?,
    ))
}

/// For errors: the one in which most of their occurrences in a window began, and the share that did.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn main_origins(
    database: &Database,
    errors: &[i32],
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<HashMap<i32, (i32, i64)>, StoreError> {
    let rows: Vec<(i32, i32, i64)> = sqlx::query_as(
        "SELECT DISTINCT ON (1) own.error_id, cause.error_id, count(*) FROM occurrence_origin tie \
         JOIN cause own ON own.id = tie.cause_id JOIN cause ON cause.id = tie.origin_cause_id \
         WHERE own.error_id = ANY($1) AND cause.error_id <> own.error_id AND tie.at >= $2 AND tie.at < $3 GROUP BY 1, \
         2 ORDER BY 1, 3 DESC, 2",
    )
    .bind(errors)
    .bind(from)
    .bind(to)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(error, origin, count)| (error, (origin, count)))
        .collect())
}
