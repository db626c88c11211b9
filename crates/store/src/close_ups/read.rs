//! Reading close-ups and what they took.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::close_up::State;
use sqlx::FromRow;

use crate::ids::{number, reference};
use crate::occurrences::OccurrenceRow;
use crate::{Database, StoreError, boxed};

/// A close-up.
#[derive(Clone, Debug, FromRow)]
pub struct CloseUp {
    /// Its number.
    pub id: i32,
    error_id: Option<i32>,
    /// The service of its error.
    pub service: Option<String>,
    /// The title of its error.
    pub title: Option<String>,
    /// The predicate, where it is of no one error.
    pub predicate: Option<String>,
    wanted: i32,
    taken: i64,
    /// Until when at most.
    pub until: DateTime<Utc>,
    /// Whether who asked is told once it ends.
    pub tells: bool,
    /// Who asked.
    pub asked_by: String,
    /// When.
    pub asked_at: DateTime<Utc>,
    state: String,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Who ended it.
    pub ended_by: Option<String>,
}

impl CloseUp {
    /// The error that it is of.
    #[must_use]
    pub fn error(&self) -> Option<Reference> {
        self.error_id.map(reference)
    }

    /// Occurrences taken and wanted.
    #[must_use]
    pub fn counts(&self) -> (u32, u32) {
        let whole = |n: i64| u32::try_from(n).unwrap_or_default();
        (whole(self.taken), whole(self.wanted.into()))
    }

    /// Where it stands.
    #[must_use]
    pub fn state(&self) -> State {
        State::of(&self.state)
    }
}

/// Close-ups that are listed at most: those under way, and the newest of the others.
const LISTED: i64 = 100;

/// The statement that reads close-ups, but for what narrows and orders them.
const READ: &str = "SELECT u.id, u.error_id, s.display_name AS service, g.title, u.predicate, u.wanted, (SELECT count(*) \
    FROM close_up_taken t JOIN occurrence o ON o.id = t.occurrence_id WHERE t.close_up_id = u.id) AS taken, u.until, \
    u.tells, u.asked_by, u.asked_at, u.state, u.ended_at, u.ended_by FROM close_up u LEFT JOIN error_group g ON g.id = \
    u.error_id LEFT JOIN service s ON s.id = g.service_id";

/// Close-ups, of one error where one is given: those under way first, then the newest; 100 at most.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, error: Option<Reference>) -> Result<Vec<CloseUp>, StoreError> {
    let statement = format!(
        "{READ} WHERE $1::int IS NULL OR u.error_id = $1 ORDER BY (u.state = 'open') DESC, u.id DESC LIMIT {LISTED}"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(error.map(number))
        .fetch_all(&database.pool)
        .await?)
}

/// One close-up.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, id: i32) -> Result<Option<CloseUp>, StoreError> {
    let statement = format!("{READ} WHERE u.id = $1");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(id)
        .fetch_optional(&database.pool)
        .await?)
}

/// An occurrence that a close-up took.
#[derive(Clone, Debug, FromRow)]
pub struct Taken {
    /// The occurrence.
    #[sqlx(flatten)]
    pub row: OccurrenceRow,
    error_id: i32,
}

impl Taken {
    /// The error it belongs to.
    #[must_use]
    pub fn error(&self) -> Reference {
        reference(self.error_id)
    }
}

/// What a close-up took and is still kept, the first first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn taken(database: &Database, id: i32) -> Result<Vec<Taken>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, \
         endpoint.name AS endpoint, o.type AS type_name, o.message, o.severity, o.uncaught, o.trace_id, o.span_id, \
         o.received_at, resource.body ->> 'host.name' AS host, resource.body ->> 'service.instance.id' AS instance, \
         NULL::text AS \"user\", cause.error_id FROM close_up_taken t JOIN occurrence o ON o.id = t.occurrence_id JOIN \
         cause ON cause.id = o.cause_id JOIN service ON service.id = o.service_id JOIN environment ON environment.id = \
         o.environment_id JOIN version ON version.id = o.version_id LEFT JOIN endpoint ON endpoint.id = o.endpoint_id \
         LEFT JOIN resource ON resource.hash = o.resource WHERE t.close_up_id = $1 ORDER BY o.id",
    )
    .bind(id)
    .fetch_all(&database.pool)
    .await?)
}
