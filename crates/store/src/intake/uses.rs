//! What a batch brings of calls and instances.

use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;

use outcrop_core::failure::{FoundCalls, PlatformEvent};
use outcrop_core::{Digest, Timestamp};
use sqlx::{AssertSqlSafe, PgConnection, PgPool};

use super::batch::Prepared;
use crate::{StoreError, id_uuid, to_utc, uuid};

/// Names called per service and kind; further ones are counted under [`OTHER`]. Some put ids into host names or statements.
const MAX_NAMES: i64 = 1_000;
/// What stands for all past the limit.
const OTHER: &str = "(others)";
/// Numbers remembered; forgotten all at once past this.
const MAX_REMEMBERED: usize = 100_000;

type Key = (i32, Digest);

/// Numbers of what is called, known to be committed.
#[derive(Default)]
pub(super) struct Called(Mutex<HashMap<Key, i32>>);

fn key(service: i32, calls: &FoundCalls) -> Key {
    (service, Digest::of([calls.kind, &calls.name]))
}

impl Called {
    /// Finds or makes the numbers of all that a batch calls. Commits by itself.
    pub(super) async fn resolve(&self, pool: &PgPool, prepared: &Prepared<'_>) -> Result<HashMap<Key, i32>, StoreError> {
        let mut wanted: BTreeMap<Key, (&str, &str)> = BTreeMap::new();
        for calls in prepared.submissions.iter().flat_map(|submission| &submission.found.calls) {
            wanted.insert(key(prepared.sender(&calls.identity).service, calls), (calls.kind, &calls.name));
        }
        let mut found: HashMap<Key, i32> = HashMap::new();
        {
            let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            if known.len() > MAX_REMEMBERED {
                known.clear();
            }
            found.extend(wanted.keys().filter_map(|key| Some((*key, *known.get(key)?))));
        }
        wanted.retain(|key, _| !found.contains_key(key));
        for ((service, hash), (kind, name)) in wanted {
            let number = make(pool, service, hash, kind, name).await?;
            found.insert((service, hash), number);
            self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert((service, hash), number);
        }
        Ok(found)
    }
}

async fn make(pool: &PgPool, service: i32, hash: Digest, kind: &str, name: &str) -> Result<i32, StoreError> {
    let (is_known, others): (bool, i64) = sqlx::query_as(
        "SELECT EXISTS (SELECT FROM called WHERE service_id = $1 AND hash = $2), (SELECT count(*) FROM called WHERE service_id = $1 AND kind = $3)",
    )
    .bind(service)
    .bind(uuid(hash))
    .bind(kind)
    .fetch_one(pool)
    .await?;
    let (hash, name) = if is_known || others < MAX_NAMES { (hash, name) } else { (Digest::of([kind, OTHER]), OTHER) };
    sqlx::query("INSERT INTO called (service_id, kind, name, hash) VALUES ($1, $2, $3, $4) ON CONFLICT (service_id, hash) DO NOTHING")
        .bind(service)
        .bind(kind)
        .bind(name)
        .bind(uuid(hash))
        .execute(pool)
        .await?;
    let (id,): (i32,) =
        sqlx::query_as("SELECT id FROM called WHERE service_id = $1 AND hash = $2").bind(service).bind(uuid(hash)).fetch_one(pool).await?;
    Ok(id)
}

#[derive(Default)]
struct Counts {
    n: i64,
    failed: i64,
    total_us: i64,
    longest_us: i64,
}

