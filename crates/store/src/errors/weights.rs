//! How much errors of a service or of one of its endpoints weigh in the ranking.

use std::collections::HashMap;

use crate::boxed;
use crate::{Database, StoreError};

/// Weights by service and endpoint; an empty endpoint is the service's.
pub type Weights = HashMap<(String, String), f64>;

/// Factors that may be set: a rank can be shifted, not turned upside down.
pub const FACTORS: std::ops::RangeInclusive<f32> = 0.1..=4.0;

/// The weights that people have set.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn all(database: &Database) -> Result<Weights, StoreError> {
    let rows: Vec<(String, String, f32)> = sqlx::query_as(
        "SELECT coalesce(service.display_name, weight.service), endpoint, factor FROM weight \
         LEFT JOIN service ON service.id IN (SELECT services_named(weight.service))",
    )
    .fetch_all(&database.pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(service, endpoint, factor)| ((service, endpoint), rounded(factor)))
        .collect())
}

/// Those of one service by endpoint, in the order of names; an empty endpoint is the service's own.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_service(database: &Database, service: &str) -> Result<Vec<(String, f64)>, StoreError> {
    let rows: Vec<(String, f32)> =
        sqlx::query_as("SELECT endpoint, factor FROM weight WHERE service = $1 ORDER BY endpoint")
            .bind(service)
            .fetch_all(&database.pool)
            .await?;
    Ok(rows
        .into_iter()
        .map(|(endpoint, factor)| (endpoint, rounded(factor)))
        .collect())
}

/// Sets the weight of a service or of one of its endpoints; 1 takes it away.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn set(database: &Database, service: &str, endpoint: &str, factor: f32) -> Result<(), StoreError> {
    if (factor - 1.0).abs() < f32::EPSILON {
        sqlx::query("DELETE FROM weight WHERE service = $1 AND endpoint = $2")
            .bind(service)
            .bind(endpoint)
            .execute(&database.pool)
            .await?;
        return Ok(());
    }
    sqlx::query(
        "INSERT INTO weight (service, endpoint, factor) VALUES ($1, $2, $3) ON CONFLICT (service, endpoint) DO UPDATE \
         SET factor = excluded.factor",
    )
    .bind(service)
    .bind(endpoint)
    .bind(factor)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Sets all weights of a service anew, by endpoint; those of 1 are none.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn replace(database: &Database, service: &str, weights: &[(String, f32)]) -> Result<(), StoreError> {
    let (endpoints, factors): (Vec<&str>, Vec<f32>) = weights
        .iter()
        .filter(|(_, factor)| (factor - 1.0).abs() > f32::EPSILON)
        .map(|(endpoint, factor)| (endpoint.as_str(), *factor))
        .unzip();
    let mut transaction = database.pool.begin().await?;
    sqlx::query("DELETE FROM weight WHERE service = $1")
        .bind(service)
        .execute(&mut *transaction)
        .await?;
    sqlx::query(
        "INSERT INTO weight (service, endpoint, factor) SELECT DISTINCT ON (endpoint) $1, endpoint, factor \
         FROM UNNEST($2::text[], $3::real[]) AS said (endpoint, factor)",
    )
    .bind(service)
    .bind(&endpoints)
    .bind(&factors)
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(())
}

/// As it was typed: 0.2, not 0.200000003.
fn rounded(factor: f32) -> f64 {
    (f64::from(factor) * 1_000.0).round() / 1_000.0
}
