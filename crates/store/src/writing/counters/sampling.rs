//! What a batch says of how requests are sampled.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};

use outcrop_core::Timestamp;
use outcrop_core::failure::{ONE_IN, Source};
use outcrop_core::telemetry::sampling::Seen;
use sqlx::PgConnection;

use crate::ids::{id_uuid, signed};
use crate::writing::batch::Prepared;
use crate::writing::work::Work;
use crate::{StoreError, to_utc};

/// Counts what was seen of sampling, by hour, service and environment.
pub(crate) async fn store(
    connection: &mut PgConnection,
    work: &Work<'_>,
    prepared: &Prepared<'_>,
    fresh: &[bool],
) -> Result<(), StoreError> {
    let mut hours: BTreeMap<(Timestamp, i32, i32), Seen> = BTreeMap::new();
    for (sender, _, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        let seen = hours
            .entry((entry.at.hour(), sender.service, sender.environment))
            .or_default();
        seen.sent += 1;
        if entry.is_weighed {
            seen.known += 1;
            seen.stand_for += u64::from(entry.weight);
        }
    }
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for (identity, lines, unsampled) in &submission.found.traced_lines {
            let sender = prepared.sender(identity);
            let seen = hours
                .entry((submission.received.hour(), sender.service, sender.environment))
                .or_default();
            seen.lines += lines;
            seen.lines_unsampled += unsampled;
        }
    }
    if hours.is_empty() {
        return Ok(());
    }
    let counts = |of: fn(&Seen) -> u64| {
        hours
            .values()
            .map(|seen| signed(of(seen)).unwrap_or_default())
            .collect::<Vec<i64>>()
    };
    sqlx::query(
        "INSERT INTO sampling_hour AS s (hour, service_id, environment_id, sent, known, stand_for, lines, \
         lines_unsampled) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::bigint[], $5::bigint[], $6::bigint[], \
         $7::bigint[], $8::bigint[]) AS new ORDER BY 1, 2, 3 \
         ON CONFLICT (hour, service_id, environment_id) DO UPDATE SET sent = s.sent + excluded.sent, known = s.known \
         + excluded.known, \
             stand_for = s.stand_for + excluded.stand_for, lines = s.lines + excluded.lines, lines_unsampled = \
             s.lines_unsampled + excluded.lines_unsampled",
    )
    .bind(hours.keys().map(|key| to_utc(key.0)).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.1).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.2).collect::<Vec<_>>())
    .bind(counts(|seen| seen.sent))
    .bind(counts(|seen| seen.known))
    .bind(counts(|seen| seen.stand_for))
    .bind(counts(|seen| seen.lines))
    .bind(counts(|seen| seen.lines_unsampled))
    .execute(connection)
    .await?;
    Ok(())
}

/// Notes whether any sampled span has come to this process.
pub(crate) fn note(work: &Work<'_>, sampled: &AtomicBool) {
    let mut reports = work
        .inserted
        .iter()
        .map(|(numbered, _)| numbered)
        .chain(work.absorbed.iter().map(|(numbered, _)| numbered));
    if reports.any(|numbered| numbered.report.attributes.contains_key(ONE_IN)) {
        sampled.store(true, Ordering::Relaxed);
    }
}

/// An occurrence that its log tells of counts once: what its span stands for holds for its trace
/// alone, and the log tells of the others itself.
pub(crate) async fn logged(
    connection: &mut PgConnection,
    work: &Work<'_>,
    sampled: &AtomicBool,
) -> Result<(), StoreError> {
    if !sampled.load(Ordering::Relaxed) {
        return Ok(());
    }
    let is_log = |source: Source| matches!(source, Source::LogRecord | Source::LogMessage);
    let told = work
        .absorbed
        .iter()
        .filter(|(numbered, _)| is_log(numbered.report.facts.source));
    let ids: Vec<uuid::Uuid> = told.map(|(_, other)| id_uuid(*other)).collect();
    if !ids.is_empty() {
        sqlx::query("UPDATE occurrence SET attributes = attributes - $2 WHERE id = ANY($1) AND attributes ? $2")
            .bind(ids)
            .bind(ONE_IN)
            .execute(connection)
            .await?;
    }
    Ok(())
}
