//! Traces: read whole, kept or let go, and where their failures began.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use futures_util::TryStreamExt;
use outcrop_core::Digest;
use outcrop_core::telemetry::{SpanId, TraceId};
use outcrop_core::trace::{Chunk, Trace, origin_of_report};
use sqlx::{AssertSqlSafe, FromRow, PgConnection};
use uuid::Uuid;

use crate::{Database, StoreError};

/// How much time of reception one hot table holds.
pub(crate) const SLOT: TimeDelta = TimeDelta::minutes(15);
/// How long a hot table is kept after its end: spans that come later than this after the first of their trace find it
/// decided whether the trace is kept.
const HOT: TimeDelta = TimeDelta::minutes(30);
/// One trace in so many is kept without any other reason.
const SAMPLED_ONE_IN: u64 = 100;

/// Why a trace is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Marks {
    /// A span failed, or tells of an exception.
    pub failed: bool,
    /// A request took longer than its endpoint's threshold.
    pub slow: bool,
    /// It is of the even sample.
    pub sampled: bool,
}

impl Marks {
    /// As stored: a bit each.
    #[must_use]
    pub const fn bits(self) -> i16 {
        self.failed as i16 | (self.slow as i16) << 1 | (self.sampled as i16) << 2
    }

    /// Reads [`Self::bits`].
    #[must_use]
    pub const fn of_bits(bits: i16) -> Self {
        Self {
            failed: bits & 1 != 0,
            slow: bits & 2 != 0,
            sampled: bits & 4 != 0,
        }
    }

    /// Whether a trace is of the even sample: decided by its id, so that all services' parts agree.
    #[must_use]
    pub fn is_sampled(trace: TraceId) -> bool {
        Digest::of_bytes(&trace.0).short().is_multiple_of(SAMPLED_ONE_IN)
    }
}

/// The beginning of the hot table that holds what was received at a time.
pub(crate) fn slot(received: DateTime<Utc>) -> DateTime<Utc> {
    received.duration_trunc(SLOT).unwrap_or(received)
}

/// The name of a hot table: made from a time alone.
pub(crate) fn hot_name(begins: DateTime<Utc>) -> String {
    format!("hot_{}", begins.format("%Y%m%d%H%M"))
}

/// Compresses an encoded chunk or body. Level 1: the fastest that still finds repeated attributes.
/// Each thread keeps its compressor: to make one costs more than to compress a small chunk.
pub(crate) fn pack(body: &[u8]) -> std::io::Result<Vec<u8>> {
    thread_local! {
        static COMPRESSOR: std::cell::RefCell<Option<zstd::bulk::Compressor<'static>>> = const {
            std::cell::RefCell::new(None) };
    }
    COMPRESSOR.with_borrow_mut(|kept| {
        if kept.is_none() {
            *kept = Some(zstd::bulk::Compressor::new(1)?);
        }
        kept.as_mut()
            .map_or_else(|| zstd::bulk::compress(body, 1), |compressor| compressor.compress(body))
    })
}

/// Largest chunk read back, in bytes: above what one request may hold inflated.
const MAX_CHUNK_BYTES: usize = 128 << 20;

fn unpack(body: &[u8]) -> Option<Chunk> {
    let bytes = zstd::bulk::decompress(
        body,
        zstd::zstd_safe::get_frame_content_size(body)
            .ok()??
            .try_into()
            .ok()
            .filter(|size| *size <= MAX_CHUNK_BYTES)?,
    )
    .ok()?;
    Chunk::decode(&bytes)
        .inspect_err(|error| tracing::warn!(%error, "stored spans are left out"))
        .ok()
}

/// Spans read of one trace at most: what a page can show and a machine hold. Said where it cuts.
pub const MAX_SPANS: i64 = 50_000;
/// Bytes that the chunks of one trace may take once they are read: spans may be few and large.
const MAX_TRACE_BYTES: usize = 64 << 20;
/// The same of all traces whose origins are looked for together, without what is not needed for it.
const MAX_ORIGINS_BYTES: usize = 64 << 20;

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
    body: Vec<u8>,
}

/// What was read of traces: their chunks, marks, and whether any is left out.
#[derive(Default)]
struct ReadTraces {
    chunks: HashMap<Uuid, Vec<Chunk>>,
    marks: i16,
    is_kept: bool,
    is_cut: bool,
}

