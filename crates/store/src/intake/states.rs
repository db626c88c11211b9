//! Deciding what is one failure, under the locks of the rows that hold what is known so far.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::Timestamp;
use outcrop_core::failure::{Changes, Failure, OccurrenceId, PairingChanges, PairingEntry, PairingState, SeenSpan, TraceNews, TraceState};
use outcrop_core::telemetry::TraceId;
use sqlx::PgConnection;
use uuid::Uuid;

use super::apply::Work;
use super::batch::{Numbered, Prepared};
use crate::{StoreError, to_utc};

type Key = (i32, Uuid);

/// Traces' news in a batch.
#[derive(Default)]
struct News<'a> {
    news: TraceNews,
    entries: HashMap<outcrop_core::telemetry::SpanId, &'a SeenSpan>,
}

/// Decides over all fresh requests of the batch and puts what must change into `work`.
pub(super) async fn decide<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    fresh: &[bool],
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let now = prepared.submissions.iter().map(|submission| submission.received).max().unwrap_or_default();
    let mut traces: BTreeMap<Key, News<'a>> = BTreeMap::new();
    let mut untraced: Vec<&Numbered<'a>> = vec![];
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for span in &submission.found.spans {
            let key = trace_key(prepared.sender(&span.identity).service, span.trace_id);
            let news = traces.entry(key).or_default();
            let mut facts = span.facts.clone();
            facts.endpoint = prepared.endpoint(span).and_then(|id| u32::try_from(id).ok());
            if facts.endpoint.is_some() {
                news.entries.entry(facts.id).or_insert(span);
            }
            news.news.spans.push(facts);
        }
        for report in &submission.found.reports {
            let Some(numbered) = prepared.reports.get(&report.facts.id) else { continue };
            match report.trace_id {
                Some(trace) => {
                    traces.entry(trace_key(numbered.sender.service, trace)).or_default().news.reports.push(report.facts.clone());
                }
                None => untraced.push(numbered),
            }
        }
    }
    let stored_before = counted_long_ago(connection, prepared, now).await?;
    let mut pairs: BTreeMap<Key, Pair> = BTreeMap::new();
    decide_traces(connection, prepared, traces, now, &stored_before, &mut pairs, work).await?;
    for numbered in untraced.into_iter().filter(|numbered| !stored_before.contains(&numbered.report.facts.id)) {
        let facts = &numbered.report.facts;
        let pair = pairs.entry((numbered.sender.service, crate::uuid(facts.pairing))).or_default();
        pair.added.push(PairingEntry { occurrence: facts.id, at: facts.at, is_traced: false, is_part_of: None });
    }
    decide_pairs(connection, prepared, pairs, now, work).await
}

fn trace_key(service: i32, trace: TraceId) -> Key {
    (service, Uuid::from_bytes(trace.0))
}

/// How long states are kept, less some slack, in milliseconds: a report older than this may be one whose state is gone.
const STATE_KEPT_MS: i64 = 100 * 60_000;

/// Of reports so old that their state may be gone: those already stored. They are the same reports sent again.
async fn counted_long_ago(connection: &mut PgConnection, prepared: &Prepared<'_>, now: Timestamp) -> Result<Vec<OccurrenceId>, StoreError> {
    let old: Vec<Uuid> = prepared
        .reports
        .values()
        .filter(|numbered| numbered.report.facts.at < now.plus_millis(-STATE_KEPT_MS))
        .map(|numbered| crate::id_uuid(numbered.report.facts.id))
        .collect();
    if old.is_empty() {
        return Ok(vec![]);
    }
    let found: Vec<(Uuid,)> =
        sqlx::query_as("SELECT id FROM occurrence WHERE id = ANY($1) AND received_at < now() - interval '90 minutes'")
            .bind(old)
            .fetch_all(connection)
            .await?;
    Ok(found.into_iter().map(|(id,)| OccurrenceId(*id.as_bytes())).collect())
}

/// What changes among the failures of one instance and exception.
#[derive(Default)]
struct Pair {
    added: Vec<PairingEntry>,
    removed: Vec<OccurrenceId>,
}

async fn decide_traces<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    traces: BTreeMap<Key, News<'a>>,
    now: Timestamp,
    stored_before: &[OccurrenceId],
    pairs: &mut BTreeMap<Key, Pair>,
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let mut expected: HashMap<Key, (TraceState, Changes)> = HashMap::with_capacity(traces.len());
    let mut rows: Vec<(Key, Vec<u8>)> = Vec::with_capacity(traces.len());
    for (key, news) in &traces {
        let mut state = TraceState::default();
        let mut of_trace = news.news.clone();
        of_trace.reports.retain(|report| !stored_before.contains(&report.id));
        let changes = state.add(of_trace);
        rows.push((*key, state.encode()));
        expected.insert(*key, (state, changes));
    }
    let known = take_rows(connection, Table::Failing, &rows, now).await?;
    let mut changed: Vec<(Key, Vec<u8>)> = vec![];
    for (key, news) in traces {
        let (mut state, mut changes) = expected.remove(&key).unwrap_or_default();
        let is_first = !known.contains_key(&key);
        if let Some(bytes) = known.get(&key) {
            state = TraceState::decode(bytes).unwrap_or_else(|error| {
                tracing::warn!(%error, "a trace's state is begun anew");
                TraceState::default()
            });
            let mut of_trace = news.news;
            of_trace.reports.retain(|report| !stored_before.contains(&report.id));
            changes = state.add(of_trace);
            let encoded = state.encode();
            if encoded != *bytes {
                changed.push((key, encoded));
            }
        }
        for span in &changes.new_entries {
            if let Some((span, endpoint)) = news.entries.get(span).and_then(|span| Some((*span, prepared.endpoint(span)?))) {
                work.requests.push((prepared.sender(&span.identity), endpoint, span));
            }
        }
        for failure in changes.counted.iter().chain(&changes.restored) {
            if let Some(report) = state.report(failure.occurrence) {
                let pair = pairs.entry((key.0, crate::uuid(report.pairing))).or_default();
                pair.added.push(PairingEntry { occurrence: failure.occurrence, at: report.at, is_traced: true, is_part_of: None });
            }
        }
        for (gone, _) in &changes.withdrawn {
            if let Some(report) = state.report(*gone) {
                pairs.entry((key.0, crate::uuid(report.pairing))).or_default().removed.push(*gone);
            }
        }
        work.take_changes(prepared, changes, is_first);
    }
    put_rows(connection, Table::Failing, &changed).await
}

