//! What a batch brings of traces: chunks of spans, requests kept by themselves, how long requests took.

use std::collections::BTreeMap;
use std::sync::Mutex;

use chrono::{DateTime, Utc};
use outcrop_core::failure::{EntrySpan, OccurrenceId};
use outcrop_core::latency::Latency;
use outcrop_core::{Digest, Timestamp};
use sqlx::{AssertSqlSafe, PgConnection};
use uuid::Uuid;

use super::batch::Prepared;
use super::work::Work;
use crate::Remembered;
use crate::database::copy::Rows;
use crate::database::locks::Lock;
use crate::ids::{id_uuid, signed};
use crate::traces::{Marks, hot_name, pack, slot};
use crate::traffic::Thresholds;
use crate::traffic::groups::Served;
use crate::writing::dictionary::names::{SenderIds, name_hash};
use crate::{StoreError, from_utc, to_utc};

/// Requests kept by themselves per endpoint, version, kind of answer and minute, on this instance: enough to look into.
const KEPT_PER_MINUTE: u32 = 20;
/// Minutes counted at once; past this the one counted longest ago begins anew.
const MAX_COUNTED: usize = 50_000;

/// Which requests are slow, and how many of a minute were kept.
#[derive(Default)]
pub(super) struct Watch {
    /// Thresholds; read anew every 15 seconds.
    pub slow: Mutex<Thresholds>,
    kept: Remembered<(i32, i32, u16, i64), u32, MAX_COUNTED>,
}

impl Watch {
    fn is_slow(&self, service: i32, endpoint: i32, micros: u64) -> bool {
        let slow = self.slow.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        i64::try_from(micros).unwrap_or(i64::MAX) > slow.of(service, endpoint).0
    }

    fn keeps(&self, key: (i32, i32, u16, i64)) -> bool {
        self.kept.change(key, u32::default, |count| {
            *count = count.saturating_add(1);
            *count <= KEPT_PER_MINUTE
        })
    }
}

/// Stores chunks of the fresh requests of a batch.
pub(super) async fn chunks(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
    watch: &Watch,
) -> Result<(), StoreError> {
    let mut tables: BTreeMap<DateTime<Utc>, Rows> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        let received = to_utc(submission.received);
        for chunk in &submission.found.chunks {
            let sender = prepared.sender(&chunk.identity);
            let longest = chunk.request.as_ref().and_then(|(endpoint, micros)| {
                Some((prepared.endpoint_of(sender.service, name_hash(endpoint))?, *micros))
            });
            let marks = Marks {
                failed: chunk.has_failure,
                slow: longest.is_some_and(|(endpoint, micros)| watch.is_slow(sender.service, endpoint, micros)),
                sampled: Marks::is_sampled(chunk.trace_id),
            };
            let packed = pack(&chunk.body).map_err(|error| StoreError::Other(sqlx::Error::Io(error)))?;
            tables
                .entry(slot(received))
                .or_insert_with(|| Rows::new(8))
                .row()
                .uuid(Uuid::from_bytes(chunk.trace_id.0))
                .int4(sender.service)
                .time(received)
                .time(to_utc(chunk.bounds.0))
                .time(to_utc(chunk.bounds.1))
                .int2(marks.bits())
                .int4(i32::try_from(chunk.spans).unwrap_or(i32::MAX))
                .bytes(&packed);
        }
    }
    for (begins, rows) in tables {
        let columns = "trace_id, service_id, received_at, first_at, last_at, marks, spans, body";
        rows.send(
            connection,
            &format!("COPY {} ({columns}) FROM STDIN (FORMAT binary)", hot_name(begins)),
        )
        .await?;
    }
    Ok(())
}

/// Appends what instance groups served, of services that have such.
pub(super) async fn groups(connection: &mut PgConnection, work: &Work<'_>) -> Result<(), StoreError> {
    let mut sums: BTreeMap<_, Served> = BTreeMap::new();
    for (sender, endpoint, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        let Some(group) = &entry.group else { continue };
        let minute = to_utc(entry.at.minute());
        let served = sums
            .entry((
                minute,
                sender.service,
                *endpoint,
                sender.environment,
                sender.version,
                group.clone(),
            ))
            .or_default();
        let weight = i64::from(entry.weight);
        served.requests += weight;
        served.failed += if entry.failed { weight } else { 0 };
        served.latency.add_times(entry.duration_us, entry.weight.into());
        if let Some(count) = entry
            .status
            .and_then(|status| served.statuses.get_mut(usize::from(status / 100).saturating_sub(1)))
        {
            *count += weight;
        }
    }
    crate::traffic::groups::write(connection, sums).await
}