/// Reads chunks one by one, each trace up to [`MAX_SPANS`] spans and all together up to
/// `max_bytes`; `strip` takes out of each what is not needed.
async fn read_rows(
    connection: &mut PgConnection,
    traces: &[Uuid],
    max_bytes: usize,
    strip: fn(&mut Chunk),
) -> Result<ReadTraces, StoreError> {
    let parts = in_tables(
        connection,
        "trace_id, marks, spans, true AS is_kept, received_at, body",
        "trace_id, marks, spans, false, received_at, body",
    )
    .await?;
    // The database leaves out what lies past the spans of a trace, so that its bytes never come here.
    let statement = format!(
        "SELECT trace_id, marks, is_kept, CASE WHEN before < {MAX_SPANS} THEN body ELSE '' END AS body \
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
            strip(&mut chunk);
            bytes += weight(&chunk);
            chunks.push(chunk);
        }
    }
    Ok(read)
}

/// About how many bytes a chunk takes in memory.
fn weight(chunk: &Chunk) -> usize {
    let spans = chunk.spans.iter().map(|span| {
        let events: usize = span
            .events
            .iter()
            .map(|event| size_of_val(event) + event.name.len() + event.attributes.weight())
            .sum();
        size_of_val(span) + span.name.len() + span.attributes.weight() + events + size_of_val(span.links.as_slice())
    });
    chunk.resource.weight() + spans.sum::<usize>()
}

/// Leaves a chunk's spans with what tells where a failure began: their place in the trace and their status.
fn without_details(chunk: &mut Chunk) {
    chunk.resource.0.clear();
    for span in &mut chunk.spans {
        span.attributes.0.clear();
        span.events
            .retain(|event| event.name == outcrop_core::telemetry::names::EXCEPTION_EVENT);
        span.events.truncate(1);
        span.events.iter_mut().for_each(|event| event.attributes.0.clear());
        span.links.clear();
        span.status_message.clear();
    }
}

/// Reads a trace; `None` where nothing of it is stored, or no longer.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn read(database: &Database, trace: [u8; 16]) -> Result<Option<StoredTrace>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let id = Uuid::from_bytes(trace);
    let read = read_again(&mut connection, &[id]).await?;
    let Some((_, chunks)) = read.chunks.into_iter().next() else {
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

const IN_TRACE: &str = "SELECT o.id, cause.error_id, error_group.title, o.span_id, o.cause_id, o.environment_id, \
    service.display_name AS service, o.trace_id \
     FROM occurrence o JOIN cause ON cause.id = o.cause_id JOIN error_group ON error_group.id = cause.error_id \
     JOIN service ON service.id = o.service_id WHERE o.trace_id = ANY($1) ORDER BY o.id LIMIT 5000";

/// The occurrences in a trace, by time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn occurrences(database: &Database, trace: [u8; 16]) -> Result<Vec<InTrace>, StoreError> {
    Ok(sqlx::query_as(IN_TRACE)
        .bind([Uuid::from_bytes(trace)].as_slice())
        .fetch_all(&database.pool)
        .await?)
}

/// Blocks of a hot table looked at per transaction: 32 MB, a second's work at most, however many
/// spans came in its quarter of an hour.
const BLOCKS: i64 = 4_096;

/// Keeps what is to be kept of hot tables whose time is over, and drops them. Returns how many.
/// Works in short transactions, each of which leaves a state from which the next call goes on: what
/// was moved is gone from the hot table. Where there is no room for kept traces, tables are dropped
/// as they are.
///
/// # Errors
/// [`StoreError`] when the database does not answer, or a reader holds a table that is to be dropped.
pub async fn drain(database: &Database, now: DateTime<Utc>, has_room: bool) -> Result<usize, StoreError> {
    let mut drained = 0;
    loop {
        let tables: Vec<(DateTime<Utc>,)> = sqlx::query_as("SELECT begins FROM hot_table ORDER BY begins")
            .fetch_all(&database.pool)
            .await?;
        let Some(((begins,), later)) = tables.split_first().filter(|((begins,), _)| *begins + SLOT + HOT < now) else {
            return Ok(drained);
        };
        let table = hot_name(*begins);
        if !has_room {
            if !drop_drained(database, *begins, &table).await? {
                return Ok(drained);
            }
            drained += 1;
            continue;
        }
        // A part of a trace that came later may be what makes it worth keeping.
        for marked in std::iter::once(table.clone()).chain(later.iter().map(|(begins,)| hot_name(*begins))) {
            let statement = format!(
                "INSERT INTO kept_trace (trace_id, reasons, kept_at) SELECT trace_id, bit_or(marks), $3 FROM {marked} \
                 marked \
                 WHERE ctid >= $1::text::tid AND ctid < $2::text::tid AND marks <> 0 \
                     AND EXISTS (SELECT FROM {table} WHERE {table}.trace_id = marked.trace_id) GROUP BY trace_id \
                     ORDER BY trace_id \
                 ON CONFLICT (trace_id) DO UPDATE SET reasons = kept_trace.reasons | excluded.reasons \
                     WHERE kept_trace.reasons | excluded.reasons <> kept_trace.reasons"
            );
            if !by_blocks(database, &marked, &statement, now).await? {
                return Ok(drained);
            }
        }
        let moved = format!(
            "WITH moved AS (DELETE FROM {table} USING kept_trace k WHERE k.trace_id = {table}.trace_id AND \
             $3::timestamptz IS NOT NULL \
                 AND {table}.ctid >= $1::text::tid AND {table}.ctid < $2::text::tid RETURNING {table}.*) INSERT INTO \
                 kept_chunk SELECT * FROM moved"
        );
        if !by_blocks(database, &table, &moved, now).await? || !drop_drained(database, *begins, &table).await? {
            return Ok(drained);
        }
        drained += 1;
    }
}

