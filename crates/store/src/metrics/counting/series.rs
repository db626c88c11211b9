//! One hour of a counted question, as series of metrics.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Hasher;
use outcrop_core::metric::Kind;
use outcrop_core::query::Field;
use outcrop_core::question::{Group, Question};
use sqlx::{Connection, PgConnection};
use uuid::Uuid;

use crate::ids::uuid;
use crate::questions::{Cell, Row, answer};
use crate::{Database, Scope, StoreError};

/// Series of a question and service. What comes past them is one more series.
const MAX_SERIES: usize = 200;
/// Groups of an hour over all services: past them an hour is counted without the rest.
const MAX_GROUPS: u32 = 2_000;
/// The value of each split in the series of what is past [`MAX_SERIES`].
const OTHERS: &str = "(others)";

/// Which counted question series are of.
#[derive(Clone, Copy)]
pub(super) struct Of<'q> {
    pub id: i32,
    pub name: &'q str,
    pub step_ms: i32,
}

/// What a series is of: its service, and its splits with their values.
type Key = (i32, BTreeMap<String, String>);

/// Counts one hour, in the place of what was counted of it before.
pub(super) async fn one_hour(
    database: &Database,
    counted: Of<'_>,
    question: &Question,
    hour: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let step_ms = i64::from(counted.step_ms).max(60_000);
    let splits = question.by.clone();
    let mut by = splits.clone();
    // Each series is one service's: whom it is closed to does not see it.
    let service = Group::Field(Field::Service);
    let service_at = by.iter().position(|group| *group == service).unwrap_or_else(|| {
        by.push(service);
        by.len() - 1
    });
    let asked = Question {
        by,
        each: Some(step_ms),
        top: Some(MAX_GROUPS),
        ..question.clone()
    };
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: hour,
        to: (hour + TimeDelta::hours(1)).min(now + TimeDelta::minutes(1)),
        predicate: None,
    };
    let found = answer(database, &asked, &scope).await?;
    let mut connection = database.pool.acquire().await?;
    let mut transaction = connection.begin().await?;
    let names: Vec<(String, i32)> = sqlx::query_as("SELECT display_name, id FROM service")
        .fetch_all(&mut *transaction)
        .await?;
    let names: HashMap<String, i32> = names.into_iter().collect();
    let minutes = usize::try_from(step_ms / 60_000).unwrap_or(1);
    let kind = question.counted_kind();
    let mut series: BTreeMap<Key, Vec<Option<f64>>> = BTreeMap::new();
    for row in &found.rows {
        let Some(service) = row.keys.get(service_at).and_then(|name| names.get(name)) else {
            continue;
        };
        let key = splits
            .iter()
            .zip(&row.keys)
            .map(|(split, value)| (split.to_string(), value.clone()));
        series.insert((*service, key.collect()), values(row, minutes));
    }
    let of = (kind, question.counted_unit());
    let ids = numbered(&mut transaction, counted, of, &mut series, now).await?;
    write(&mut transaction, counted.id, hour, &series, &ids).await?;
    transaction.commit().await?;
    Ok(())
}

/// A number a minute, where a step begins.
fn values(row: &Row, minutes: usize) -> Vec<Option<f64>> {
    let mut values = vec![None; row.steps.len() * minutes];
    for (step, cells) in row.steps.iter().enumerate() {
        values[step * minutes] = match cells.first() {
            #[expect(clippy::cast_precision_loss, reason = "a count of an hour")]
            Some(Cell::Count(count)) => Some(*count as f64),
            Some(Cell::Number(number)) => Some(*number),
            _ => None,
        };
    }
    values
}

/// The number of a series, its service, and its splits with their values.
type Numbered = (i32, i32, sqlx::types::Json<BTreeMap<String, String>>);