/// Answers by minute, endpoint, sender and status.
pub(super) type Answers = BTreeMap<(Timestamp, i32, SenderIds, i16), i64>;

/// Stores requests that are kept by themselves; returns how many of each status.
pub(super) async fn requests(
    connection: &mut PgConnection,
    work: &Work<'_>,
    watch: &Watch,
) -> Result<Answers, StoreError> {
    let mut rows = Rows::new(12);
    let mut kept = Answers::new();
    for (sender, endpoint, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        let is_slow = watch.is_slow(sender.service, *endpoint, entry.duration_us);
        let marks = Marks {
            failed: entry.failed,
            slow: is_slow,
            sampled: Marks::is_sampled(span.trace_id),
        };
        // A status of its own is a kind of its own: each count opens its requests.
        let kind = entry
            .status
            .filter(|status| *status >= 400)
            .unwrap_or(u16::from(is_slow));
        let matters = entry.told.is_some() || is_slow || marks.sampled;
        if !matters || !watch.keeps((*endpoint, sender.version, kind, entry.at.minute().millis())) {
            continue;
        }
        if let Some(status) = told_status(entry) {
            *kept.entry((entry.at.minute(), *endpoint, *sender, status)).or_default() += 1;
        }
        let of_span = [span.trace_id.0.as_slice(), &span.facts.id.0.to_be_bytes()].concat();
        let json = entry
            .told
            .as_ref()
            .map(|told| serde_json::to_vec(told.as_ref()).expect("a map of JSON values always encodes"));
        rows.row()
            .uuid(id_uuid(OccurrenceId::new(entry.at, Digest::of_bytes(&of_span))))
            .uuid(Uuid::from_bytes(span.trace_id.0))
            .int8(signed(span.facts.id.0).unwrap_or_default())
            .int4(sender.service)
            .int4(sender.environment)
            .int4(sender.version)
            .int4(*endpoint)
            .maybe(entry.status.and_then(|status| i16::try_from(status).ok()), Rows::int2)
            .bool(entry.failed)
            .int2(marks.bits())
            .int8(i64::try_from(entry.duration_us).unwrap_or(i64::MAX))
            .maybe(json.as_deref(), Rows::jsonb);
    }
    if rows.is_empty() {
        return Ok(kept);
    }
    // A span that comes again after its trace's state was purged: its row is there already.
    sqlx::query("CREATE TEMPORARY TABLE IF NOT EXISTS request_now (LIKE request) ON COMMIT DELETE ROWS")
        .execute(&mut *connection)
        .await?;
    rows.send(connection, "COPY request_now FROM STDIN (FORMAT binary)")
        .await?;
    sqlx::query(
        "INSERT INTO request SELECT DISTINCT ON (id) * FROM request_now ORDER BY id ON CONFLICT (id) DO NOTHING",
    )
    .execute(connection)
    .await?;
    Ok(kept)
}

/// The status that is counted by itself: of an answer of 4xx or 5xx.
fn told_status(entry: &EntrySpan) -> Option<i16> {
    entry
        .status
        .filter(|status| *status >= 400)
        .and_then(|status| i16::try_from(status).ok())
}

/// Appends how long the requests of a batch took.
pub(super) async fn latencies(connection: &mut PgConnection, work: &Work<'_>) -> Result<(), StoreError> {
    let mut hours: BTreeMap<(Timestamp, i32, SenderIds), Latency> = BTreeMap::new();
    for (sender, endpoint, span) in &work.requests {
        if let Some(entry) = &span.entry {
            hours
                .entry((entry.at.hour(), *endpoint, *sender))
                .or_default()
                .add_times(entry.duration_us, entry.weight.into());
        }
    }
    let mut rows = Rows::new(6);
    for ((hour, endpoint, sender), latency) in hours {
        rows.row()
            .time(to_utc(hour))
            .int4(sender.service)
            .int4(endpoint)
            .int4(sender.environment)
            .int4(sender.version)
            .bytes(&latency.to_bytes());
    }
    let columns = "hour, service_id, endpoint_id, environment_id, version_id, sketch";
    Ok(rows
        .send(
            connection,
            &format!("COPY latency_part ({columns}) FROM STDIN (FORMAT binary)"),
        )
        .await?)
}

