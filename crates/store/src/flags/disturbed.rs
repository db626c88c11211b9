//! Times in which what services report could not be taken as it was, as the detector of flags knows them.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::{Disturbed, Measured, Minute};

use crate::boxed;
use crate::{Database, StoreError};

/// A service's disturbed times, with the environment where it has several.
pub type OfService = Vec<(Option<String>, Disturbed)>;

/// A disturbed time with the service and the environment, by their numbers.
pub(crate) type Known = (i32, i32, Disturbed);

const MISSING: &str = "missing";
const LUMPED: &str = "lumped";
const TIMES: &str = "times";
const UNSURE: &str = "unsure";
const NO_ERRORS: &str = "no errors";

fn stored(measured: Measured) -> (&'static str, f32) {
    #[expect(
        clippy::cast_possible_truncation,
        reason = "a factor between a hundredth and a hundred"
    )]
    match measured {
        Measured::Missing => (MISSING, 1.0),
        Measured::Lumped => (LUMPED, 1.0),
        Measured::Times(times) => (TIMES, times as f32),
        Measured::Unsure(times) => (UNSURE, times as f32),
        Measured::NoErrors => (NO_ERRORS, 1.0),
    }
}

fn measured(name: &str, times: f32) -> Option<Measured> {
    match name {
        MISSING => Some(Measured::Missing),
        LUMPED => Some(Measured::Lumped),
        TIMES => Some(Measured::Times(times.into())),
        UNSURE => Some(Measured::Unsure(times.into())),
        NO_ERRORS => Some(Measured::NoErrors),
        _ => None,
    }
}

fn time(minute: Minute) -> DateTime<Utc> {
    DateTime::from_timestamp(minute * 60, 0).unwrap_or_default()
}

/// Puts what is known now in place of what was.
pub(crate) async fn write(connection: &mut sqlx::PgConnection, known: &[Known]) -> Result<(), sqlx::Error> {
    sqlx::query("DELETE FROM disturbed").execute(&mut *connection).await?;
    let (names, times): (Vec<&str>, Vec<f32>) = known.iter().map(|(_, _, of)| stored(of.measured)).unzip();
    sqlx::query(
        "INSERT INTO disturbed (service_id, environment_id, measured, times, began_at, ended_at) \
         SELECT * FROM unnest($1::int[], $2::int[], $3::text[], $4::real[], $5::timestamptz[], $6::timestamptz[])",
    )
    .bind(known.iter().map(|(service, _, _)| *service).collect::<Vec<_>>())
    .bind(known.iter().map(|(_, environment, _)| *environment).collect::<Vec<_>>())
    .bind(names)
    .bind(times)
    .bind(known.iter().map(|(_, _, of)| time(of.from)).collect::<Vec<_>>())
    .bind(known.iter().map(|(_, _, of)| of.until.map(time)).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

#[derive(sqlx::FromRow)]
struct Row {
    service: i32,
    environment: String,
    measured: String,
    times: f32,
    began_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
    has_several: bool,
}

/// The disturbed times of each service in the 24 hours before a time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_services(database: &Database, now: DateTime<Utc>) -> Result<BTreeMap<i32, OfService>, StoreError> {
    let rows: Vec<Row> = sqlx::query_as(
        "WITH used AS MATERIALIZED (SELECT service_id, count(DISTINCT environment_id) > 1 AS several FROM served_hour \
             WHERE hour > $1 GROUP BY 1) \
         SELECT d.service_id AS service, environment.name AS environment, measured, times, began_at, ended_at, \
             coalesce(used.several, false) AS has_several \
         FROM disturbed d JOIN environment ON environment.id = d.environment_id LEFT JOIN used USING (service_id) \
         WHERE ended_at IS NULL OR ended_at > $1 ORDER BY d.service_id, environment.name, began_at",
    )
    .bind(now - TimeDelta::hours(24))
    .fetch_all(&database.pool)
    .await?;
    let mut of_services: BTreeMap<i32, OfService> = BTreeMap::new();
    for row in rows {
        let Some(measured) = measured(&row.measured, row.times) else {
            continue;
        };
        let minute = |at: DateTime<Utc>| at.timestamp().div_euclid(60);
        let disturbed = Disturbed {
            measured,
            from: minute(row.began_at),
            until: row.ended_at.map(minute),
        };
        of_services
            .entry(row.service)
            .or_default()
            .push((row.has_several.then_some(row.environment), disturbed));
    }
    Ok(of_services)
}
