//! Rows of occurrences: inserted, moved when late evidence shows them to be part of another, completed.

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::AtomicBool;

use outcrop_core::completeness::Limit;
use outcrop_core::failure::{Failure, OccurrenceId};
use sqlx::PgConnection;
use uuid::Uuid;

use super::batch::Numbered;
use super::bodies::Bodies;
use super::counters::sampling;
use super::submission::Renderer;
use super::work::{Counted, Work};
use crate::database::copy::Rows;
use crate::database::partitions::partition;
use crate::ids::{id_uuid, signed, uuid};
use crate::{StoreError, to_utc};

/// How the exact data sent is kept.
#[derive(Clone, Copy)]
pub(super) struct Payloads<'w> {
    pub bodies: &'w Bodies,
    pub render: Renderer,
    /// Whether there is no room for any more.
    pub is_full: bool,
}

/// Stores rows: moves first, so that a row copied in never meets its earlier self.
pub(super) async fn store(
    connection: &mut PgConnection,
    work: &mut Work<'_>,
    payloads: Payloads<'_>,
    sampled: &AtomicBool,
) -> Result<(), StoreError> {
    sampling::note(work, sampled);
    withdraw(connection, work).await?;
    restore(connection, work).await?;
    complete(connection, work).await?;
    insert(connection, work, payloads).await?;
    sampling::logged(connection, work, sampled).await?;
    absorb(connection, work).await?;
    rename(connection, work).await
}

type StoredRow = (Uuid, i64, i32, i32, bool, i16);

fn counted(row: &StoredRow, n: i64) -> Counted {
    let (id, cause, environment, version, uncaught, severity) = *row;
    Counted {
        occurrence: OccurrenceId(*id.as_bytes()),
        cause,
        environment,
        version,
        uncaught: i64::from(uncaught) * n,
        severity,
        n,
    }
}

async fn withdraw(connection: &mut PgConnection, work: &mut Work<'_>) -> Result<(), StoreError> {
    if work.withdrawn.is_empty() {
        return Ok(());
    }
    work.withdrawn.sort_unstable();
    let (gone, others): (Vec<Uuid>, Vec<Uuid>) = work
        .withdrawn
        .iter()
        .map(|(gone, other)| (id_uuid(*gone), id_uuid(*other)))
        .unzip();
    let rows: Vec<StoredRow> = sqlx::query_as(
        "WITH part AS (SELECT * FROM UNNEST($1::uuid[], $2::uuid[]) AS part (id, part_of)), \
         gone AS (DELETE FROM occurrence WHERE id = ANY($1) RETURNING *) \
         INSERT INTO also_reported (id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, \
         span_id, resource, stack, \
             user_hash, uncaught, severity, received_at, type, message, attributes, part_of) \
         SELECT id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, span_id, resource, stack, \
             user_hash, uncaught, severity, received_at, type, message, attributes, part_of FROM gone JOIN part USING \
             (id) \
         RETURNING id, cause_id, environment_id, version_id, uncaught, severity",
    )
    .bind(gone)
    .bind(others)
    .fetch_all(connection)
    .await?;
    work.counted.extend(rows.iter().map(|row| counted(row, -1)));
    Ok(())
}

async fn restore(connection: &mut PgConnection, work: &mut Work<'_>) -> Result<(), StoreError> {
    if work.restored.is_empty() {
        return Ok(());
    }
    let ids: Vec<Uuid> = work.restored.iter().map(|id| id_uuid(*id)).collect();
    let rows: Vec<StoredRow> = sqlx::query_as(
        "WITH back AS (DELETE FROM also_reported WHERE id = ANY($1) RETURNING *) \
         INSERT INTO occurrence (id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, \
         span_id, resource, stack, \
             user_hash, uncaught, severity, received_at, type, message, attributes) \
         SELECT id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, span_id, resource, stack, \
             user_hash, uncaught, severity, received_at, type, message, attributes FROM back \
         RETURNING id, cause_id, environment_id, version_id, uncaught, severity",
    )
    .bind(ids)
    .fetch_all(connection)
    .await?;
    work.counted.extend(rows.iter().map(|row| counted(row, 1)));
    Ok(())
}

