//! Points of metrics: their series numbered, and the points written as they came.

use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;

use outcrop_core::completeness::Limit;
use outcrop_core::failure::{FoundPoint, Series};
use outcrop_core::metric::Buckets;
use outcrop_core::{Digest, Timestamp};
use sqlx::{PgConnection, PgPool};

use crate::ids::uuid;
use crate::writing::batch::Prepared;
use crate::writing::dictionary::names::SenderIds;
use crate::writing::limits::Reached;
use crate::{StoreError, to_utc};

/// Series of a service that sent something in the last days. An attribute with ids in it would otherwise fill the table;
/// a service of 20 instances that send 100 metrics each has 2,000.
pub(crate) const MAX_SERIES: i64 = 5_000;
/// Series remembered; forgotten all at once past this, which costs one look at the database.
const MAX_REMEMBERED: usize = 200_000;

/// Numbers of series known to be committed, with the day of use noted last.
#[derive(Default)]
pub(super) struct KnownSeries(Mutex<HashMap<Digest, (i32, i32)>>);

impl KnownSeries {
    fn known(&self, wanted: impl Iterator<Item = Digest>, day: i32) -> HashMap<Digest, i32> {
        let known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        wanted
            .filter_map(|hash| {
                known
                    .get(&hash)
                    .filter(|(_, noted)| *noted == day)
                    .map(|(id, _)| (hash, *id))
            })
            .collect()
    }

    fn remember(&self, found: &HashMap<Digest, i32>, day: i32) {
        let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if known.len() + found.len() > MAX_REMEMBERED {
            known.clear();
        }
        known.extend(found.iter().map(|(hash, id)| (*hash, (*id, day))));
    }

    /// Finds or makes the numbers of all series of a batch. Those for which their service has no room are missing.
    pub(super) async fn resolve(
        &self,
        pool: &PgPool,
        prepared: &Prepared<'_>,
        day: i32,
    ) -> Result<(HashMap<Digest, i32>, Reached), StoreError> {
        let mut wanted: BTreeMap<Digest, (SenderIds, &Series)> = BTreeMap::new();
        for point in points(prepared) {
            wanted
                .entry(point.series.hash)
                .or_insert_with(|| (prepared.sender(&point.identity), &point.series));
        }
        let mut numbers = self.known(wanted.keys().copied(), day);
        wanted.retain(|hash, _| !numbers.contains_key(hash));
        let mut reached = Reached::default();
        if wanted.is_empty() {
            return Ok((numbers, reached));
        }
        let found = store(pool, &wanted, day).await?;
        for (hash, (sender, _)) in &wanted {
            if !found.contains_key(hash) {
                reached.add(sender.service, Limit::Series, 1);
            }
        }
        self.remember(&found, day);
        numbers.extend(found);
        Ok((numbers, reached))
    }
}

fn points<'a>(prepared: &Prepared<'a>) -> impl Iterator<Item = &'a FoundPoint> {
    prepared
        .submissions
        .iter()
        .flat_map(|submission| &submission.found.points)
}

/// Notes the use of series that are there, and makes those for which there is room, in the order of their hashes.
async fn store(
    pool: &PgPool,
    wanted: &BTreeMap<Digest, (SenderIds, &Series)>,
    day: i32,
) -> Result<HashMap<Digest, i32>, StoreError> {
    let of_sender = |of: fn(&SenderIds) -> i32| wanted.values().map(|(sender, _)| of(sender)).collect::<Vec<_>>();
    let text = |of: fn(&Series) -> &str| wanted.values().map(|(_, series)| of(series)).collect::<Vec<_>>();
    let attributes = wanted.values().map(|(_, series)| {
        let map: serde_json::Map<String, serde_json::Value> = series
            .attributes
            .iter()
            .map(|(name, value)| (name.clone(), value.clone().into()))
            .collect();
        serde_json::Value::Object(map)
    });
    let rows: Vec<(uuid::Uuid, i32)> = sqlx::query_as(
        "WITH new AS (SELECT * FROM UNNEST($1::uuid[], $2::int[], $3::int[], $4::int[], $5::text[], $6::text[], \
         $7::smallint[], $8::text[], $9::jsonb[]) WITH ORDINALITY AS new (hash, service_id, environment_id, version_id, \
         name, unit, kind, instance, attributes, place)), there AS (SELECT service_id, count(*) AS n FROM metric_series \
         WHERE service_id = ANY($2) AND counted_id IS NULL GROUP BY 1), fitting AS (SELECT new.*, EXISTS (SELECT FROM metric_series s WHERE \
         s.hash = new.hash) AS is_known, row_number() OVER (PARTITION BY new.service_id, EXISTS (SELECT FROM \
         metric_series s WHERE s.hash = new.hash) ORDER BY new.place) + coalesce(there.n, 0) AS place_there FROM new \
         LEFT JOIN there USING (service_id)) INSERT INTO metric_series (hash, service_id, environment_id, version_id, \
         name, unit, kind, instance, attributes, used_day) SELECT hash, service_id, environment_id, version_id, name, \
         unit, kind, instance, attributes, $10 FROM fitting WHERE is_known OR place_there <= $11 ORDER BY hash \
         ON CONFLICT (hash) DO UPDATE SET used_day = greatest(metric_series.used_day, excluded.used_day) \
         RETURNING hash, id",
    )
    .bind(wanted.keys().map(|hash| uuid(*hash)).collect::<Vec<_>>())
    .bind(of_sender(|sender| sender.service))
    .bind(of_sender(|sender| sender.environment))
    .bind(of_sender(|sender| sender.version))
    .bind(text(|series| &series.name))
    .bind(text(|series| &series.unit))
    .bind(wanted.values().map(|(_, series)| series.kind.number()).collect::<Vec<_>>())
    .bind(text(|series| &series.instance))
    .bind(attributes.collect::<Vec<_>>())
    .bind(day)
    .bind(MAX_SERIES)
    .fetch_all(pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(hash, id)| (Digest(*hash.as_bytes()), id))
        .collect())
}

/// Writes the points of the fresh requests of a batch.
pub(super) async fn write(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
    numbers: &HashMap<Digest, i32>,
) -> Result<(), StoreError> {
    let fresh = prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh);
    let rows: Vec<(i32, i32, &FoundPoint)> = fresh
        .flat_map(|(submission, _)| &submission.found.points)
        .filter_map(|found| {
            let series = numbers.get(&found.series.hash)?;
            Some((*series, prepared.sender(&found.identity).service, found))
        })
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let time = |at: Timestamp| to_utc(at);
    sqlx::query(
        "INSERT INTO metric_point (series_id, service_id, at, start_at, value, n, buckets) SELECT * FROM UNNEST($1::int[], \
         $2::int[], $3::timestamptz[], $4::timestamptz[], $5::float8[], $6::bigint[], $7::bytea[])",
    )
    .bind(rows.iter().map(|(series, ..)| *series).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, service, _)| *service).collect::<Vec<_>>())
    .bind(rows.iter().map(|(.., found)| time(found.point.at)).collect::<Vec<_>>())
    .bind(
        rows.iter()
            .map(|(.., found)| found.point.start.map(time))
            .collect::<Vec<_>>(),
    )
    .bind(rows.iter().map(|(.., found)| found.point.value).collect::<Vec<_>>())
    .bind(
        rows.iter()
            .map(|(.., found)| i64::try_from(found.point.count).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
    )
    .bind(
        rows.iter()
            .map(|(.., found)| found.point.buckets.as_ref().map(Buckets::to_bytes))
            .collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}