/// Counts answers of 4xx and 5xx by their status, and how many of them are kept, by the minute and the hour.
pub(super) async fn statuses(connection: &mut PgConnection, work: &Work<'_>, kept: &Answers) -> Result<(), StoreError> {
    let mut minutes: BTreeMap<(Timestamp, i32, SenderIds, i16), (i64, i64)> = BTreeMap::new();
    for (sender, endpoint, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        if let Some(status) = told_status(entry) {
            let key = (entry.at.minute(), *endpoint, *sender, status);
            let counts = minutes
                .entry(key)
                .or_insert_with(|| (0, kept.get(&key).copied().unwrap_or_default()));
            counts.0 += i64::from(entry.weight);
        }
    }
    let mut hours: BTreeMap<(Timestamp, i32, SenderIds, i16), (i64, i64)> = BTreeMap::new();
    for ((minute, endpoint, sender, status), (n, kept)) in &minutes {
        let counts = hours.entry((minute.hour(), *endpoint, *sender, *status)).or_default();
        *counts = (counts.0 + n, counts.1 + kept);
    }
    let mut days: BTreeMap<(Timestamp, i32, SenderIds, i16), (i64, i64)> = BTreeMap::new();
    for ((hour, endpoint, sender, status), (n, kept)) in &hours {
        let counts = days.entry((hour.midnight(), *endpoint, *sender, *status)).or_default();
        *counts = (counts.0 + n, counts.1 + kept);
    }
    for (step, counts) in [("minute", minutes), ("hour", hours), ("day", days)] {
        if counts.is_empty() {
            continue;
        }
        let statement = format!(
            "INSERT INTO status_{step} AS s ({step}, service_id, endpoint_id, environment_id, version_id, status, n, \
             kept) \
             SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::int[], $6::smallint[], \
             $7::bigint[], $8::bigint[]) AS new \
             ORDER BY 1, 3, 4, 5, 6 \
             ON CONFLICT ({step}, endpoint_id, environment_id, version_id, status) DO UPDATE SET n = s.n + \
             excluded.n, kept = s.kept + excluded.kept"
        );
        sqlx::query(AssertSqlSafe(statement))
            .bind(counts.keys().map(|key| to_utc(key.0)).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.2.service).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.1).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.2.environment).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.2.version).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.3).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.0).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.1).collect::<Vec<_>>())
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// How long a trace is left alone after a failure in it was stored, before its origin is looked
/// for: other services' parts come with their own batches, a few seconds apart.
const ORIGIN_WAIT_SECS: f64 = 7.0;

/// Notes the traces in which something failed.
pub(super) async fn origins_due(connection: &mut PgConnection, work: &Work<'_>) -> Result<(), StoreError> {
    let mut traces: Vec<Uuid> = work
        .failed_traces
        .iter()
        .map(|trace| Uuid::from_bytes(trace.0))
        .collect();
    if traces.is_empty() {
        return Ok(());
    }
    traces.sort_unstable();
    traces.dedup();
    sqlx::query(
        "INSERT INTO origin_due (trace_id, due_at) SELECT trace, now() + make_interval(secs => $2) FROM \
         UNNEST($1::uuid[]) AS new (trace) ORDER BY 1 \
         ON CONFLICT (trace_id) DO UPDATE SET due_at = excluded.due_at",
    )
    .bind(traces)
    .bind(ORIGIN_WAIT_SECS)
    .execute(connection)
    .await?;
    Ok(())
}

/// Makes the hot tables that a batch's rows go into.
pub(super) fn slots(received: impl Iterator<Item = Timestamp>) -> std::collections::BTreeSet<DateTime<Utc>> {
    received.map(|at| slot(to_utc(at))).collect()
}

/// The slots of now and of the next minutes, made ahead.
pub(super) fn slots_ahead(now: Timestamp) -> std::collections::BTreeSet<DateTime<Utc>> {
    slots([now, from_utc(to_utc(now) + crate::traces::SLOT)].into_iter())
}

/// Makes hot tables where they are missing.
pub(super) async fn make_tables(
    pool: &sqlx::PgPool,
    slots: std::collections::BTreeSet<DateTime<Utc>>,
    known: &Mutex<std::collections::BTreeSet<DateTime<Utc>>>,
) -> Result<(), StoreError> {
    let missing: Vec<DateTime<Utc>> = {
        let known = known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        slots.difference(&known).copied().collect()
    };
    for begins in missing {
        let mut transaction = pool.begin().await?;
        Lock::HotTable.take(&mut transaction).await?;
        let create = format!(
            "CREATE TABLE IF NOT EXISTS {} (LIKE hot_chunk INCLUDING ALL)",
            hot_name(begins)
        );
        sqlx::query(AssertSqlSafe(create)).execute(&mut *transaction).await?;
        sqlx::query("INSERT INTO hot_table (begins) VALUES ($1) ON CONFLICT DO NOTHING")
            .bind(begins)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        let mut known = known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        // Old slots are dropped by upkeep and never written to again.
        known.retain(|known| *known > begins - crate::traces::SLOT * 8);
        known.insert(begins);
    }
    Ok(())
}