/// Writes what late evidence says of failures already stored.
async fn complete(connection: &mut PgConnection, work: &mut Work<'_>) -> Result<(), StoreError> {
    if work.completed.is_empty() {
        return Ok(());
    }
    let by_id: BTreeMap<OccurrenceId, &Failure> = work
        .completed
        .iter()
        .map(|failure| (failure.occurrence, failure))
        .collect();
    let ids: Vec<Uuid> = by_id.keys().map(|id| id_uuid(*id)).collect();
    let stored: Vec<StoredRow> = sqlx::query_as(
        "SELECT id, cause_id, environment_id, version_id, uncaught, severity FROM occurrence WHERE id = ANY($1)",
    )
    .bind(&ids)
    .fetch_all(&mut *connection)
    .await?;
    for row in &stored {
        let (id, cause, environment, version, was_uncaught, _) = *row;
        let occurrence = OccurrenceId(*id.as_bytes());
        let Some(failure) = by_id.get(&occurrence) else {
            continue;
        };
        let uncaught = i64::from(failure.uncaught) - i64::from(was_uncaught);
        work.counted.push(Counted {
            occurrence,
            cause,
            environment,
            version,
            uncaught,
            severity: failure.severity,
            n: 0,
        });
    }
    let uncaught: Vec<bool> = by_id.values().map(|failure| failure.uncaught).collect();
    let severity: Vec<i16> = by_id.values().map(|failure| failure.severity).collect();
    let users: Vec<Option<i64>> = by_id.values().map(|failure| signed(failure.user)).collect();
    let endpoints: Vec<Option<i32>> = by_id.values().map(|failure| endpoint(failure)).collect();
    sqlx::query(
        "UPDATE occurrence SET uncaught = new.uncaught, severity = new.severity, user_hash = new.user_hash, \
         endpoint_id = new.endpoint_id \
         FROM UNNEST($1::uuid[], $2::bool[], $3::smallint[], $4::bigint[], $5::int[]) AS new (id, uncaught, severity, \
         user_hash, endpoint_id) \
         WHERE occurrence.id = new.id AND occurrence.id = ANY($1)",
    )
    .bind(ids)
    .bind(uncaught)
    .bind(severity)
    .bind(users)
    .bind(endpoints)
    .execute(connection)
    .await?;
    Ok(())
}

fn endpoint(failure: &Failure) -> Option<i32> {
    failure.endpoint.and_then(|endpoint| i32::try_from(endpoint).ok())
}

const COLUMNS: &str = "id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, span_id, \
    resource, stack, \
                       user_hash, uncaught, severity, received_at, type, message, attributes";

fn put_row(rows: &mut Rows, numbered: &Numbered<'_>, failure: &Failure) {
    let report = numbered.report;
    let mut attributes = serde_json::to_vec(&report.attributes).expect("a map of JSON values always encodes");
    if numbered.clock_ahead_ms > 0 {
        let mut marked = report.attributes.clone();
        marked.insert("outcrop.clock_ahead_ms".to_owned(), numbered.clock_ahead_ms.into());
        attributes = serde_json::to_vec(&marked).expect("a map of JSON values always encodes");
    }
    rows.uuid(id_uuid(report.facts.id))
        .int4(numbered.sender.service)
        .int8(numbered.cause)
        .int4(numbered.sender.environment)
        .int4(numbered.sender.version)
        .maybe(endpoint(failure), Rows::int4)
        .maybe(report.trace_id.map(|trace| Uuid::from_bytes(trace.0)), Rows::uuid)
        .maybe(report.facts.span.and_then(|span| signed(span.0)), Rows::int8)
        .uuid(uuid(numbered.resource))
        .maybe(numbered.stack.map(uuid), Rows::uuid)
        .maybe(signed(failure.user), Rows::int8)
        .bool(failure.uncaught)
        .int2(failure.severity)
        .time(to_utc(numbered.received))
        .text(&report.type_name)
        .text(outcrop_core::text::prefix(&report.message, MAX_MESSAGE_BYTES))
        .jsonb(&attributes);
}

/// Longest message kept in an occurrence's row, in bytes; the whole one stands in the payload.
const MAX_MESSAGE_BYTES: usize = 8_192;

