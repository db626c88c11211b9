//! Reads traces whole, and the occurrences in them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use futures_util::TryStreamExt;
use outcrop_core::telemetry::SpanId;
use outcrop_core::trace::Chunk;
use sqlx::{AssertSqlSafe, FromRow, PgConnection};
use uuid::Uuid;

use super::chunks::{close, unpack, weight};
use super::hot::{Marks, hot_name};
use crate::boxed;
use crate::{Database, StoreError};

/// Spans read of one trace at most: what a page can show and a machine hold. Said where it cuts.
pub const MAX_SPANS: i64 = 50_000;

/// Bytes that the chunks of one trace may take once they are read: spans may be few and large.
const MAX_TRACE_BYTES: usize = 64 << 20;

/// The same of all traces whose origins are looked for together, without what is not needed for it.
pub(super) const MAX_ORIGINS_BYTES: usize = 64 << 20;

/// A trace as it is stored.
#[derive(Clone, Debug, Default)]
pub struct StoredTrace {
    /// Its chunks.
    pub chunks: Vec<Chunk>,
    /// Why it is, or will be, kept.
    pub marks: Marks,
    /// Whether it is decided that it is kept; else it goes about half an hour after it was received.
    pub is_kept: bool,
    /// Whether there are more spans than were read.
    pub is_cut: bool,
}

#[derive(FromRow)]
struct Row {
    trace_id: Uuid,
    marks: i16,
    is_kept: bool,
    is_closed: bool,
    body: Vec<u8>,
}

/// What was read of traces: their chunks, marks, and whether any is left out.
#[derive(Default)]
pub(super) struct ReadTraces {
    pub(super) chunks: HashMap<Uuid, Vec<Chunk>>,
    marks: i16,
    is_kept: bool,
    is_cut: bool,
    /// Whether any of it is of a service that whoever reads may read.
    is_open: bool,
}

/// Reads chunks one by one, each trace up to [`MAX_SPANS`] spans and all together up to
/// `max_bytes`; `strip` takes out of each what is not needed.
pub(super) async fn read_rows(
    connection: &mut PgConnection,
    traces: &[Uuid],
    max_bytes: usize,
    strip: fn(&mut Chunk),
) -> Result<ReadTraces, StoreError> {
    let parts = in_tables(
        connection,
        "trace_id, service_id, marks, spans, true AS is_kept, received_at, body",
        "trace_id, service_id, marks, spans, false, received_at, body",
    )
    .await?;
    // The database leaves out what lies past the spans of a trace, so that its bytes never come here.
    let statement = format!(
        "SELECT trace_id, marks, is_kept, NOT EXISTS (SELECT FROM service WHERE id = service_id) AS is_closed, CASE WHEN before < {MAX_SPANS} THEN body ELSE '' END AS body \
         FROM (SELECT *, sum(spans) OVER (PARTITION BY trace_id ORDER BY received_at ROWS UNBOUNDED PRECEDING) - \
         spans AS before FROM ({parts}) parts) counted"
    );
    let mut read = ReadTraces::default();
    let mut bytes = 0;
    let mut rows = sqlx::query_as::<_, Row>(AssertSqlSafe(statement))
        .bind(traces)
        .fetch(connection);
    while let Some(row) = rows.try_next().await? {
        read.marks |= row.marks;
        read.is_kept |= row.is_kept;
        let chunks = read.chunks.entry(row.trace_id).or_default();
        if row.body.is_empty() || bytes >= max_bytes {
            read.is_cut = true;
            continue;
        }
        if let Some(mut chunk) = unpack(&row.body) {
            if row.is_closed {
                close(&mut chunk);
            } else {
                read.is_open = true;
            }
            strip(&mut chunk);
            bytes += weight(&chunk);
            chunks.push(chunk);
        }
    }
    Ok(read)
}

