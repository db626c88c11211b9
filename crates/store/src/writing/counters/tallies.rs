//! Counters, in the same transaction as what they count: summed per key first, then upserted in the keys' order.

use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;

use outcrop_core::Timestamp;
use sqlx::{AssertSqlSafe, PgConnection};

use crate::database::partitions::partition;
use crate::writing::dictionary::names::SenderIds;
use crate::writing::work::{Counted, Work};
use crate::{StoreError, to_utc};

type DeployedSpan = (i64, i64);

/// Deployed versions as they were written last.
pub(crate) type Deployed = Mutex<HashMap<SenderIds, DeployedSpan>>;

/// Writes all counters of a batch. Returns what was written of deployed versions, to be remembered once committed.
pub(crate) async fn store(
    connection: &mut PgConnection,
    work: &Work<'_>,
    deployed: &Deployed,
) -> Result<Vec<(SenderIds, DeployedSpan)>, StoreError> {
    let counted: Vec<&Counted> = work.counted.iter().collect();
    tally(connection, &counted).await?;
    touch(connection, &counted).await?;
    sight(connection, &counted).await?;
    drops(connection, work).await?;
    let deployed = deploy(connection, work, deployed).await?;
    super::traffic::store(connection, work).await?;
    Ok(deployed)
}

/// Counts what people's rules dropped.
async fn drops(connection: &mut PgConnection, work: &Work<'_>) -> Result<(), StoreError> {
    if work.dropped.is_empty() {
        return Ok(());
    }
    let (rules, counts): (Vec<i64>, Vec<i64>) = work.dropped.iter().unzip();
    sqlx::query(
        "INSERT INTO dropped AS d (rule_id, hour, n) SELECT rule, date_trunc('hour', now()), n \
         FROM UNNEST($1::bigint[], $2::bigint[]) AS new (rule, n) ORDER BY rule \
         ON CONFLICT (rule_id, hour) DO UPDATE SET n = d.n + excluded.n",
    )
    .bind(rules)
    .bind(counts)
    .execute(connection)
    .await?;
    Ok(())
}

type TallyKey = (Timestamp, i32, i64, i32);

async fn tally(connection: &mut PgConnection, counted: &[&Counted]) -> Result<(), StoreError> {
    let mut minutes: BTreeMap<TallyKey, i64> = BTreeMap::new();
    let mut hours: BTreeMap<TallyKey, i64> = BTreeMap::new();
    let mut whole_days: BTreeMap<TallyKey, i64> = BTreeMap::new();
    for change in counted.iter().filter(|change| change.n != 0) {
        let at = change.occurrence.at();
        *minutes
            .entry((at.minute(), change.environment, change.cause, change.version))
            .or_default() += change.n;
        *hours
            .entry((at.hour(), change.environment, change.cause, change.version))
            .or_default() += change.n;
        *whole_days
            .entry((at.midnight(), change.environment, change.cause, change.version))
            .or_default() += change.n;
    }
    minutes.retain(|_, n| *n != 0);
    hours.retain(|_, n| *n != 0);
    whole_days.retain(|_, n| *n != 0);
    let mut days: BTreeMap<i64, Vec<(TallyKey, i64)>> = BTreeMap::new();
    for (key, n) in minutes {
        days.entry(key.0.day()).or_default().push((key, n));
    }
    for (day, rows) in days {
        upsert_tally(connection, &partition("tally_minute", day), "minute", &rows).await?;
    }
    upsert_tally(connection, "tally_hour", "hour", &hours.into_iter().collect::<Vec<_>>()).await?;
    upsert_tally(
        connection,
        "tally_day",
        "day",
        &whole_days.into_iter().collect::<Vec<_>>(),
    )
    .await
}

async fn upsert_tally(
    connection: &mut PgConnection,
    table: &str,
    step: &str,
    rows: &[(TallyKey, i64)],
) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    // The table's name is made from a day's number.
    let statement = format!(
        "INSERT INTO {table} AS tally ({step}, environment_id, cause_id, version_id, n) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::bigint[], $4::int[], $5::bigint[]) AS new (a, b, c, \
         d, n) ORDER BY 1, 2, 3, 4 \
         ON CONFLICT ({step}, environment_id, cause_id, version_id) DO UPDATE SET n = tally.n + excluded.n"
    );
    sqlx::query(AssertSqlSafe(statement))
        .bind(rows.iter().map(|(key, _)| to_utc(key.0)).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.1).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.2).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.3).collect::<Vec<_>>())
        .bind(rows.iter().map(|(_, n)| *n).collect::<Vec<_>>())
        .execute(connection)
        .await?;
    Ok(())
}