async fn insert(connection: &mut PgConnection, work: &mut Work<'_>, keep: Payloads<'_>) -> Result<(), StoreError> {
    let mut inserted = std::mem::take(&mut work.inserted);
    inserted.sort_by_key(|(numbered, _)| numbered.report.facts.id);
    let mut days: BTreeMap<i64, (Rows, Rows)> = BTreeMap::new();
    let (mut kept, mut left_out) = (vec![], vec![]);
    let pack = |numbered: &Numbered<'_>| {
        let body = (keep.render)(numbered.report);
        crate::traces::pack(body.as_bytes()).map_err(|error| StoreError::Other(sqlx::Error::Io(error)))
    };
    for (numbered, failure) in &inserted {
        let report = numbered.report;
        let at = report.facts.id.at();
        if let Some(rule) = report.dropped_by {
            *work.dropped.entry(rule).or_default() += 1;
            work.seen.push((numbered.sender, at));
            continue;
        }
        let (rows, payloads) = days.entry(at.day()).or_insert_with(|| (Rows::new(17), Rows::new(2)));
        put_row(rows.row(), numbered, failure);
        if keep.is_full {
            work.reached.add(numbered.sender.service, Limit::Bodies, 1);
            left_out.push(numbered);
        } else if keep
            .bodies
            .takes(numbered.sender.service, (numbered.cause, numbered.sender.version), at)
        {
            payloads.row().uuid(id_uuid(report.facts.id)).bytes(&pack(numbered)?);
            kept.push(numbered);
        } else {
            left_out.push(numbered);
        }
        work.seen.push((numbered.sender, at));
        work.failed_traces.extend(report.trace_id);
        work.counted.push(Counted {
            occurrence: report.facts.id,
            cause: numbered.cause,
            environment: numbered.sender.environment,
            version: numbered.sender.version,
            uncaught: failure.uncaught.into(),
            severity: failure.severity,
            n: 1,
        });
    }
    for (day, (rows, payloads)) in days {
        let statement = format!(
            "COPY {} ({COLUMNS}) FROM STDIN (FORMAT binary)",
            partition("occurrence", day)
        );
        rows.send(connection, &statement).await?;
        if !payloads.is_empty() {
            let statement = format!(
                "COPY {} (occurrence_id, body) FROM STDIN (FORMAT binary)",
                partition("payload", day)
            );
            payloads.send(connection, &statement).await?;
        }
    }
    keep.bodies.store(connection, &kept, &left_out, pack).await
}

async fn absorb(connection: &mut PgConnection, work: &mut Work<'_>) -> Result<(), StoreError> {
    let mut rows = Rows::new(18);
    let mut seen = HashSet::new();
    let mut absorbed = std::mem::take(&mut work.absorbed);
    absorbed.sort_by_key(|(numbered, _)| numbered.report.facts.id);
    for (numbered, other) in absorbed {
        let facts = &numbered.report.facts;
        if numbered.report.dropped_by.is_some() || !seen.insert(facts.id) {
            continue;
        }
        let failure = Failure {
            occurrence: facts.id,
            reports: vec![],
            uncaught: facts.says_uncaught,
            severity: facts.severity,
            user: facts.user,
            endpoint: None,
        };
        put_row(rows.row(), &numbered, &failure);
        rows.uuid(id_uuid(other));
    }
    rows.send(
        connection,
        &format!("COPY also_reported ({COLUMNS}, part_of) FROM STDIN (FORMAT binary)"),
    )
    .await?;
    Ok(())
}

async fn rename(connection: &mut PgConnection, work: &mut Work<'_>) -> Result<(), StoreError> {
    if work.renamed.is_empty() {
        return Ok(());
    }
    let parts = work
        .renamed
        .iter()
        .flat_map(|(occurrence, reports)| reports.iter().map(|part| (id_uuid(*part), id_uuid(*occurrence))));
    let (parts, occurrences): (Vec<Uuid>, Vec<Uuid>) = parts.unzip();
    sqlx::query(
        "UPDATE also_reported SET part_of = new.occurrence FROM UNNEST($1::uuid[], $2::uuid[]) AS new (part, \
         occurrence) \
         WHERE id = new.part AND part_of <> new.occurrence",
    )
    .bind(parts)
    .bind(occurrences)
    .execute(connection)
    .await?;
    Ok(())
}