async fn decide_pairs<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    pairs: BTreeMap<Key, Pair>,
    now: Timestamp,
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let mut expected: HashMap<Key, PairingChanges> = HashMap::with_capacity(pairs.len());
    let mut rows: Vec<(Key, Vec<u8>)> = Vec::with_capacity(pairs.len());
    for (key, pair) in &pairs {
        let mut state = PairingState::default();
        let changes = state.add(pair.added.clone(), &pair.removed);
        rows.push((*key, state.encode()));
        expected.insert(*key, changes);
    }
    let known = take_rows(connection, Table::Pairing, &rows, now).await?;
    let mut changed: Vec<(Key, Vec<u8>)> = vec![];
    for (key, pair) in pairs {
        let mut changes = expected.remove(&key).unwrap_or_default();
        if let Some(bytes) = known.get(&key) {
            let mut state = PairingState::decode(bytes).unwrap_or_else(|error| {
                tracing::warn!(%error, "an instance's state is begun anew");
                PairingState::default()
            });
            changes = state.add(pair.added, &pair.removed);
            changed.push((key, state.encode()));
        }
        for occurrence in changes.counted {
            if let Some(numbered) = prepared.reports.get(&occurrence) {
                work.inserted.push((*numbered, alone(numbered)));
            }
        }
        for (occurrence, other) in changes.absorbed {
            if let Some(numbered) = prepared.reports.get(&occurrence) {
                work.absorbed.push((*numbered, other));
            }
        }
        work.withdrawn.extend(changes.withdrawn);
        work.restored.extend(changes.restored);
    }
    put_rows(connection, Table::Pairing, &changed).await
}

/// A report without a trace, as a failure by itself.
fn alone(numbered: &Numbered<'_>) -> Failure {
    let facts = &numbered.report.facts;
    Failure {
        occurrence: facts.id,
        reports: vec![facts.id],
        uncaught: facts.says_uncaught,
        severity: facts.severity,
        user: facts.user,
        endpoint: None,
    }
}

#[derive(Clone, Copy)]
enum Table {
    Failing,
    Pairing,
}

/// Inserts states where there are none and locks those that are there; returns the latter as they were.
async fn take_rows(
    connection: &mut PgConnection,
    table: Table,
    rows: &[(Key, Vec<u8>)],
    now: Timestamp,
) -> Result<HashMap<Key, Vec<u8>>, StoreError> {
    if rows.is_empty() {
        return Ok(HashMap::new());
    }
    // xmax is 0 only in a row that this statement inserted.
    let statement = match table {
        Table::Failing => {
            "INSERT INTO failing (service_id, trace_key, state, touched_at) \
             SELECT service_id, key, state, $4 FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, key, state) ORDER BY 1, 2 \
             ON CONFLICT (service_id, trace_key) DO UPDATE SET touched_at = excluded.touched_at \
             RETURNING service_id, trace_key, CASE WHEN xmax = 0 THEN NULL ELSE state END"
        }
        Table::Pairing => {
            "INSERT INTO pairing (service_id, pair_key, state, touched_at) \
             SELECT service_id, key, state, $4 FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, key, state) ORDER BY 1, 2 \
             ON CONFLICT (service_id, pair_key) DO UPDATE SET touched_at = excluded.touched_at \
             RETURNING service_id, pair_key, CASE WHEN xmax = 0 THEN NULL ELSE state END"
        }
    };
    let services: Vec<i32> = rows.iter().map(|((service, _), _)| *service).collect();
    let keys: Vec<Uuid> = rows.iter().map(|((_, key), _)| *key).collect();
    let states: Vec<&[u8]> = rows.iter().map(|(_, state)| state.as_slice()).collect();
    let returned: Vec<(i32, Uuid, Option<Vec<u8>>)> =
        sqlx::query_as(statement).bind(services).bind(keys).bind(states).bind(to_utc(now)).fetch_all(connection).await?;
    Ok(returned.into_iter().filter_map(|(service, key, state)| Some(((service, key), state?))).collect())
}

async fn put_rows(connection: &mut PgConnection, table: Table, rows: &[(Key, Vec<u8>)]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    let statement = match table {
        Table::Failing => {
            "UPDATE failing SET state = new.state FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, key, state) \
             WHERE failing.service_id = new.service_id AND failing.trace_key = new.key"
        }
        Table::Pairing => {
            "UPDATE pairing SET state = new.state FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, key, state) \
             WHERE pairing.service_id = new.service_id AND pairing.pair_key = new.key"
        }
    };
    let services: Vec<i32> = rows.iter().map(|((service, _), _)| *service).collect();
    let keys: Vec<Uuid> = rows.iter().map(|((_, key), _)| *key).collect();
    let states: Vec<&[u8]> = rows.iter().map(|(_, state)| state.as_slice()).collect();
    sqlx::query(statement).bind(services).bind(keys).bind(states).execute(connection).await?;
    Ok(())
}