/// Notes which minutes the job of [`crate::errors::reach`] has to fold. A row that is there is written
/// again, so that a job that takes it meanwhile waits for this transaction.
async fn touch(connection: &mut PgConnection, counted: &[&Counted]) -> Result<(), StoreError> {
    let mut touched: BTreeMap<(i64, i32, Timestamp), bool> = BTreeMap::new();
    for change in counted {
        *touched
            .entry((change.cause, change.environment, change.occurrence.at().minute()))
            .or_default() |= change.n <= 0;
    }
    if touched.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "INSERT INTO touched AS t (cause_id, environment_id, minute, recount) \
         SELECT * FROM UNNEST($1::bigint[], $2::int[], $3::timestamptz[], $4::bool[]) AS new (a, b, c, recount) ORDER \
         BY 1, 2, 3 \
         ON CONFLICT (cause_id, environment_id, minute) DO UPDATE SET recount = t.recount OR excluded.recount",
    )
    .bind(touched.keys().map(|key| key.0).collect::<Vec<_>>())
    .bind(touched.keys().map(|key| key.1).collect::<Vec<_>>())
    .bind(touched.keys().map(|key| to_utc(key.2)).collect::<Vec<_>>())
    .bind(touched.values().copied().collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// What a batch changes of one cause in one environment and version.
struct Sighting {
    first: Timestamp,
    last: Timestamp,
    n: i64,
    uncaught: i64,
    severity: i16,
    /// Whether something was taken back, so that first and last must be read anew.
    is_lessened: bool,
}

type SightedKey = (i64, i32, i32);

async fn sight(connection: &mut PgConnection, counted: &[&Counted]) -> Result<(), StoreError> {
    let mut sightings: BTreeMap<SightedKey, Sighting> = BTreeMap::new();
    for change in counted {
        let at = change.occurrence.at();
        let sighting = sightings
            .entry((change.cause, change.environment, change.version))
            .or_insert(Sighting {
                first: at,
                last: at,
                n: 0,
                uncaught: 0,
                severity: 0,
                is_lessened: false,
            });
        sighting.first = sighting.first.min(at);
        sighting.last = sighting.last.max(at);
        sighting.n += change.n;
        sighting.uncaught += change.uncaught;
        sighting.severity = sighting.severity.max(change.severity);
        sighting.is_lessened |= change.n < 0;
    }
    if sightings.is_empty() {
        return Ok(());
    }
    // An insert of a negative count would break the table's check before the conflict is seen: the row is there, so its
    // count is lowered by an update of its own.
    let (lessened, raised): (Vec<_>, Vec<_>) = sightings
        .iter()
        .partition(|(_, sighting)| sighting.n < 0 || sighting.uncaught < 0);
    upsert_sighted(connection, &raised).await?;
    lower_sighted(connection, &lessened).await?;
    let keys: Vec<SightedKey> = sightings
        .iter()
        .filter(|(_, sighting)| sighting.is_lessened)
        .map(|(key, _)| *key)
        .collect();
    resight(connection, &keys).await
}

async fn lower_sighted(connection: &mut PgConnection, rows: &[(&SightedKey, &Sighting)]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "UPDATE sighted s SET n = s.n + new.n, uncaught = s.uncaught + new.uncaught \
         FROM UNNEST($1::bigint[], $2::int[], $3::int[], $4::bigint[], $5::bigint[]) AS new (cause, environment, \
         version, n, uncaught) \
         WHERE s.cause_id = new.cause AND s.environment_id = new.environment AND s.version_id = new.version",
    )
    .bind(rows.iter().map(|(key, _)| key.0).collect::<Vec<_>>())
    .bind(rows.iter().map(|(key, _)| key.1).collect::<Vec<_>>())
    .bind(rows.iter().map(|(key, _)| key.2).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, sighting)| sighting.n).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, sighting)| sighting.uncaught).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

async fn upsert_sighted(connection: &mut PgConnection, rows: &[(&SightedKey, &Sighting)]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "INSERT INTO sighted AS s (cause_id, environment_id, version_id, first_at, last_at, n, uncaught, severity) \
         SELECT * FROM UNNEST($1::bigint[], $2::int[], $3::int[], $4::timestamptz[], $5::timestamptz[], $6::bigint[], \
         $7::bigint[], $8::smallint[]) \
             AS new (a, b, c, first_at, last_at, n, uncaught, severity) ORDER BY 1, 2, 3 \
         ON CONFLICT (cause_id, environment_id, version_id) DO UPDATE SET first_at = LEAST(s.first_at, \
         excluded.first_at), \
             last_at = GREATEST(s.last_at, excluded.last_at), n = s.n + excluded.n, uncaught = s.uncaught + \
             excluded.uncaught, \
             severity = GREATEST(s.severity, excluded.severity)",
    )
    .bind(rows.iter().map(|(key, _)| key.0).collect::<Vec<_>>())
    .bind(rows.iter().map(|(key, _)| key.1).collect::<Vec<_>>())
    .bind(rows.iter().map(|(key, _)| key.2).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, s)| to_utc(s.first)).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, s)| to_utc(s.last)).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, s)| s.n).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, s)| s.uncaught).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, s)| s.severity).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// Reads first, last and severity anew after occurrences were taken back: they may have been the
