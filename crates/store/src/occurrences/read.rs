//! Reading occurrences: one in full, and one chosen among those of an error.

use chrono::{DateTime, Utc};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::stack::Stack;
use outcrop_core::telemetry::SpanId;
use outcrop_core::{Reference, Timestamp};
use sqlx::{AssertSqlSafe, FromRow};
use uuid::Uuid;

use crate::boxed;
use crate::ids::{id_uuid, number};
use crate::stacks::unpack_stack;
use crate::{Database, StoreError, asking, from_utc, to_utc};

/// An occurrence in a list.
#[derive(Clone, Debug, FromRow)]
pub struct OccurrenceRow {
    id: Uuid,
    /// Its service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// The endpoint of its request, where known.
    pub endpoint: Option<String>,
    /// The exception's type.
    pub type_name: String,
    /// The exception's message.
    pub message: String,
    /// OTLP severity number.
    pub severity: i16,
    /// Whether it ended a request, job or process.
    pub uncaught: bool,
    trace_id: Option<Uuid>,
    span_id: Option<i64>,
    /// When it was received.
    pub received_at: DateTime<Utc>,
    /// The host's name, where given.
    pub host: Option<String>,
    /// The instance's id, where given.
    pub instance: Option<String>,
    /// The user, where given.
    pub user: Option<String>,
    /// What was asked for beside all this, in its order.
    #[sqlx(default)]
    pub values: Vec<Option<String>>,
}

impl OccurrenceRow {
    /// Its id.
    #[must_use]
    pub const fn id(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }

    /// When it happened.
    #[must_use]
    pub fn at(&self) -> Timestamp {
        self.id().at()
    }

    /// Its trace in lower-case hex.
    #[must_use]
    pub fn trace_id(&self) -> Option<String> {
        self.trace_id.map(|id| id.simple().to_string())
    }

    /// Its span in lower-case hex.
    #[must_use]
    pub fn span_id(&self) -> Option<String> {
        self.span_id
            .map(|id| format!("{:016x}", u64::from_ne_bytes(id.to_ne_bytes())))
    }
}

/// One occurrence in full.
#[derive(Clone, Debug)]
pub struct Full {
    /// What the list says of it.
    pub row: OccurrenceRow,
    /// The error it belongs to.
    pub error: Reference,
    /// Attributes of the record, as JSON.
    pub attributes: serde_json::Value,
    /// Attributes of the resource, as JSON.
    pub resource: serde_json::Value,
    /// Frames as JSON, in the form of `outcrop_core::stack::Stack`; `None` where the runtime is not known.
    pub stack: Option<serde_json::Value>,
    /// The exact data sent, less what was scrubbed, as OTLP/JSON; `None` where it was not sampled.
    pub sent: Option<serde_json::Value>,
    /// Further reports of the same failure: when, on which span, with which message.
    pub also_reported: Vec<AlsoReported>,
}

/// A further report of the same failure.
#[derive(Clone, Debug, FromRow)]
pub struct AlsoReported {
    id: Uuid,
    span_id: Option<i64>,
    /// The type it gave.
    pub type_name: String,
    /// The message it gave.
    pub message: String,
}

impl AlsoReported {
    /// When it was reported.
    #[must_use]
    pub fn at(&self) -> Timestamp {
        OccurrenceId(*self.id.as_bytes()).at()
    }

    /// The span it was reported on, in lower-case hex.
    #[must_use]
    pub fn span_id(&self) -> Option<String> {
        self.span_id
            .map(|id| format!("{:016x}", u64::from_ne_bytes(id.to_ne_bytes())))
    }
}

#[derive(FromRow)]
struct FullRow {
    #[sqlx(flatten)]
    row: OccurrenceRow,
    error_id: i32,
    attributes: serde_json::Value,
    resource: serde_json::Value,
    stack: Option<Vec<u8>>,
    payload: Option<Vec<u8>>,
}

