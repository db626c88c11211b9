//! Points whose minute is over become minutes of an hour's row.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Timestamp;
use outcrop_core::metric::{Buckets, Kind, Minute, Sum, by_minute};
use sqlx::{Connection, PgConnection};

use super::{HourRow, Points, Standing, kind};
use crate::boxed;
use crate::{Database, StoreError, to_utc};

/// How long after a point's time it is folded: exporters and collectors hold it for a minute or so.
const LATE: TimeDelta = TimeDelta::seconds(90);
/// Series folded in one transaction.
const AT_ONCE: i64 = 2_000;
/// The minutes of an hour.
const MINUTES: usize = 60;

/// What the points of one series are, as they are taken out.
#[derive(sqlx::FromRow)]
struct Taken {
    service_id: i32,
    kind: i16,
    #[sqlx(flatten)]
    points: Points,
    #[sqlx(flatten)]
    standing: Standing,
}

/// Folds points of some series whose minute is over. Returns whether there are more.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time; the next round goes on.
#[boxed]
pub async fn fold(database: &Database, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let mut transaction = connection.begin().await?;
    // Of several instances one folds: the state of sums is read and written here.
    let is_first: bool = sqlx::query_scalar("SELECT pg_try_advisory_xact_lock(hashtext('outcrop metrics'))")
        .fetch_one(&mut *transaction)
        .await?;
    if !is_first {
        return Ok(false);
    }
    let rows: Vec<Taken> = sqlx::query_as(
        "WITH due AS MATERIALIZED (SELECT DISTINCT series_id FROM metric_point WHERE at < $1 ORDER BY 1 LIMIT $2), \
         taken AS (DELETE FROM metric_point p USING due WHERE p.series_id = due.series_id AND p.at < $1 RETURNING \
         p.series_id, p.at, p.start_at, p.value, p.n, p.buckets) SELECT t.series_id, s.service_id, s.kind, array_agg(t.at) AS at, \
         array_agg(t.start_at) AS start_at, array_agg(t.value) AS value, array_agg(t.n) AS n, array_agg(t.buckets) AS \
         buckets, s.sum_at, s.sum_start, s.sum_value, s.sum_count, s.sum_buckets FROM taken t JOIN metric_series s ON s.id = t.series_id GROUP BY t.series_id, s.id",
    )
    .bind(now - LATE)
    .bind(AT_ONCE)
    .fetch_all(&mut *transaction)
    .await?;
    let is_more = i64::try_from(rows.len()).unwrap_or_default() >= AT_ONCE;
    let mut hours = Hours::default();
    let mut sums = vec![];
    for row in rows {
        let kind = kind(row.kind);
        let mut sum = row.standing.sum();
        let series = row.points.series_id;
        for (minute, said) in by_minute(kind, row.points.each(), &mut sum) {
            hours.add((series, row.service_id, kind), minute, &said);
        }
        if let Some(sum) = sum.filter(|_| kind.is_cumulative()) {
            sums.push((series, sum));
        }
    }
    hours.store(&mut transaction).await?;
    stand(&mut transaction, &sums).await?;
    transaction.commit().await?;
    Ok(is_more)
}

/// An hour of a series: its service and kind, and what its minutes come to.
type Hour = (i32, Kind, BTreeMap<usize, Minute>);

#[derive(Default)]
struct Hours(BTreeMap<(i32, i64), Hour>);

impl Hours {
    fn add(&mut self, (series, service, kind): (i32, i32, Kind), minute: i64, said: &Minute) {
        let (hour, place) = (minute.div_euclid(60), minute.rem_euclid(60));
        let (_, _, minutes) = self
            .0
            .entry((series, hour))
            .or_insert_with(|| (service, kind, BTreeMap::new()));
        let place = usize::try_from(place).unwrap_or_default();
        minutes.entry(place).or_default().add(kind, said);
    }