/// first or the last. Each is one step along the index of the cause's occurrences, since all of
/// them may be millions. What has no row, by retention or by its count alone, moves nothing: then
/// the first stays, and the last is never later than it was.
async fn resight(connection: &mut PgConnection, keys: &[SightedKey]) -> Result<(), StoreError> {
    if keys.is_empty() {
        return Ok(());
    }
    let (causes, environments, versions) = (
        keys.iter().map(|key| key.0).collect::<Vec<_>>(),
        keys.iter().map(|key| key.1).collect::<Vec<_>>(),
        keys.iter().map(|key| key.2).collect::<Vec<_>>(),
    );
    for statement in [
        "DELETE FROM sighted s USING UNNEST($1::bigint[], $2::int[], $3::int[]) AS gone (cause, environment, version) \
         WHERE s.cause_id = gone.cause AND s.environment_id = gone.environment AND s.version_id = gone.version AND \
         s.n = 0",
        "UPDATE sighted s SET \
             first_at = CASE WHEN s.first_at >= id_time(first.id) - interval '2 hours' THEN id_time(first.id) ELSE \
             s.first_at END, \
             last_at = CASE WHEN s.last_at <= id_time(last.id) + interval '2 hours' THEN id_time(last.id) ELSE \
             s.last_at END, \
             severity = coalesce(severest.severity, s.severity) \
         FROM UNNEST($1::bigint[], $2::int[], $3::int[]) AS w (cause, environment, version), \
         LATERAL (SELECT o.id FROM occurrence o WHERE o.cause_id = w.cause AND o.environment_id = w.environment AND \
         o.version_id = w.version \
             ORDER BY o.id LIMIT 1) first, \
         LATERAL (SELECT o.id FROM occurrence o WHERE o.cause_id = w.cause AND o.environment_id = w.environment AND \
         o.version_id = w.version \
             ORDER BY o.id DESC LIMIT 1) last, \
         LATERAL (SELECT max(newest.severity) AS severity FROM (SELECT o.severity FROM occurrence o WHERE o.cause_id \
         = w.cause \
             AND o.environment_id = w.environment AND o.version_id = w.version ORDER BY o.id DESC LIMIT 1000) newest) \
             severest \
         WHERE s.cause_id = w.cause AND s.environment_id = w.environment AND s.version_id = w.version",
    ] {
        sqlx::query(statement)
            .bind(&causes)
            .bind(&environments)
            .bind(&versions)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// How much later a version's last event must be before it is written again, in milliseconds: else every batch would
/// update the same few rows.
const DEPLOYED_STEP_MS: i64 = 60_000;

async fn deploy(
    connection: &mut PgConnection,
    work: &Work<'_>,
    deployed: &Deployed,
) -> Result<Vec<(SenderIds, DeployedSpan)>, StoreError> {
    let mut seen: BTreeMap<SenderIds, (i64, i64)> = BTreeMap::new();
    let mut see = |sender: SenderIds, at: i64| {
        let span = seen.entry(sender).or_insert((at, at));
        *span = (span.0.min(at), span.1.max(at));
    };
    for (sender, _, span) in &work.requests {
        if let Some(entry) = &span.entry {
            see(*sender, entry.at.millis());
        }
    }
    for (sender, at) in &work.seen {
        see(*sender, at.millis());
    }
    {
        let written = deployed.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        seen.retain(|sender, (first, last)| {
            let is_new = written
                .get(sender)
                .is_none_or(|(from, to)| *first < *from || *last > to + DEPLOYED_STEP_MS);
            if let Some((from, to)) = written.get(sender) {
                (*first, *last) = ((*first).min(*from), (*last).max(*to));
            }
            is_new
        });
    }
    if seen.is_empty() {
        return Ok(vec![]);
    }
    let time = |millis: i64| to_utc(Timestamp::from_millis(millis));
    sqlx::query(
        "INSERT INTO deployed AS d (service_id, environment_id, version_id, first_received_at, first_event_at, \
         last_event_at) \
         SELECT a, b, c, now(), first, last FROM UNNEST($1::int[], $2::int[], $3::int[], $4::timestamptz[], \
         $5::timestamptz[]) AS new (a, b, c, first, last) \
         ORDER BY 1, 2, 3 \
         ON CONFLICT (service_id, environment_id, version_id) DO UPDATE SET first_event_at = LEAST(d.first_event_at, \
         excluded.first_event_at), \
             last_event_at = GREATEST(d.last_event_at, excluded.last_event_at)",
    )
    .bind(seen.keys().map(|sender| sender.service).collect::<Vec<_>>())
    .bind(seen.keys().map(|sender| sender.environment).collect::<Vec<_>>())
    .bind(seen.keys().map(|sender| sender.version).collect::<Vec<_>>())
    .bind(seen.values().map(|(first, _)| time(*first)).collect::<Vec<_>>())
    .bind(seen.values().map(|(_, last)| time(*last)).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(seen.into_iter().collect())
}
