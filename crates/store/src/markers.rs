//! Change markers: what changed and is no deploy.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::deploys::Flag;
use crate::{Database, StoreError, deploys};

/// A change to mark.
#[derive(Clone, Debug)]
pub struct NewMarker {
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over.
    pub ended_at: Option<DateTime<Utc>>,
    /// What it is: `database`, `configuration`, `provisioning`, `other`.
    pub kind: String,
    /// In a few words.
    pub title: String,
    /// The service it may touch; all where none.
    pub service: Option<String>,
    /// The environment it may touch; all where none.
    pub environment: Option<String>,
    /// Where more is said; may be empty.
    pub link: String,
    /// Who marked it.
    pub by: String,
}

/// A change that was marked.
#[derive(Clone, Debug, FromRow)]
pub struct Marker {
    /// Its number.
    pub id: i32,
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over.
    pub ended_at: Option<DateTime<Utc>>,
    /// What it is.
    pub kind: String,
    /// In a few words.
    pub title: String,
    /// The service it may touch; all where none.
    pub service: Option<String>,
    /// The environment it may touch; all where none.
    pub environment: Option<String>,
    /// Where more is said; may be empty.
    pub link: String,
    /// Who marked it.
    pub by: String,
}

/// Marks a change. A service or environment that never sent anything is not known: then `None`, else the marker's number.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn mark(database: &Database, marker: &NewMarker) -> Result<Option<i32>, StoreError> {
    let found: Option<(i32,)> = sqlx::query_as(
        "INSERT INTO marker (at, ended_at, kind, title, service_id, environment_id, link, made_by) \
         SELECT $1, $2, $3, $4, (SELECT min(id) FROM service WHERE name = $5), (SELECT id FROM environment WHERE name = $6), $7, $8 \
         WHERE ($5::text IS NULL OR EXISTS (SELECT FROM service WHERE name = $5)) AND ($6::text IS NULL OR EXISTS (SELECT FROM environment WHERE name = $6)) \
         RETURNING id",
    )
    .bind(marker.at)
    .bind(marker.ended_at)
    .bind(&marker.kind)
    .bind(&marker.title)
    .bind(&marker.service)
    .bind(&marker.environment)
    .bind(&marker.link)
    .bind(&marker.by)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map(|(id,)| id))
}

const SELECT: &str = "SELECT marker.id, marker.at, marker.ended_at, marker.kind, marker.title, service.name AS service, environment.name AS environment, \
     marker.link, marker.made_by AS by FROM marker LEFT JOIN service ON service.id = marker.service_id \
     LEFT JOIN environment ON environment.id = marker.environment_id ";

/// Changes of a window that may touch a service and an environment, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn list(
    database: &Database,
    (service, environment): (Option<&str>, Option<&str>),
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    limit: i64,
) -> Result<Vec<Marker>, StoreError> {
    let statement = format!(
        "{SELECT} WHERE marker.at >= $1 AND marker.at < $2 AND ($3::text IS NULL OR service.name IS NULL OR service.name = $3) \
         AND ($4::text IS NULL OR environment.name IS NULL OR environment.name = $4) ORDER BY marker.at DESC, marker.id DESC LIMIT $5"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(from)
        .bind(to)
        .bind(service)
        .bind(environment)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

/// One marked change.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn one(database: &Database, id: i32) -> Result<Option<Marker>, StoreError> {
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(format!("{SELECT} WHERE marker.id = $1"))).bind(id).fetch_optional(&database.pool).await?)
}

/// Takes a marker away. Returns whether it was there.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn remove(database: &Database, id: i32) -> Result<bool, StoreError> {
    Ok(sqlx::query("DELETE FROM marker WHERE id = $1").bind(id).execute(&database.pool).await?.rows_affected() > 0)
}

/// Surges that began without a deploy after a marked change, where it may have touched them.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn flags_after(database: &Database, marker: &Marker, until: DateTime<Utc>) -> Result<Vec<Flag>, StoreError> {
    let flags = deploys::began_within(database, marker.at, until).await?;
    let is_touched = |of: &Option<String>, name: &str| of.as_deref().is_none_or(|of| of == name);
    Ok(flags
        .into_iter()
        .filter(|flag| is_touched(&marker.service, &flag.service) && is_touched(&marker.environment, &flag.environment))
        .collect())
}

/// Requests and failed ones that a marked change may have touched, over a time.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn traffic(database: &Database, marker: &Marker, (from, to): (DateTime<Utc>, DateTime<Utc>)) -> Result<(i64, i64), StoreError> {
    Ok(sqlx::query_as(
        "SELECT coalesce(sum(requests), 0)::bigint, coalesce(sum(failed), 0)::bigint FROM traffic_minute t \
         WHERE minute >= date_trunc('minute', $1::timestamptz) AND minute < $2 \
         AND ($3::text IS NULL OR t.service_id IN (SELECT id FROM service WHERE name = $3)) \
         AND ($4::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $4))",
    )
    .bind(from)
    .bind(to)
    .bind(&marker.service)
    .bind(&marker.environment)
    .fetch_one(&database.pool)
    .await?)
}