/// Finds or makes the numbers of series. Those past the limit of their service become one, where they add up.
async fn numbered(
    connection: &mut PgConnection,
    counted: Of<'_>,
    (kind, unit): (Kind, &str),
    series: &mut BTreeMap<Key, Vec<Option<f64>>>,
    now: DateTime<Utc>,
) -> Result<HashMap<Key, i32>, StoreError> {
    let known: Vec<Numbered> =
        sqlx::query_as("SELECT id, service_id, attributes FROM metric_series WHERE counted_id = $1")
            .bind(counted.id)
            .fetch_all(&mut *connection)
            .await?;
    let mut of_service: HashMap<i32, usize> = HashMap::new();
    let mut ids: HashMap<Key, i32> = HashMap::new();
    for (id, service, attributes) in known {
        *of_service.entry(service).or_default() += 1;
        ids.insert((service, attributes.0), id);
    }
    let new: Vec<Key> = series.keys().filter(|key| !ids.contains_key(*key)).cloned().collect();
    let mut made = vec![];
    for key in new {
        let there = of_service.entry(key.0).or_default();
        if *there < MAX_SERIES {
            *there += 1;
            made.push(key);
            continue;
        }
        let Some(values) = series.remove(&key) else { continue };
        if kind != Kind::Delta {
            continue;
        }
        let others: Key = (
            key.0,
            key.1.into_keys().map(|split| (split, OTHERS.to_owned())).collect(),
        );
        let sums = series.entry(others.clone()).or_insert_with(|| vec![None; values.len()]);
        for (sum, value) in sums.iter_mut().zip(values) {
            *sum = match (*sum, value) {
                (Some(sum), Some(value)) => Some(sum + value),
                (one, other) => one.or(other),
            };
        }
        if !ids.contains_key(&others) && !made.contains(&others) {
            made.push(others);
        }
    }
    let day = i32::try_from(now.timestamp().div_euclid(86_400)).unwrap_or_default();
    let used: Vec<i32> = series.keys().filter_map(|key| ids.get(key).copied()).collect();
    sqlx::query("UPDATE metric_series SET used_day = $2 WHERE id = ANY($1) AND used_day < $2")
        .bind(used)
        .bind(day)
        .execute(&mut *connection)
        .await?;
    let attributes = |key: &Key| serde_json::to_value(&key.1).unwrap_or_default();
    let hash = |key: &Key| {
        let mut hasher = Hasher::default();
        hasher
            .number(u64::from(counted.id.unsigned_abs()))
            .number(u64::from(key.0.unsigned_abs()));
        hasher.part(attributes(key).to_string().as_bytes());
        uuid(hasher.finish())
    };
    let hashes: Vec<Uuid> = made.iter().map(hash).collect();
    let rows: Vec<Numbered> = sqlx::query_as(
        "INSERT INTO metric_series (hash, service_id, environment_id, version_id, name, unit, kind, instance, attributes, \
         used_day, counted_id) SELECT hash, service, 0, 0, $4, $8, $5, '', attributes, $6, $7 FROM UNNEST($1::uuid[], \
         $2::int[], $3::jsonb[]) AS new (hash, service, attributes) ORDER BY 1 ON CONFLICT (hash) DO UPDATE SET used_day = \
         excluded.used_day RETURNING id, service_id, attributes",
    )
    .bind(hashes)
    .bind(made.iter().map(|key| key.0).collect::<Vec<_>>())
    .bind(made.iter().map(attributes).collect::<Vec<_>>())
    .bind(counted.name)
    .bind(kind.number())
    .bind(day)
    .bind(counted.id)
    .bind(unit)
    .fetch_all(connection)
    .await?;
    ids.extend(
        rows.into_iter()
            .map(|(id, service, attributes)| ((service, attributes.0), id)),
    );
    Ok(ids)
}

/// Writes an hour of all series of a question; series that have nothing any more lose the hour.
async fn write(
    connection: &mut PgConnection,
    counted: i32,
    hour: DateTime<Utc>,
    series: &BTreeMap<Key, Vec<Option<f64>>>,
    ids: &HashMap<Key, i32>,
) -> Result<(), StoreError> {
    let rows: Vec<(i32, i32, String)> = (series.iter())
        .filter_map(|(key, values)| {
            let last = values.iter().rposition(Option::is_some)?;
            let each: Vec<String> = (values.iter().take(last + 1))
                .map(|value| value.map_or_else(|| "NULL".to_owned(), |value| value.to_string()))
                .collect();
            Some((*ids.get(key)?, key.0, format!("{{{}}}", each.join(","))))
        })
        .collect();
    let written: Vec<i32> = rows.iter().map(|(id, ..)| *id).collect();
    sqlx::query(
        "DELETE FROM metric_hour WHERE hour = $1 AND series_id IN (SELECT id FROM metric_series WHERE counted_id = $2) AND \
         NOT series_id = ANY($3)",
    )
    .bind(hour)
    .bind(counted)
    .bind(&written)
    .execute(&mut *connection)
    .await?;
    sqlx::query(
        "INSERT INTO metric_hour (series_id, hour, service_id, minute_values) SELECT id, $1, service, texts::real[] FROM \
         UNNEST($2::int[], $3::int[], $4::text[]) AS new (id, service, texts) ORDER BY 1 ON CONFLICT (series_id, hour) DO \
         UPDATE SET minute_values = excluded.minute_values WHERE metric_hour.minute_values IS DISTINCT FROM \
         excluded.minute_values",
    )
    .bind(hour)
    .bind(&written)
    .bind(rows.iter().map(|(_, service, _)| *service).collect::<Vec<_>>())
    .bind(rows.iter().map(|(.., text)| text.as_str()).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}