/// Reads a trace; `None` where nothing of it is stored, or no longer.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn read(database: &Database, trace: [u8; 16]) -> Result<Option<StoredTrace>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let id = Uuid::from_bytes(trace);
    let read = read_again(&mut connection, &[id]).await?;
    let Some((_, chunks)) = read.chunks.into_iter().next().filter(|_| read.is_open || read.is_cut) else {
        return Ok(None);
    };
    let kept: Option<(i16,)> = sqlx::query_as("SELECT reasons FROM kept_trace WHERE trace_id = $1")
        .bind(id)
        .fetch_optional(&mut *connection)
        .await?;
    Ok(Some(StoredTrace {
        chunks,
        marks: Marks::of_bits(read.marks | kept.map_or(0, |(bits,)| bits)),
        is_kept: read.is_kept || kept.is_some(),
        is_cut: read.is_cut,
    }))
}

/// Reads traces; once more where a hot table was dropped between the two statements: its traces are
/// then read from where they were moved to.
async fn read_again(connection: &mut PgConnection, traces: &[Uuid]) -> Result<ReadTraces, StoreError> {
    match read_rows(connection, traces, MAX_TRACE_BYTES, |_| {}).await {
        Err(StoreError::Other(_) | StoreError::Data(_)) => read_rows(connection, traces, MAX_TRACE_BYTES, |_| {}).await,
        other => other,
    }
}

/// Reads the chunks of several traces, as many as fit into the room for one, and says whether anything is left out.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn read_all(database: &Database, traces: &[Uuid]) -> Result<(HashMap<Uuid, Vec<Chunk>>, bool), StoreError> {
    let mut connection = database.pool.acquire().await?;
    let read = read_again(&mut connection, traces).await?;
    Ok((read.chunks, read.is_cut))
}

/// An occurrence in a trace.
#[derive(Clone, Debug, FromRow)]
pub struct InTrace {
    /// Its id.
    pub id: Uuid,
    /// The number of its error.
    pub error_id: i32,
    /// The error's title.
    pub title: String,
    /// The span it was reported on, as stored.
    pub span_id: Option<i64>,
    /// Its cause.
    pub cause_id: i64,
    /// Its environment.
    pub environment_id: i32,
    /// The service.
    pub service: String,
    /// The trace.
    pub trace_id: Uuid,
}

impl InTrace {
    /// The span it was reported on.
    #[must_use]
    pub fn span(&self) -> Option<SpanId> {
        self.span_id.map(|span| SpanId(u64::from_ne_bytes(span.to_ne_bytes())))
    }
}

pub(super) const IN_TRACE: &str = "SELECT o.id, cause.error_id, error_group.title, o.span_id, o.cause_id, o.environment_id, \
    service.display_name AS service, o.trace_id \
     FROM occurrence o JOIN cause ON cause.id = o.cause_id JOIN error_group ON error_group.id = cause.error_id \
     JOIN service ON service.id = o.service_id WHERE o.trace_id = ANY($1) ORDER BY o.id LIMIT 5000";

/// The occurrences in a trace, by time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn occurrences(database: &Database, trace: [u8; 16]) -> Result<Vec<InTrace>, StoreError> {
    Ok(sqlx::query_as(IN_TRACE)
        .bind([Uuid::from_bytes(trace)].as_slice())
        .fetch_all(&database.pool)
        .await?)
}

/// A question for columns of the chunks of traces (`$1`), kept and hot.
pub(super) async fn in_tables(connection: &mut PgConnection, kept: &str, hot: &str) -> Result<String, StoreError> {
    let tables: Vec<(DateTime<Utc>,)> = sqlx::query_as("SELECT begins FROM hot_table ORDER BY begins")
        .fetch_all(connection)
        .await?;
    // By their whole names: also whoever may not read all services reads the spans of all, those of others closed.
    let mut parts = vec![format!("SELECT {kept} FROM public.kept_chunk WHERE trace_id = ANY($1)")];
    parts.extend(
        tables
            .into_iter()
            .map(|(begins,)| format!("SELECT {hot} FROM public.{} WHERE trace_id = ANY($1)", hot_name(begins))),
    );
    Ok(parts.join(" UNION ALL "))
}