/// One occurrence in full. The id of a report that is part of an occurrence finds that occurrence.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn one(database: &Database, id: OccurrenceId) -> Result<Option<Full>, StoreError> {
    let merged: Option<(Uuid,)> = sqlx::query_as("SELECT part_of FROM also_reported WHERE id = $1")
        .bind(id_uuid(id))
        .fetch_optional(&database.pool)
        .await?;
    let id = merged.map_or(id_uuid(id), |(id,)| id);
    let statement = include_str!("../../queries/occurrences/one.sql").replace("OF_USER", asking::USER);
    let found: Option<FullRow> = sqlx::query_as(AssertSqlSafe(statement))
        .bind(id)
        .fetch_optional(&database.pool)
        .await?;
    let Some(found) = found else { return Ok(None) };
    let also_reported: Vec<AlsoReported> = sqlx::query_as(
        "SELECT id, span_id, type AS type_name, message FROM also_reported WHERE part_of = $1 ORDER BY id",
    )
    .bind(id)
    .fetch_all(&database.pool)
    .await?;
    let sent = found
        .payload
        .and_then(|packed| zstd::stream::decode_all(packed.as_slice()).ok());
    Ok(Some(Full {
        error: Reference::of_number(u32::from_ne_bytes(found.error_id.to_ne_bytes())),
        row: found.row,
        attributes: found.attributes,
        resource: found.resource,
        stack: found.stack.and_then(|json| serde_json::from_slice(&json).ok()),
        sent: sent.and_then(|json| serde_json::from_slice(&json).ok()),
        also_reported,
    }))
}

/// Where and when an occurrence happened.
#[derive(Clone, Debug, FromRow)]
pub struct Position {
    id: Uuid,
    /// Its trace, if any.
    pub trace_id: Option<Uuid>,
    span_id: Option<i64>,
    message: String,
}

impl Position {
    /// When, to the millisecond.
    #[must_use]
    pub fn at(&self) -> DateTime<Utc> {
        to_utc(OccurrenceId(*self.id.as_bytes()).at())
    }

    /// The span it was reported on, if any.
    #[must_use]
    pub fn span(&self) -> Option<SpanId> {
        self.span_id.map(|span| SpanId(u64::from_ne_bytes(span.to_ne_bytes())))
    }

    /// Whether a log line says nothing but what the occurrence says.
    #[must_use]
    pub fn is_said_by(&self, line: &str) -> bool {
        !self.message.is_empty() && line.ends_with(self.message.lines().next().unwrap_or_default())
    }
}

/// Where and when an occurrence happened; `None` where there is none of this id.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn place(database: &Database, id: OccurrenceId) -> Result<Option<Position>, StoreError> {
    let statement = "SELECT id, trace_id, span_id, message FROM occurrence \
                     WHERE id = coalesce((SELECT part_of FROM also_reported WHERE id = $1), $1)";
    Ok(sqlx::query_as(statement)
        .bind(id_uuid(id))
        .fetch_optional(&database.pool)
        .await?)
}

/// The stack of an error's latest occurrence that has one.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn latest_stack(database: &Database, error: Reference) -> Result<Option<Stack<'static>>, StoreError> {
    let found: Option<(Vec<u8>,)> = sqlx::query_as(
        "SELECT s.frames FROM (SELECT o.stack, o.id FROM occurrence o WHERE o.cause_id IN (SELECT id FROM cause WHERE \
         error_id = $1) AND o.stack IS NOT NULL \
         ORDER BY o.id DESC LIMIT 1) o JOIN stack s ON s.hash = o.stack",
    )
    .bind(number(error))
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.and_then(|(frames,)| unpack_stack(&frames)))
}

/// Which occurrence of an error to stand at.
#[derive(Clone, Debug)]
pub enum Choice {
    /// The first one kept.
    First,
    /// The newest.
    Latest,
    /// The one that tells most, of the newest 500.
    Fullest,
    /// The next older one than this.
    Older(OccurrenceId),
    /// The next newer one than this.
    Newer(OccurrenceId),
    /// This one.
    At(OccurrenceId),
    /// The first one at this time or later.
    From(DateTime<Utc>),
    /// The newest in this version.
    InVersion(String),
}

