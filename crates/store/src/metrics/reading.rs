//! Metrics by name, and what one of them comes to over time.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::metric::{Kind, Minute, Steps, Together, by_minute};
use sqlx::FromRow;

use super::counting::{CountedQuestion, counted_as};
use super::{HourRow, Points, Standing, kind};
use crate::boxed;
use crate::{Database, Scope, StoreError};

/// Series that one chart is drawn from.
pub const MAX_SERIES: i64 = 2_000;
/// Lines of one chart: more cannot be told apart.
const MAX_LINES: usize = 20;
/// Metrics that a list holds.
const MAX_LISTED: i64 = 1_000;

/// A metric in a list.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Its unit, as sent.
    pub unit: String,
    /// What its numbers are.
    pub kind: i16,
    /// How many series it has.
    pub series: i64,
    /// The services that send it.
    pub services: Vec<String>,
    /// The attributes that tell its series apart.
    pub attributes: Vec<String>,
    /// The question that it is counted by; none where services send it.
    pub question: Option<String>,
}

/// Metrics of a scope that came since a day before its window's end, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn list(database: &Database, scope: &Scope) -> Result<Vec<Listed>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT s.name, s.unit, min(s.kind) AS kind, count(*) AS series, array_agg(DISTINCT service.display_name) AS \
         services, ARRAY(SELECT DISTINCT key FROM metric_series o, jsonb_object_keys(o.attributes) key WHERE o.name = \
         s.name AND o.unit = s.unit ORDER BY 1 LIMIT 20) AS attributes, (SELECT question FROM counted WHERE counted.name = \
         s.name) AS question FROM metric_series s JOIN service ON service.id = s.service_id LEFT JOIN environment ON \
         environment.id = s.environment_id LEFT JOIN version ON version.id = s.version_id \
         WHERE s.used_day >= $1 AND ($2::text IS NULL OR s.service_id IN (SELECT services_named($2))) AND ($3::text IS \
         NULL OR coalesce(environment.name, s.attributes ->> 'environment') = $3) AND ($4::text IS NULL OR \
         coalesce(version.label, s.attributes ->> 'version') = $4) GROUP BY s.name, s.unit ORDER BY \
         s.name, s.unit LIMIT $5",
    )
    .bind(i32::try_from(scope.from.timestamp() / 86_400).unwrap_or_default())
    .bind(scope.service.as_deref())
    .bind(scope.environment.as_deref())
    .bind(scope.version.as_deref())
    .bind(MAX_LISTED)
    .fetch_all(&database.pool)
    .await?)
}

/// How a metric is asked for.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Its name.
    pub name: String,
    /// What its lines are by: `service`, `environment`, `version`, `instance` or an attribute; one line where `None`.
    pub by: Option<String>,
    /// How minutes and series are put together; as is usual for its kind where `None`.
    pub together: Option<Together>,
    /// Minutes of a step.
    pub minutes: u32,
}

/// A metric over time.
#[derive(Clone, Debug, PartialEq)]
pub struct Course {
    /// Its unit, as sent.
    pub unit: String,
    /// What its numbers are.
    pub kind: Kind,
    /// How minutes and series were put together.
    pub together: Together,
    /// The lines, those with the greatest numbers first; 20 at most.
    pub lines: Vec<Line>,
    /// How many lines there are in all.
    pub all_lines: usize,
    /// Whether there are more than [`MAX_SERIES`] series, of which only so many were read.
    pub is_cut: bool,
    /// How it is counted; `None` where services send it.
    pub counted: Option<CountedQuestion>,
}

/// One line of a chart.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// The value of what lines are by; empty where it is not set, and of the only line.
    pub key: String,
    /// A number a step; `None` where nothing came.
    pub values: Vec<Option<f64>>,
}

#[derive(FromRow)]
struct Series {
    id: i32,
    unit: String,
    kind: i16,
    key: String,
    #[sqlx(flatten)]
    standing: Standing,
}

