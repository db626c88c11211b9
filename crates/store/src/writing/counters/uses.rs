//! What a batch brings of calls and instances.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};

use outcrop_core::completeness::Limit;
use outcrop_core::failure::PlatformEvent;
use outcrop_core::{Digest, Timestamp};
use sqlx::{AssertSqlSafe, PgConnection};

use crate::ids::{id_uuid, uuid};
use crate::writing::batch::Prepared;
use crate::writing::dictionary::names::called_hash;
use crate::writing::limits::Reached;
use crate::{StoreError, to_utc};

/// Instances of a service that sent something in the last 30 days; further ones are counted together.
const MAX_INSTANCES: i64 = 10_000;
/// The instance that stands for all past the limit.
const OTHER_INSTANCES: &str = "(other instances)";

/// All that a batch calls: service, kind and name.
pub(crate) fn called<'a>(prepared: &Prepared<'a>) -> BTreeSet<(i32, &'static str, &'a str)> {
    let calls = prepared
        .submissions
        .iter()
        .flat_map(|submission| &submission.found.calls);
    calls
        .map(|calls| {
            (
                prepared.sender(&calls.identity).service,
                calls.kind,
                calls.name.as_str(),
            )
        })
        .collect()
}

#[derive(Default)]
struct Counts {
    n: i64,
    failed: i64,
    total_us: i64,
    longest_us: i64,
}

/// Counts calls of the fresh requests of a batch.
pub(crate) async fn calls(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
    numbers: &HashMap<(i32, Digest), i32>,
) -> Result<(), StoreError> {
    let mut hours: BTreeMap<(Timestamp, i32, i32, i32), Counts> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for calls in &submission.found.calls {
            let sender = prepared.sender(&calls.identity);
            let Some(called) = numbers.get(&(sender.service, called_hash(calls.kind, &calls.name))) else {
                continue;
            };
            let counts = hours
                .entry((calls.hour, *called, sender.environment, sender.version))
                .or_default();
            counts.n += i64::try_from(calls.count).unwrap_or_default();
            counts.failed += i64::try_from(calls.failed).unwrap_or_default();
            counts.total_us = counts.total_us.saturating_add_unsigned(calls.total_us);
            counts.longest_us = counts
                .longest_us
                .max(i64::try_from(calls.longest_us).unwrap_or(i64::MAX));
        }
    }
    let mut days: BTreeMap<(Timestamp, i32, i32, i32), Counts> = BTreeMap::new();
    for ((hour, called, environment, version), of_hour) in &hours {
        let counts = days
            .entry((hour.midnight(), *called, *environment, *version))
            .or_default();
        counts.n += of_hour.n;
        counts.failed += of_hour.failed;
        counts.total_us = counts.total_us.saturating_add(of_hour.total_us);
        counts.longest_us = counts.longest_us.max(of_hour.longest_us);
    }
    for (step, counts) in [("hour", hours), ("day", days)] {
        if counts.is_empty() {
            continue;
        }
        let statement = format!(
            "INSERT INTO called_{step} AS c ({step}, called_id, environment_id, version_id, n, failed, total_us, \
             longest_us) \
             SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::bigint[], $6::bigint[], \
             $7::bigint[], $8::bigint[]) AS new \
             ORDER BY 1, 2, 3, 4 ON CONFLICT ({step}, called_id, environment_id, version_id) DO UPDATE SET n = c.n + \
             excluded.n, \
                 failed = c.failed + excluded.failed, total_us = least(c.total_us::numeric + excluded.total_us, \
                 9e18)::bigint, longest_us = greatest(c.longest_us, excluded.longest_us)"
        );
        sqlx::query(AssertSqlSafe(statement))
            .bind(counts.keys().map(|key| to_utc(key.0)).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.1).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.2).collect::<Vec<_>>())
            .bind(counts.keys().map(|key| key.3).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.n).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.failed).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.total_us).collect::<Vec<_>>())
            .bind(counts.values().map(|counts| counts.longest_us).collect::<Vec<_>>())
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

struct Instance<'a> {
    service: i32,
    environment: i32,
    version: i32,
    name: &'a str,
    host: &'a str,
    region: &'a str,
    first: Timestamp,
    last: Timestamp,
    readings: serde_json::Map<String, serde_json::Value>,
    hours: BTreeMap<Timestamp, (i64, i64)>,
}