/// An occurrence chosen, and where it stands among those kept.
#[derive(Clone, Copy, Debug)]
pub struct Chosen {
    /// The occurrence.
    pub id: OccurrenceId,
    /// Its place, from 1 for the first.
    pub position: i64,
    /// How many are kept.
    pub total: i64,
}

/// Finds the occurrence chosen, in one environment where one is given; `None` where there is none further.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn choose(
    database: &Database,
    error: Reference,
    choice: &Choice,
    environment: Option<&str>,
) -> Result<Option<Chosen>, StoreError> {
    let (kind, at, version) = match choice {
        Choice::First => ("first", None, None),
        Choice::Latest => ("latest", None, None),
        Choice::Fullest => ("fullest", None, None),
        Choice::Older(id) => ("older", Some(id_uuid(*id)), None),
        Choice::Newer(id) => ("newer", Some(id_uuid(*id)), None),
        Choice::At(id) => ("at", Some(id_uuid(*id)), None),
        Choice::From(time) => ("from", Some(id_uuid(OccurrenceId::first_at(from_utc(*time)))), None),
        Choice::InVersion(version) => ("latest", None, Some(version)),
    };
    let found: Option<(Uuid, i64, i64)> = sqlx::query_as(include_str!("../../queries/occurrences/choose.sql"))
        .bind(i32::from_ne_bytes(error.number().to_ne_bytes()))
        .bind(environment)
        .bind(version)
        .bind(kind)
        .bind(at)
        .fetch_optional(&database.pool)
        .await?;
    Ok(found.map(|(id, position, total)| Chosen {
        id: OccurrenceId(*id.as_bytes()),
        position,
        total,
    }))
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::super::list::tests::six;
    use super::super::list::{Wanted, of_error};
    use super::*;
    use crate::testing::{database, now};

    #[tokio::test]
    async fn one_stands_at_the_first_the_latest_the_next_ones_and_past_the_ends_at_none() {
        let database = database().await;
        let (error, _) = six(&database).await;
        let at = async |choice: Choice| {
            let chosen = choose(&database, error, &choice, None).await.unwrap();
            chosen.map(|chosen| (chosen.position, chosen.total, chosen.id))
        };
        let (position, total, first) = at(Choice::First).await.unwrap();
        assert_eq!((position, total), (1, 6));
        let (position, _, latest) = at(Choice::Latest).await.unwrap();
        assert_eq!(position, 6);
        assert_eq!(at(Choice::Newer(first)).await.map(|found| found.0), Some(2));
        assert_eq!(at(Choice::Older(latest)).await.map(|found| found.0), Some(5));
        assert_eq!(at(Choice::Older(first)).await, None);
        assert_eq!(at(Choice::Newer(latest)).await, None);
        assert_eq!(at(Choice::At(latest)).await, Some((6, 6, latest)));
        assert_eq!(at(Choice::At(OccurrenceId::first_at(now()))).await, None);
        let second = to_utc(now()) - TimeDelta::minutes(2);
        assert_eq!(at(Choice::From(second)).await.map(|found| found.0), Some(1));
        assert_eq!(at(Choice::From(to_utc(now()) + TimeDelta::hours(1))).await, None);
        assert_eq!(
            at(Choice::InVersion("2.4.0".to_owned())).await.map(|found| found.0),
            Some(6)
        );
        assert_eq!(at(Choice::InVersion("9.9.9".to_owned())).await, None);
        let elsewhere = choose(&database, error, &Choice::Latest, Some("staging"))
            .await
            .unwrap();
        assert!(elsewhere.is_none());
    }

    #[tokio::test]
    async fn the_place_of_an_occurrence_names_its_trace_and_what_log_lines_repeat() {
        let database = database().await;
        let (error, scope) = six(&database).await;
        let row = &of_error(&database, error, &scope, &Wanted::newest(1)).await.unwrap()[0];
        let found = place(&database, row.id()).await.unwrap().unwrap();
        assert_eq!(found.span(), Some(SpanId(6)));
        assert!(found.is_said_by("BerthTaken: berth 6 is taken"));
        assert!(!found.is_said_by("berth 5 is taken"));
        assert!(place(&database, OccurrenceId::first_at(now())).await.unwrap().is_none());
    }
}
