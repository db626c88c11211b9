//! The requests that are kept by themselves.

use chrono::{DateTime, Utc};
use outcrop_core::failure::OccurrenceId;
use sqlx::{FromRow, QueryBuilder};
use uuid::Uuid;

use crate::boxed;
use crate::ids::id_uuid;
use crate::traces::Marks;
use crate::{Database, Scope, StoreError, to_utc};

/// Which kept requests to list.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Of this endpoint.
    pub endpoint: Option<String>,
    /// With this text in their endpoint's name or in what they said of themselves, whatever its case.
    pub text: Option<String>,
    /// With this status.
    pub status: Option<i16>,
    /// Only failed ones.
    pub failed: bool,
    /// Only slow ones, the longest first; else the newest first.
    pub slow: bool,
    /// Only those before this one, newest first.
    pub before: Option<OccurrenceId>,
}

/// A request that is kept by itself.
#[derive(Clone, Debug, FromRow)]
pub struct Request {
    id: Uuid,
    /// Its trace.
    pub trace_id: Uuid,
    /// Its entry span, as stored.
    pub span_id: i64,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// Its endpoint.
    pub endpoint: String,
    /// The HTTP status.
    pub status: Option<i16>,
    /// Whether it failed.
    pub failed: bool,
    marks: i16,
    /// How long it took, in microseconds.
    pub duration_us: i64,
    /// What it said of itself, where it failed or was refused.
    pub attributes: Option<serde_json::Value>,
}

impl Request {
    /// Its id; begins with its time.
    #[must_use]
    pub const fn id(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }

    /// When it began, to the millisecond.
    #[must_use]
    pub fn at(&self) -> DateTime<Utc> {
        to_utc(self.id().at())
    }

    /// Why it is kept.
    #[must_use]
    pub const fn marks(&self) -> Marks {
        Marks::of_bits(self.marks)
    }
}

/// Kept requests of a window.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn requests(
    database: &Database,
    scope: &Scope,
    wanted: &Wanted,
    limit: i64,
) -> Result<Vec<Request>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT t.id, t.trace_id, t.span_id, service.display_name AS service, environment.name AS environment, \
         version.label AS version, \
             endpoint.name AS endpoint, t.status, t.failed, t.marks, t.duration_us, t.attributes \
         FROM request t JOIN service ON service.id = t.service_id JOIN environment ON environment.id = \
         t.environment_id \
             JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id WHERE t.id >= \
             first_id_at(",
    );
    sql.push_bind(scope.from)
        .push(") AND t.id < first_id_at(")
        .push_bind(scope.to)
        .push(")");
    scope.narrow(&mut sql, "t");
    if let Some(endpoint) = &wanted.endpoint {
        sql.push(" AND endpoint.name = ").push_bind(endpoint.clone());
    }
    if let Some(text) = &wanted.text {
        let pattern = format!(
            "%{}%",
            text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
        );
        sql.push(" AND (endpoint.name ILIKE ")
            .push_bind(pattern.clone())
            .push(" OR t.attributes::text ILIKE ")
            .push_bind(pattern)
            .push(")");
    }
    if let Some(status) = wanted.status {
        sql.push(" AND t.status = ").push_bind(status);
    }
    if wanted.failed {
        sql.push(" AND t.failed");
    }
    if let Some(before) = wanted.before {
        sql.push(" AND t.id < ").push_bind(id_uuid(before));
    }
    if wanted.slow {
        sql.push(" AND t.marks & 2 <> 0 ORDER BY t.duration_us DESC, t.id DESC");
    } else {
        sql.push(" ORDER BY t.id DESC");
    }
    sql.push(" LIMIT ").push_bind(limit);
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}