/// Runs a statement over a table, so many blocks in a transaction each: `$1` and `$2` are the rows'
/// places, `$3` the time. Returns false where another instance is at it.
async fn by_blocks(database: &Database, table: &str, statement: &str, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let mut from = 0;
    loop {
        let mut transaction = database.writing.begin().await?;
        let (is_ours, blocks): (bool, i64) = sqlx::query_as(
            "SELECT pg_try_advisory_xact_lock(hashtext('outcrop hot drain')), \
                 coalesce(pg_relation_size(to_regclass($1)), 0) / current_setting('block_size')::bigint",
        )
        .bind(table)
        .fetch_one(&mut *transaction)
        .await?;
        if !is_ours || from >= blocks {
            // The lock is let go at once: the next step takes it on another connection.
            transaction.rollback().await?;
            return Ok(is_ours);
        }
        let place = |block: i64| format!("({block},0)");
        sqlx::query(AssertSqlSafe(statement.to_owned()))
            .bind(place(from))
            .bind(place(from + BLOCKS))
            .bind(now)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        from += BLOCKS;
    }
}

/// Drops a hot table of which nothing is left to keep.
async fn drop_drained(database: &Database, begins: DateTime<Utc>, table: &str) -> Result<bool, StoreError> {
    let mut transaction = database.writing.begin().await?;
    let (is_ours,): (bool,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop hot drain'))")
        .fetch_one(&mut *transaction)
        .await?;
    if !is_ours {
        return Ok(false);
    }
    sqlx::query("SET LOCAL lock_timeout = '200ms'")
        .execute(&mut *transaction)
        .await?;
    sqlx::query("DELETE FROM hot_table WHERE begins = $1")
        .bind(begins)
        .execute(&mut *transaction)
        .await?;
    if let Err(error) = sqlx::query(AssertSqlSafe(format!("DROP TABLE IF EXISTS {table}")))
        .execute(&mut *transaction)
        .await
    {
        // The lock on this work is let go at once, not when the connection is used again.
        transaction.rollback().await?;
        return Err(error.into());
    }
    transaction.commit().await?;
    Ok(true)
}

/// Drops the oldest hot tables while all of them together are larger than `max_bytes`, whatever is
/// in them: a flood must not fill the disk. Returns the times of reception that are gone.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn drop_past_cap(database: &Database, max_bytes: i64) -> Result<Vec<DateTime<Utc>>, StoreError> {
    let mut gone = vec![];
    loop {
        let mut transaction = database.writing.begin().await?;
        let (is_ours,): (bool,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop hot drain'))")
            .fetch_one(&mut *transaction)
            .await?;
        let tables: Vec<(DateTime<Utc>, i64)> = sqlx::query_as(
            "SELECT begins, coalesce(pg_total_relation_size(to_regclass('hot_' || to_char(begins AT TIME ZONE 'UTC', \
             'YYYYMMDDHH24MI'))), 0) \
             FROM hot_table ORDER BY begins",
        )
        .fetch_all(&mut *transaction)
        .await?;
        let all: i64 = tables.iter().map(|(_, bytes)| bytes).sum();
        // The newest is being written to.
        let Some((begins, _)) = tables
            .first()
            .filter(|_| is_ours && all > max_bytes && tables.len() > 2)
        else {
            return Ok(gone);
        };
        sqlx::query("SET LOCAL lock_timeout = '200ms'")
            .execute(&mut *transaction)
            .await?;
        sqlx::query("DELETE FROM hot_table WHERE begins = $1")
            .bind(begins)
            .execute(&mut *transaction)
            .await?;
        sqlx::query(AssertSqlSafe(format!("DROP TABLE IF EXISTS {}", hot_name(*begins))))
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        gone.push(*begins);
    }
}

/// Traces looked at per transaction for where their failures began.
const CHUNK: i64 = 200;

/// Finds where the failures of due traces began. Returns whether more may be waiting. Does nothing
/// while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the traces then wait for the next call.
pub async fn find_origins(database: &Database) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let (is_ours,): (bool,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop origins'))")
        .fetch_one(&mut *transaction)
        .await?;
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

/// A question for columns of the chunks of traces (`$1`), kept and hot.
async fn in_tables(connection: &mut PgConnection, kept: &str, hot: &str) -> Result<String, StoreError> {
    let tables: Vec<(DateTime<Utc>,)> = sqlx::query_as("SELECT begins FROM hot_table ORDER BY begins")
        .fetch_all(connection)
        .await?;
    let mut parts = vec![format!("SELECT {kept} FROM kept_chunk WHERE trace_id = ANY($1)")];
    parts.extend(
        tables
            .into_iter()
            .map(|(begins,)| format!("SELECT {hot} FROM {} WHERE trace_id = ANY($1)", hot_name(begins))),
    );
    Ok(parts.join(" UNION ALL "))
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, failing, now, number, of, resource, span, spans, store, trace, writer};

    #[tokio::test]
    async fn a_hot_table_is_drained_in_steps_and_what_interrupts_it_loses_nothing() {
        let database = database().await;
        let writer = writer(&database);
        let send = async |number: u64| {
            let batch = [spans(
                vec![of(
                    resource("fares"),
                    vec![
                        failing(trace(number), 1, None, now(), "no tariff"),
                        span(trace(number + 1_000), 2, None, now()),
                    ],
                )],
                now(),
            )];
            store(&writer, &batch).await;
        };
        for number in 0..30 {
            send(number).await;
        }
        let later = Utc::now() + TimeDelta::hours(2);
        // A reader keeps the table from being dropped: what was moved stays moved, and nothing is there twice.
        let table = hot_name(slot(Utc::now()));
        let mut reader = database.pool.begin().await.unwrap();
        sqlx::query(AssertSqlSafe(format!("SELECT count(*) FROM {table}")))
            .execute(&mut *reader)
            .await
            .unwrap();
        assert!(drain(&database, later, true).await.is_err());
        assert_eq!(number(&database, "SELECT count(*) FROM kept_chunk").await, 30);
        let trace_now = read(&database, trace(7).0).await.unwrap().unwrap();
        assert_eq!((trace_now.chunks.len(), trace_now.is_kept), (1, true));
        reader.rollback().await.unwrap();
        assert_eq!(drain(&database, later, true).await.unwrap(), 1);
        assert_eq!(number(&database, "SELECT count(*) FROM hot_table").await, 0);
        assert!(
            read(&database, trace(1_007).0).await.unwrap().is_none(),
            "what nothing keeps is gone"
        );
        assert_eq!(drain(&database, later, true).await.unwrap(), 0);
    }

    #[tokio::test]
    async fn a_trace_of_very_many_spans_is_read_up_to_a_limit_that_is_said() {
        let database = database().await;
        let writer = writer(&database);
        for request in 0..7 {
            let many = (0..10_000)
                .map(|n| span(trace(5), request * 10_000 + n + 1, Some(1), now()))
                .collect();
            store(&writer, &[spans(vec![of(resource("fares"), many)], now())]).await;
        }
        let read_trace = read(&database, trace(5).0).await.unwrap().unwrap();
        let spans: usize = read_trace.chunks.iter().map(|chunk| chunk.spans.len()).sum();
        assert!(read_trace.is_cut);
        assert_eq!(i64::try_from(spans).unwrap(), MAX_SPANS);
        let (all, is_cut) = read_all(&database, &[Uuid::from_bytes(trace(5).0)]).await.unwrap();
        assert!(is_cut);
        assert_eq!(
            all.values().flatten().map(|chunk| chunk.spans.len()).sum::<usize>(),
            spans
        );
    }

    #[test]
    fn chunks_are_stripped_of_all_that_origins_do_not_need() {
        let mut chunk = Chunk::decode(
            &spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(1), 1, None, now(), "no tariff")],
                )],
                now(),
            )
            .found
            .chunks[0]
                .body,
        )
        .unwrap();
        let before = weight(&chunk);
        without_details(&mut chunk);
        assert!(weight(&chunk) < before && chunk.spans[0].events.len() == 1);
        assert!(chunk.spans[0].attributes.is_empty() && chunk.resource.is_empty());
    }
}