    /// Writes the hours, joined to what is there of them.
    async fn store(mut self, connection: &mut PgConnection) -> Result<(), StoreError> {
        if self.0.is_empty() {
            return Ok(());
        }
        let keys: Vec<(i32, i64)> = self.0.keys().copied().collect();
        let at = |hour: i64| to_utc(Timestamp::from_millis(hour * 3_600_000));
        let there: Vec<HourRow> = sqlx::query_as(
            "SELECT series_id, hour, minute_values, minute_counts, minute_spreads FROM metric_hour WHERE (series_id, hour) IN \
             (SELECT * FROM UNNEST($1::int[], $2::timestamptz[])) FOR UPDATE",
        )
        .bind(keys.iter().map(|(series, _)| *series).collect::<Vec<_>>())
        .bind(keys.iter().map(|(_, hour)| at(*hour)).collect::<Vec<_>>())
        .fetch_all(&mut *connection)
        .await?;
        for row in there {
            let Some((_, kind, minutes)) = self.0.get_mut(&(row.series_id, row.hour.timestamp() / 3_600)) else {
                continue;
            };
            for (place, known) in row.minutes(*kind) {
                minutes.entry(place).or_default().add(*kind, &known);
            }
        }
        let rows: Vec<Arrays> = self.0.values().map(Arrays::of).collect();
        sqlx::query(
            "INSERT INTO metric_hour (series_id, hour, service_id, minute_values, minute_counts, minute_spreads) SELECT \
             series_id, hour, service_id, minute_values::real[], minute_counts::integer[], minute_spreads::bytea[] FROM \
             UNNEST($1::int[], $2::timestamptz[], $3::int[], $4::text[], $5::text[], $6::text[]) AS new (series_id, hour, \
             service_id, minute_values, minute_counts, minute_spreads) ORDER BY 1, 2 ON CONFLICT (series_id, hour) DO \
             UPDATE SET minute_values = excluded.minute_values, minute_counts = excluded.minute_counts, minute_spreads = \
             excluded.minute_spreads",
        )
        .bind(keys.iter().map(|(series, _)| *series).collect::<Vec<_>>())
        .bind(keys.iter().map(|(_, hour)| at(*hour)).collect::<Vec<_>>())
        .bind(self.0.values().map(|(service, ..)| *service).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.values.as_str()).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.counts.as_deref()).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.spreads.as_deref()).collect::<Vec<_>>())
        .execute(connection)
        .await?;
        Ok(())
    }
}

/// The arrays of an hour as PostgreSQL reads them, up to the last minute that has something.
struct Arrays {
    values: String,
    counts: Option<String>,
    spreads: Option<String>,
}

impl Arrays {
    fn of((_, kind, minutes): &Hour) -> Self {
        let last = minutes.keys().last().map_or(0, |last| last + 1).min(MINUTES);
        let list = |of: &dyn Fn(&Minute) -> Option<String>| {
            let each: Vec<String> = (0..last)
                .map(|place| minutes.get(&place).and_then(of).unwrap_or_else(|| "NULL".to_owned()))
                .collect();
            format!("{{{}}}", each.join(","))
        };
        // What a real cannot hold is the greatest that it can.
        let real = |minute: &Minute| minute.value.clamp(f64::from(f32::MIN), f64::from(f32::MAX));
        let has_spread = minutes.values().any(|minute| !minute.spread.is_empty());
        Self {
            values: list(&|minute| Some(real(minute).to_string())),
            counts: kind
                .is_distribution()
                .then(|| list(&|minute| Some(i32::try_from(minute.count).unwrap_or(i32::MAX).to_string()))),
            spreads: has_spread.then(|| {
                list(&|minute| {
                    (!minute.spread.is_empty()).then(|| format!("\"\\\\x{}\"", hex(&minute.spread.to_bytes())))
                })
            }),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes
        .iter()
        .fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
            write!(text, "{byte:02x}").unwrap_or_default();
            text
        })
}

/// Writes down where sums stand.
async fn stand(connection: &mut PgConnection, sums: &[(i32, Sum)]) -> Result<(), StoreError> {
    if sums.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "UPDATE metric_series s SET sum_at = new.at, sum_start = new.start_at, sum_value = new.value, sum_count = new.n, \
         sum_buckets = new.buckets FROM UNNEST($1::int[], $2::timestamptz[], $3::timestamptz[], $4::float8[], \
         $5::bigint[], $6::bytea[]) AS new (id, at, start_at, value, n, buckets) WHERE s.id = new.id",
    )
    .bind(sums.iter().map(|(series, _)| *series).collect::<Vec<_>>())
    .bind(sums.iter().map(|(_, sum)| to_utc(sum.last.at)).collect::<Vec<_>>())
    .bind(sums.iter().map(|(_, sum)| sum.last.start.map(to_utc)).collect::<Vec<_>>())
    .bind(sums.iter().map(|(_, sum)| sum.last.value).collect::<Vec<_>>())
    .bind(
        sums.iter()
            .map(|(_, sum)| i64::try_from(sum.last.count).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
    )
    .bind(
        sums.iter()
            .map(|(_, sum)| sum.last.buckets.as_ref().map(Buckets::to_bytes))
            .collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}