/// Counts calls of the fresh requests of a batch.
pub(super) async fn calls(
    connection: &mut PgConnection,
    prepared: &Prepared<'_>,
    fresh: &[bool],
    numbers: &HashMap<Key, i32>,
) -> Result<(), StoreError> {
    let mut hours: BTreeMap<(Timestamp, i32, i32, i32), Counts> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for calls in &submission.found.calls {
            let sender = prepared.sender(&calls.identity);
            let Some(called) = numbers.get(&key(sender.service, calls)) else { continue };
            let counts = hours.entry((calls.hour, *called, sender.environment, sender.version)).or_default();
            counts.n += i64::try_from(calls.count).unwrap_or_default();
            counts.failed += i64::try_from(calls.failed).unwrap_or_default();
            counts.total_us = counts.total_us.saturating_add_unsigned(calls.total_us);
            counts.longest_us = counts.longest_us.max(i64::try_from(calls.longest_us).unwrap_or(i64::MAX));
        }
    }
    let mut days: BTreeMap<(Timestamp, i32, i32, i32), Counts> = BTreeMap::new();
    for ((hour, called, environment, version), of_hour) in &hours {
        let counts = days.entry((hour.midnight(), *called, *environment, *version)).or_default();
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
            "INSERT INTO called_{step} AS c ({step}, called_id, environment_id, version_id, n, failed, total_us, longest_us) \
             SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::bigint[], $6::bigint[], $7::bigint[], $8::bigint[]) AS new \
             ORDER BY 1, 2, 3, 4 ON CONFLICT ({step}, called_id, environment_id, version_id) DO UPDATE SET n = c.n + excluded.n, \
                 failed = c.failed + excluded.failed, total_us = c.total_us + excluded.total_us, longest_us = greatest(c.longest_us, excluded.longest_us)"
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

/// Notes the instances of the fresh requests of a batch, and what they served.
pub(super) async fn instances(connection: &mut PgConnection, prepared: &Prepared<'_>, fresh: &[bool]) -> Result<(), StoreError> {
    let mut instances: BTreeMap<Digest, Instance<'_>> = BTreeMap::new();
    for (submission, _) in prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh) {
        for found in &submission.found.instances {
            let sender = prepared.sender(&found.identity);
            let identity = &found.identity;
            let hash = Digest::of([identity.namespace.as_str(), &identity.service, &identity.environment, &identity.version, &found.name]);
            let instance = instances.entry(hash).or_insert_with(|| Instance {
                service: sender.service,
                environment: sender.environment,
                version: sender.version,
                name: &found.name,
                host: &found.host,
                region: &found.region,
                first: found.first,
                last: found.last,
                readings: serde_json::Map::new(),
                hours: BTreeMap::new(),
            });
            instance.first = instance.first.min(found.first);
            instance.last = instance.last.max(found.last);
            instance.readings.extend(found.readings.iter().map(|reading| (reading.name.clone(), reading.value.into())));
            let counts = instance.hours.entry(found.last.hour()).or_default();
            counts.0 += i64::try_from(found.requests).unwrap_or_default();
            counts.1 += i64::try_from(found.failed).unwrap_or_default();
        }
    }
    if instances.is_empty() {
        return Ok(());
    }
    let column = |of: fn(&Instance<'_>) -> i32| instances.values().map(of).collect::<Vec<_>>();
    let rows: Vec<(uuid::Uuid, i32)> = sqlx::query_as(
        "INSERT INTO instance AS i (hash, service_id, environment_id, version_id, name, host, region, first_at, last_at, readings) \
         SELECT hash, service, environment, version, name, host, region, first_at, last_at, readings::jsonb \
         FROM UNNEST($1::uuid[], $2::int[], $3::int[], $4::int[], $5::text[], $6::text[], $7::text[], $8::timestamptz[], $9::timestamptz[], $10::text[]) \
             AS new (hash, service, environment, version, name, host, region, first_at, last_at, readings) ORDER BY hash \
         ON CONFLICT (hash) DO UPDATE SET first_at = least(i.first_at, excluded.first_at), last_at = greatest(i.last_at, excluded.last_at), \
             readings = i.readings || excluded.readings RETURNING hash, id",
    )
    .bind(instances.keys().map(|hash| uuid(*hash)).collect::<Vec<_>>())
    .bind(column(|instance| instance.service))
    .bind(column(|instance| instance.environment))
    .bind(column(|instance| instance.version))
    .bind(instances.values().map(|instance| instance.name).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| instance.host).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| instance.region).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| to_utc(instance.first)).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| to_utc(instance.last)).collect::<Vec<_>>())
    .bind(instances.values().map(|instance| serde_json::Value::Object(instance.readings.clone()).to_string()).collect::<Vec<_>>())
    .fetch_all(&mut *connection)
    .await?;
    let mut hours: BTreeMap<(Timestamp, i32), (i64, i64)> = BTreeMap::new();
    for (hash, id) in rows {
        let served = instances.get(&Digest(*hash.as_bytes())).map(|instance| &instance.hours);
        hours.extend(served.into_iter().flatten().filter(|(_, counts)| counts.0 > 0).map(|(hour, counts)| ((*hour, id), *counts)));
    }
    sqlx::query(
        "INSERT INTO instance_hour AS h (hour, instance_id, requests, failed) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::bigint[], $4::bigint[]) AS new ORDER BY 1, 2 \
         ON CONFLICT (hour, instance_id) DO UPDATE SET requests = h.requests + excluded.requests, failed = h.failed + excluded.failed",
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
pub(super) async fn platform_events(connection: &mut PgConnection, prepared: &Prepared<'_>, fresh: &[bool]) -> Result<(), StoreError> {
    let fresh = prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh);
    let mut events: Vec<&PlatformEvent> = fresh.flat_map(|(submission, _)| &submission.found.platform_events).collect();
    if events.is_empty() {
        return Ok(());
    }
    events.sort_unstable_by_key(|event| event.id);
    let texts = |of: fn(&PlatformEvent) -> &String| events.iter().map(|event| of(event).clone()).collect::<Vec<String>>();
    sqlx::query(
        "INSERT INTO platform_event (id, object, node, reason, message, is_warning) \
         SELECT * FROM UNNEST($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bool[]) AS new (a, b, c, d, e, f) \
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