fn signed_count(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

/// Adds what one request says of an instance to what others say.
fn join<'a>(instances: &mut BTreeMap<Digest, Instance<'a>>, hash: Digest, new: Instance<'a>) {
    match instances.entry(hash) {
        Entry::Vacant(vacant) => drop(vacant.insert(new)),
        Entry::Occupied(mut there) => {
            let there = there.get_mut();
            there.first = there.first.min(new.first);
            there.last = there.last.max(new.last);
            there.readings.extend(new.readings);
            for (hour, counts) in new.hours {
                let sum = there.hours.entry(hour).or_default();
                *sum = (sum.0 + counts.0, sum.1 + counts.1);
            }
        }
    }
}

/// Puts instances for which their service has no room into one.
async fn fold_surplus(
    connection: &mut PgConnection,
    instances: &mut BTreeMap<Digest, Instance<'_>>,
    reached: &mut Reached,
) -> Result<(), StoreError> {
    let services: BTreeSet<i32> = instances.values().map(|instance| instance.service).collect();
    if services.is_empty() {
        return Ok(());
    }
    let known: Vec<(uuid::Uuid,)> = sqlx::query_as("SELECT hash FROM instance WHERE hash = ANY($1)")
        .bind(instances.keys().map(|hash| uuid(*hash)).collect::<Vec<_>>())
        .fetch_all(&mut *connection)
        .await?;
    let known: BTreeSet<Digest> = known.into_iter().map(|(hash,)| Digest(*hash.as_bytes())).collect();
    if instances.keys().all(|hash| known.contains(hash)) {
        return Ok(());
    }
    let counts: Vec<(i32, i64)> =
        sqlx::query_as("SELECT service_id, count(*) FROM instance WHERE service_id = ANY($1) GROUP BY 1")
            .bind(services.into_iter().collect::<Vec<_>>())
            .fetch_all(connection)
            .await?;
    let mut counts: HashMap<i32, i64> = counts.into_iter().collect();
    for (hash, instance) in std::mem::take(instances) {
        let count = counts.entry(instance.service).or_default();
        *count += i64::from(!known.contains(&hash));
        if known.contains(&hash) || *count <= MAX_INSTANCES {
            join(instances, hash, instance);
            continue;
        }
        reached.add(instance.service, Limit::Instances, 1);
        let other = Digest::of([
            OTHER_INSTANCES,
            &instance.service.to_string(),
            &instance.environment.to_string(),
            &instance.version.to_string(),
        ]);
        join(
            instances,
            other,
            Instance {
                name: OTHER_INSTANCES,
                host: "",
                region: "",
                readings: serde_json::Map::new(),
                ..instance
            },
        );
    }
    Ok(())
}