/// What a metric comes to in a scope, over its window in whole steps; `None` where nobody sent it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn course(database: &Database, asked: &Asked, scope: &Scope) -> Result<Option<Course>, StoreError> {
    let series: Vec<Series> = sqlx::query_as(
        "SELECT s.id, s.unit, s.kind, s.sum_at, s.sum_start, s.sum_value, s.sum_count, s.sum_buckets, coalesce(CASE $5 WHEN \
         '' THEN '' WHEN 'service' THEN service.display_name WHEN 'environment' THEN environment.name WHEN 'version' THEN \
         version.label WHEN 'instance' THEN nullif(s.instance, '') END, s.attributes ->> $5, '') AS key FROM \
         metric_series s JOIN service ON service.id = s.service_id LEFT JOIN environment ON environment.id = \
         s.environment_id LEFT JOIN version ON version.id = s.version_id WHERE s.name = $1 AND s.counted_id IS NOT \
         DISTINCT FROM (SELECT id FROM counted WHERE name = $1) AND ($2::text IS NULL OR s.service_id IN (SELECT \
         services_named($2))) AND ($3::text IS NULL OR coalesce(environment.name, s.attributes ->> 'environment') = $3) AND \
         ($4::text IS NULL OR coalesce(version.label, s.attributes ->> 'version') = $4) ORDER BY s.used_day DESC, s.id \
         DESC LIMIT $6",
    )
    .bind(&asked.name)
    .bind(scope.service.as_deref())
    .bind(scope.environment.as_deref())
    .bind(scope.version.as_deref())
    .bind(asked.by.as_deref().unwrap_or_default())
    .bind(MAX_SERIES + 1)
    .fetch_all(&database.pool)
    .await?;
    let counted = counted_as(database, &asked.name).await?;
    // One name with several units or kinds is several metrics: that of the newest series is shown.
    let (unit, number) = match (series.first(), &counted) {
        (Some(series), _) => (series.unit.clone(), series.kind),
        (None, Some(counted)) => (String::new(), counted.kind().number()),
        (None, None) => return Ok(None),
    };
    let kind = kind(number);
    let together = asked.together.unwrap_or_else(|| Together::usual(kind));
    let is_cut = i64::try_from(series.len()).unwrap_or(i64::MAX) > MAX_SERIES;
    let mut chosen: BTreeMap<i32, (String, Standing)> = BTreeMap::new();
    for series in series
        .into_iter()
        .filter(|series| series.unit == unit && series.kind == number)
    {
        chosen.insert(series.id, (series.key, series.standing));
    }
    let step = TimeDelta::minutes(asked.minutes.max(1).into());
    let count = usize::try_from((scope.to - scope.from).num_minutes() / step.num_minutes()).unwrap_or_default() + 1;
    let mut lines: BTreeMap<String, Steps> = BTreeMap::new();
    let minutes = minutes(database, kind, &chosen, scope).await?;
    for (series, (key, _)) in &chosen {
        let mut own = minutes.range((*series, i64::MIN)..=(*series, i64::MAX)).peekable();
        if own.peek().is_none() {
            continue;
        }
        let steps = lines
            .entry(key.clone())
            .or_insert_with(|| Steps::new(kind, together, count));
        for ((_, minute), said) in own {
            let place = (minute - scope.from.timestamp().div_euclid(60)) / step.num_minutes();
            if let Ok(place) = usize::try_from(place) {
                steps.add(place, said);
            }
        }
        steps.end_series();
    }
    let mut lines: Vec<Line> = lines
        .into_iter()
        .map(|(key, steps)| Line {
            key,
            values: steps.finish(),
        })
        .collect();
    if let Some(counted) = counted.as_ref().filter(|_| kind == Kind::Delta) {
        fill_up(&mut lines, counted, (scope.from, scope.to), step);
    }
    let greatest = |line: &Line| line.values.iter().flatten().copied().fold(f64::NEG_INFINITY, f64::max);
    lines.sort_by(|one, other| {
        greatest(other)
            .total_cmp(&greatest(one))
            .then_with(|| one.key.cmp(&other.key))
    });
    let all_lines = lines.len();
    lines.truncate(MAX_LINES);
    Ok(Some(Course {
        unit,
        kind,
        together,
        lines,
        all_lines,
        is_cut,
        counted,
    }))
}

/// Where a question was counted and nothing was found, it came to nothing.
fn fill_up(lines: &mut [Line], counted: &CountedQuestion, (from, to): (DateTime<Utc>, DateTime<Utc>), step: TimeDelta) {
    let Some(first) = counted.counted_from else { return };
    for line in lines {
        let mut at = from;
        for value in &mut line.values {
            if at >= first && at < to {
                value.get_or_insert(0.0);
            }
            at += step;
        }
    }
}

/// The minutes of series in a window, by series and minute since 1970: those that are folded, and what the points that
/// are not yet come to.
pub(super) async fn minutes(
    database: &Database,
    kind: Kind,
    series: &BTreeMap<i32, (String, Standing)>,
    scope: &Scope,
) -> Result<BTreeMap<(i32, i64), Minute>, StoreError> {
    let ids: Vec<i32> = series.keys().copied().collect();
    let mut found: BTreeMap<(i32, i64), Minute> = BTreeMap::new();
    let window = scope.from.timestamp().div_euclid(60)..(scope.to.timestamp() + 59).div_euclid(60);
    let hours: Vec<HourRow> = sqlx::query_as(
        "SELECT series_id, hour, minute_values, minute_counts, minute_spreads FROM metric_hour WHERE series_id = ANY($1) AND hour > $2 - \
         interval '1 hour' AND hour < $3",
    )
    .bind(&ids)
    .bind(scope.from)
    .bind(scope.to)
    .fetch_all(&database.pool)
    .await?;
    for row in hours {
        for (place, said) in row.minutes(kind) {
            let minute = row.hour.timestamp().div_euclid(60) + i64::try_from(place).unwrap_or_default();
            if window.contains(&minute) {
                found.insert((row.series_id, minute), said);
            }
        }
    }
    let points: Vec<Points> = sqlx::query_as(
        "SELECT series_id, array_agg(at) AS at, array_agg(start_at) AS start_at, array_agg(value) AS value, array_agg(n) AS n, \
         array_agg(buckets) AS buckets FROM metric_point WHERE series_id = ANY($1) GROUP BY 1",
    )
    .bind(&ids)
    .fetch_all(&database.pool)
    .await?;
    for points in points {
        let id = points.series_id;
        let mut sum = series.get(&id).and_then(|(_, standing)| standing.sum());
        for (minute, said) in by_minute(kind, points.each(), &mut sum) {
            if window.contains(&minute) {
                found.entry((id, minute)).or_default().add(kind, &said);
            }
        }
    }
    Ok(found)
}
