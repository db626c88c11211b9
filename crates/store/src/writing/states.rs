//! Deciding what is one failure, under the locks of the rows that hold what is known so far.

use std::collections::{BTreeMap, HashMap, HashSet};

use outcrop_core::Timestamp;
use outcrop_core::completeness::Limit;
use outcrop_core::failure::{
    Changes, CountedOnly, Failure, OccurrenceId, PairingChanges, PairingEntry, PairingState, Report, SeenSpan,
    TraceNews, TraceState,
};
use outcrop_core::telemetry::{SpanId, TraceId};
use sqlx::PgConnection;
use uuid::Uuid;

use super::batch::{Numbered, Prepared};
use super::work::Work;
use crate::{StoreError, to_utc};

type Key = (i32, Uuid);

/// Traces' news in a batch.
#[derive(Default)]
struct News<'a> {
    news: TraceNews,
    entries: HashMap<SpanId, &'a SeenSpan>,
}

/// Decides over all fresh requests of the batch and puts what must change into `work`.
pub(super) async fn decide<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    fresh: &[bool],
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let now = prepared
        .submissions
        .iter()
        .map(|submission| submission.received)
        .max()
        .unwrap_or_default();
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
            let Some(numbered) = prepared.reports.get(&report.facts.id) else {
                continue;
            };
            match report.trace_id {
                Some(trace) => {
                    traces
                        .entry(trace_key(numbered.sender.service, trace))
                        .or_default()
                        .news
                        .reports
                        .push(report.facts.clone());
                }
                None => untraced.push(numbered),
            }
        }
    }
    let mut counted_only: BTreeMap<(Key, SpanId), Vec<&CountedOnly>> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for counted in &submission.found.counted_only {
            let key = trace_key(prepared.sender(&counted.identity).service, counted.trace_id);
            counted_only.entry((key, counted.span)).or_default().push(counted);
        }
    }
    let stored_before = counted_long_ago(connection, prepared, now).await?;
    let mut pairs: BTreeMap<Key, Pair> = BTreeMap::new();
    let decided = Decided {
        prepared,
        now,
        stored_before: &stored_before,
        counted_only: &counted_only,
    };
    decide_traces(connection, traces, &decided, &mut pairs, work).await?;
    for numbered in untraced
        .into_iter()
        .filter(|numbered| !stored_before.contains(&numbered.report.facts.id))
    {
        let facts = &numbered.report.facts;
        let pair = pairs
            .entry((numbered.sender.service, crate::ids::uuid(facts.pairing)))
            .or_default();
        pair.added.push(PairingEntry {
            occurrence: facts.id,
            at: facts.at,
            is_traced: false,
            is_part_of: None,
        });
    }
    decide_pairs(connection, prepared, pairs, now, work).await
}

fn trace_key(service: i32, trace: TraceId) -> Key {
    (service, Uuid::from_bytes(trace.0))
}

/// How long states are kept, less some slack, in milliseconds: a report older than this may be one whose state is gone.
const STATE_KEPT_MS: i64 = 100 * 60_000;

/// Of reports so old that their state may be gone: those already stored, as an occurrence or as
/// part of one. They are the same reports sent again.
async fn counted_long_ago(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    now: Timestamp,
) -> Result<HashSet<OccurrenceId>, StoreError> {
    let before = now.plus_millis(-STATE_KEPT_MS);
    let old = prepared
        .reports
        .values()
        .map(|numbered| &numbered.report.facts)
        .filter(|facts| facts.at < before)
        .map(|facts| facts.id);
    stored(connection, &old.collect::<Vec<_>>(), before).await
}

/// Which reports are stored since before a time of reception: each is looked for by its id in its day's partition.
async fn stored(
    connection: &mut PgConnection,
    ids: &[OccurrenceId],
    before: Timestamp,
) -> Result<HashSet<OccurrenceId>, StoreError> {
    if ids.is_empty() {
        return Ok(HashSet::new());
    }
    let ids: Vec<Uuid> = ids.iter().map(|id| crate::ids::id_uuid(*id)).collect();
    let found: Vec<(Uuid,)> = sqlx::query_as(
        "SELECT id FROM occurrence WHERE id = ANY($1) AND received_at < $2 \
         UNION ALL SELECT id FROM also_reported WHERE id = ANY($1) AND received_at < $2",
    )
    .bind(ids)
    .bind(to_utc(before))
    .fetch_all(connection)
    .await?;
    Ok(found.into_iter().map(|(id,)| OccurrenceId(*id.as_bytes())).collect())
}

/// Counts reports that no state remembers, each as a failure by itself unless it is stored.
async fn count_alone<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    reports: &[OccurrenceId],
    now: Timestamp,
    work: &mut Work<'a>,
) -> Result<Vec<&'a Report>, StoreError> {
    // Received by any instance, whose clock may be ahead of this one's.
    let known = stored(connection, reports, now.plus_millis(STATE_KEPT_MS)).await?;
    let new = reports
        .iter()
        .filter(|id| !known.contains(id))
        .filter_map(|id| prepared.reports.get(id));
    let mut counted = vec![];
    for numbered in new {
        counted.push(numbered.report);
        work.inserted.push((*numbered, alone(numbered)));
    }
    Ok(counted)
}

/// What changes among the failures of one instance and exception.
#[derive(Default)]
struct Pair {
    added: Vec<PairingEntry>,
    removed: Vec<OccurrenceId>,
}