/// Notes the instances of the fresh requests of a batch, and what they served.
pub(crate) async fn instances(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
    reached: &mut Reached,
) -> Result<(), StoreError> {
    let mut instances: BTreeMap<Digest, Instance<'_>> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for found in &submission.found.instances {
            let sender = prepared.sender(&found.identity);
            let identity = &found.identity;
            let hash = Digest::of([
                identity.namespace.as_str(),
                &identity.service,
                &identity.environment,
                &identity.version,
                &found.name,
            ]);
            let new = Instance {
                service: sender.service,
                environment: sender.environment,
                version: sender.version,
                name: &found.name,
                host: &found.host,
                region: &found.region,
                first: found.first,
                last: found.last,
                readings: found
                    .readings
                    .iter()
                    .map(|reading| (reading.name.clone(), reading.value.into()))
                    .collect(),
                hours: BTreeMap::from([(
                    found.last.hour(),
                    (signed_count(found.requests), signed_count(found.failed)),
                )]),
            };
            join(&mut instances, hash, new);
        }
    }
    fold_surplus(connection, &mut instances, reached).await?;
    if instances.is_empty() {
        return Ok(());
    }
    let column = |of: fn(&Instance<'_>) -> i32| instances.values().map(of).collect::<Vec<_>>();
    let rows: Vec<(uuid::Uuid, i32)> = sqlx::query_as(
        "INSERT INTO instance AS i (hash, service_id, environment_id, version_id, name, host, region, first_at, \
         last_at, readings) \
         SELECT hash, service, environment, version, name, host, region, first_at, last_at, readings::jsonb \
         FROM UNNEST($1::uuid[], $2::int[], $3::int[], $4::int[], $5::text[], $6::text[], $7::text[], \
         $8::timestamptz[], $9::timestamptz[], $10::text[]) \
             AS new (hash, service, environment, version, name, host, region, first_at, last_at, readings) ORDER BY \
             hash \
         ON CONFLICT (hash) DO UPDATE SET first_at = least(i.first_at, excluded.first_at), last_at = \
         greatest(i.last_at, excluded.last_at), \
             readings = i.readings || excluded.readings RETURNING hash, id",
    )
    .bind(instances.keys().map(|hash| uuid(*hash)).collect::<Vec<_>>())
    .bind(column(|instance| instance.service))
    .bind(column(|instance| instance.environment))
    .bind(column(|instance| instance.version))
    .bind(instances.values().map(|instance| instance.name).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| instance.host).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| instance.region).collect::<Vec<_>>())
    .bind(
        instances
            .values()
            .map(|instance| to_utc(instance.first))
            .collect::<Vec<_>>(),
    )
    .bind(
        instances
            .values()
            .map(|instance| to_utc(instance.last))
            .collect::<Vec<_>>(),
    )
    .bind(
        instances
            .values()
            .map(|instance| serde_json::Value::Object(instance.readings.clone()).to_string())
            .collect::<Vec<_>>(),
    )
    .fetch_all(&mut *connection)
    .await?;
    hours(connection, &instances, rows).await
}

/// Adds what instances served, by the hour. `rows`: their hashes and numbers.
async fn hours(
    connection: &mut PgConnection,
    instances: &BTreeMap<Digest, Instance<'_>>,
    rows: Vec<(uuid::Uuid, i32)>,
) -> Result<(), StoreError> {
    let mut hours: BTreeMap<(Timestamp, i32), (i64, i64)> = BTreeMap::new();
    for (hash, id) in rows {
        let served = instances.get(&Digest(*hash.as_bytes())).map(|instance| &instance.hours);
        hours.extend(
            served
                .into_iter()
                .flatten()
                .filter(|(_, counts)| counts.0 > 0)
                .map(|(hour, counts)| ((*hour, id), *counts)),
        );
    }
    sqlx::query(
        "INSERT INTO instance_hour AS h (hour, instance_id, requests, failed) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::bigint[], $4::bigint[]) AS new ORDER BY 1, 2 \
         ON CONFLICT (hour, instance_id) DO UPDATE SET requests = h.requests + excluded.requests, failed = h.failed + \
         excluded.failed",
    )
    .bind(hours.keys().map(|key| to_utc(key.0)).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.1).collect::<Vec<_>>())
    .bind(hours.values().map(|counts| counts.0).collect::<Vec<_>>())
    .bind(hours.values().map(|counts| counts.1).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// Stores what the platform said in the fresh requests of a batch; what was sent before is there already.
pub(crate) async fn platform_events(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
) -> Result<(), StoreError> {
    let fresh = prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh);
    let mut events: Vec<&PlatformEvent> = fresh
        .flat_map(|(submission, _)| &submission.found.platform_events)
        .map(|(_, event)| event)
        .collect();
    if events.is_empty() {
        return Ok(());
    }
    events.sort_unstable_by_key(|event| event.id);
    let texts =
        |of: fn(&PlatformEvent) -> &String| events.iter().map(|event| of(event).clone()).collect::<Vec<String>>();
    sqlx::query(
        "INSERT INTO platform_event (id, object, node, reason, message, is_warning) \
         SELECT * FROM UNNEST($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bool[]) AS new (a, b, \
         c, d, e, f) \
         ON CONFLICT (id) DO NOTHING",
    )
    .bind(events.iter().map(|event| id_uuid(event.id)).collect::<Vec<_>>())
    .bind(texts(|event| &event.object))
    .bind(texts(|event| &event.node))
    .bind(texts(|event| &event.reason))
    .bind(texts(|event| &event.message))
    .bind(events.iter().map(|event| event.is_warning).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}
