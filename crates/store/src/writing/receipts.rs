//! Receipts: the same body again is answered as it was, and counted nowhere.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::Digest;
use outcrop_core::failure::Refused;
use sqlx::PgConnection;

use super::submission::{Outcome, Submission};
use crate::ids::uuid;
use crate::{StoreError, to_utc};

/// Inserts receipts; returns which requests of the batch are new, and what to answer to each.
pub(super) async fn receipts(
    connection: &mut PgConnection,
    batch: &[Submission],
) -> Result<(Vec<bool>, Vec<Outcome>), StoreError> {
    let mut first: BTreeMap<Digest, usize> = BTreeMap::new();
    for (at, submission) in batch.iter().enumerate() {
        first.entry(submission.receipt).or_insert(at);
    }
    let of_first = |at: &usize| &batch[*at];
    let digests: Vec<uuid::Uuid> = first.keys().map(|digest| uuid(*digest)).collect();
    let times: Vec<_> = first.values().map(|at| to_utc(of_first(at).received)).collect();
    let rejected: Vec<i64> = first
        .values()
        .map(|at| i64::try_from(of_first(at).found.refused.count).unwrap_or(i64::MAX))
        .collect();
    let reasons: Vec<&str> = first
        .values()
        .map(|at| of_first(at).found.refused.reason.as_str())
        .collect();
    let inserted: Vec<(uuid::Uuid,)> = sqlx::query_as(
        "INSERT INTO receipt (digest, received_at, rejected, reason) \
         SELECT * FROM UNNEST($1::uuid[], $2::timestamptz[], $3::bigint[], $4::text[]) AS new (digest, received_at, \
         rejected, reason) \
         ORDER BY digest ON CONFLICT (digest) DO NOTHING RETURNING digest",
    )
    .bind(&digests)
    .bind(times)
    .bind(rejected)
    .bind(reasons)
    .fetch_all(&mut *connection)
    .await?;
    let inserted: std::collections::HashSet<uuid::Uuid> = inserted.into_iter().map(|(digest,)| digest).collect();
    let mut answers: HashMap<uuid::Uuid, Refused> = HashMap::new();
    let known: Vec<uuid::Uuid> = digests
        .iter()
        .filter(|digest| !inserted.contains(digest))
        .copied()
        .collect();
    if !known.is_empty() {
        let rows: Vec<(uuid::Uuid, i64, String)> =
            sqlx::query_as("SELECT digest, rejected, reason FROM receipt WHERE digest = ANY($1)")
                .bind(known)
                .fetch_all(&mut *connection)
                .await?;
        for (digest, count, reason) in rows {
            answers.insert(
                digest,
                Refused {
                    count: u64::try_from(count).unwrap_or_default(),
                    reason,
                },
            );
        }
    }
    let mut fresh = Vec::with_capacity(batch.len());
    let mut outcomes = Vec::with_capacity(batch.len());
    for (at, submission) in batch.iter().enumerate() {
        let digest = uuid(submission.receipt);
        fresh.push(inserted.contains(&digest) && first.get(&submission.receipt) == Some(&at));
        let refused = answers.get(&digest).unwrap_or(&submission.found.refused);
        outcomes.push(Outcome::Stored(refused.clone()));
    }
    Ok((fresh, outcomes))
}