/// What is known before traces are decided.
struct Decided<'d, 'a> {
    prepared: &'d Prepared<'a>,
    now: Timestamp,
    /// Reports of which the state may be gone, and that are stored.
    stored_before: &'d HashSet<OccurrenceId>,
    /// Failures that are counted with their span.
    counted_only: &'d BTreeMap<(Key, SpanId), Vec<&'d CountedOnly>>,
}

async fn decide_traces<'a>(
    connection: &mut PgConnection,
    traces: BTreeMap<Key, News<'a>>,
    decided: &Decided<'_, 'a>,
    pairs: &mut BTreeMap<Key, Pair>,
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let Decided {
        prepared,
        now,
        stored_before,
        counted_only,
    } = *decided;
    let mut surplus: Vec<OccurrenceId> = vec![];
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
            if let Some((span, endpoint)) = news
                .entries
                .get(span)
                .and_then(|span| Some((*span, prepared.endpoint(span)?)))
            {
                work.requests.push((prepared.sender(&span.identity), endpoint, span));
            }
        }
        for span in &changes.new_spans {
            for counted in counted_only.get(&(key, *span)).into_iter().flatten() {
                work.count_only(prepared, counted);
            }
        }
        surplus.append(&mut changes.surplus);
        for failure in changes.counted.iter().chain(&changes.restored) {
            if let Some(report) = state.report(failure.occurrence) {
                let pair = pairs.entry((key.0, crate::ids::uuid(report.pairing))).or_default();
                pair.added.push(PairingEntry {
                    occurrence: failure.occurrence,
                    at: report.at,
                    is_traced: true,
                    is_part_of: None,
                });
            }
        }
        for (gone, _) in &changes.withdrawn {
            if let Some(report) = state.report(*gone) {
                pairs
                    .entry((key.0, crate::ids::uuid(report.pairing)))
                    .or_default()
                    .removed
                    .push(*gone);
            }
        }
        work.take_changes(prepared, changes, is_first);
    }
    put_rows(connection, Table::Failing, &changed).await?;
    for report in count_alone(connection, prepared, &surplus, now, work).await? {
        work.reached
            .add(prepared.sender(&report.identity).service, Limit::FailuresInTrace, 1);
    }
    Ok(())
}

async fn decide_pairs<'a>(
    connection: &mut PgConnection,
    prepared: &Prepared<'a>,
    pairs: BTreeMap<Key, Pair>,
    now: Timestamp,
    work: &mut Work<'a>,
) -> Result<(), StoreError> {
    let mut uncertain: Vec<OccurrenceId> = vec![];
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
        uncertain.extend(changes.uncertain);
    }
    put_rows(connection, Table::Pairing, &changed).await?;
    count_alone(connection, prepared, &uncertain, now, work).await?;
    Ok(())
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
             SELECT service_id, key, state, $4 FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, \
             key, state) ORDER BY 1, 2 \
             ON CONFLICT (service_id, trace_key) DO UPDATE SET touched_at = excluded.touched_at \
             RETURNING service_id, trace_key, CASE WHEN xmax = 0 THEN NULL ELSE state END"
        }
        Table::Pairing => {
            "INSERT INTO pairing (service_id, pair_key, state, touched_at) \
             SELECT service_id, key, state, $4 FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, \
             key, state) ORDER BY 1, 2 \
             ON CONFLICT (service_id, pair_key) DO UPDATE SET touched_at = excluded.touched_at \
             RETURNING service_id, pair_key, CASE WHEN xmax = 0 THEN NULL ELSE state END"
        }
    };
    let services: Vec<i32> = rows.iter().map(|((service, _), _)| *service).collect();
    let keys: Vec<Uuid> = rows.iter().map(|((_, key), _)| *key).collect();
    let states: Vec<&[u8]> = rows.iter().map(|(_, state)| state.as_slice()).collect();
    let returned: Vec<(i32, Uuid, Option<Vec<u8>>)> = sqlx::query_as(statement)
        .bind(services)
        .bind(keys)
        .bind(states)
        .bind(to_utc(now))
        .fetch_all(connection)
        .await?;
    Ok(returned
        .into_iter()
        .filter_map(|(service, key, state)| Some(((service, key), state?)))
        .collect())
}

async fn put_rows(connection: &mut PgConnection, table: Table, rows: &[(Key, Vec<u8>)]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    let statement = match table {
        Table::Failing => {
            "UPDATE failing SET state = new.state FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, \
             key, state) \
             WHERE failing.service_id = new.service_id AND failing.trace_key = new.key"
        }
        Table::Pairing => {
            "UPDATE pairing SET state = new.state FROM UNNEST($1::int[], $2::uuid[], $3::bytea[]) AS new (service_id, \
             key, state) \
             WHERE pairing.service_id = new.service_id AND pairing.pair_key = new.key"
        }
    };
    let services: Vec<i32> = rows.iter().map(|((service, _), _)| *service).collect();
    let keys: Vec<Uuid> = rows.iter().map(|((_, key), _)| *key).collect();
    let states: Vec<&[u8]> = rows.iter().map(|(_, state)| state.as_slice()).collect();
    sqlx::query(statement)
        .bind(services)
        .bind(keys)
        .bind(states)
        .execute(connection)
        .await?;
    Ok(())
}
