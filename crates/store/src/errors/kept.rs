//! How errors are handled, as it is kept: held while it changes, and written down.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use serde::{Deserialize, Serialize};
use sqlx::{FromRow, PgConnection};

use crate::StoreError;

/// Why nothing was done.
#[derive(Debug, thiserror::Error)]
pub enum HandlingError {
    /// Somebody did something since the change that the caller knew as the last.
    #[error("{by} did something about {error} meanwhile: look at it again")]
    Meanwhile {
        /// The error.
        error: Reference,
        /// Who did.
        by: String,
    },
    /// There is no such change of that error, or it did not change how it is handled.
    #[error("there is no change {0} of this error that could be undone")]
    NoChange(i64),
    /// The database did not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for HandlingError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// How an error is handled, with the times that belong to it: what a change can be undone to.
#[derive(Clone, Debug, Default, PartialEq, Eq, FromRow, Serialize, Deserialize)]
pub(super) struct Kept {
    pub(super) taken_by: Option<String>,
    pub(super) settled_in: Option<String>,
    #[serde(default)]
    pub(super) settled_by: Option<String>,
    pub(super) settled_at: Option<DateTime<Utc>>,
    pub(super) quiet_until: Option<DateTime<Utc>>,
    pub(super) quiet_where: Option<String>,
    pub(super) quiet_at: Option<DateTime<Utc>>,
}

impl Kept {
    pub(super) fn settled_in(self, version: &str, at: DateTime<Utc>) -> Self {
        Self {
            settled_in: Some(version.to_owned()),
            settled_by: None,
            settled_at: Some(at),
            ..self
        }
    }

    /// Whether it is settled by a commit that no deploy is known to hold.
    pub(super) const fn awaits_a_deploy(&self) -> bool {
        self.settled_by.is_some() && self.settled_in.is_none()
    }

    /// After a deploy that holds its commit.
    pub(super) fn met(&self, version: &str, at: DateTime<Utc>) -> Self {
        Self {
            settled_by: self.settled_by.clone(),
            ..self.clone().settled_in(version, at)
        }
    }
}

/// How an error is handled, held until the transaction ends: whoever acts on it meanwhile waits.
pub(super) async fn held(
    connection: &mut PgConnection,
    error: Reference,
    known: Option<i64>,
) -> Result<Kept, HandlingError> {
    let number = crate::ids::number(error);
    sqlx::query("INSERT INTO handling (error_id) VALUES ($1) ON CONFLICT DO NOTHING")
        .bind(number)
        .execute(&mut *connection)
        .await?;
    let kept = sqlx::query_as(
        "SELECT taken_by, settled_in, settled_by, settled_at, quiet_until, quiet_where, quiet_at FROM handling WHERE \
         error_id = $1 FOR UPDATE",
    )
    .bind(number)
    .fetch_one(&mut *connection)
    .await?;
    if let Some(known) = known {
        let since: Option<String> = sqlx::query_scalar(
            "SELECT by FROM handling_change WHERE error_id = $1 AND id > $2 AND verb <> 'note' ORDER BY id DESC LIMIT 1",
        )
        .bind(number)
        .bind(known)
        .fetch_optional(&mut *connection)
        .await?;
        if let Some(by) = since {
            return Err(HandlingError::Meanwhile { error, by });
        }
    }
    Ok(kept)
}

pub(super) async fn keep(connection: &mut PgConnection, error: i32, kept: &Kept) -> Result<(), StoreError> {
    sqlx::query(
        "UPDATE handling SET taken_by = $2, settled_in = $3, settled_at = $4, quiet_until = $5, quiet_where = $6, \
         quiet_at = $7, settled_by = $8 WHERE error_id = $1",
    )
    .bind(error)
    .bind(&kept.taken_by)
    .bind(&kept.settled_in)
    .bind(kept.settled_at)
    .bind(kept.quiet_until)
    .bind(&kept.quiet_where)
    .bind(kept.quiet_at)
    .bind(&kept.settled_by)
    .execute(connection)
    .await?;
    Ok(())
}

pub(super) async fn write_down(
    connection: &mut PgConnection,
    error: i32,
    (by, at): (&str, DateTime<Utc>),
    (verb, what): (&str, &str),
    before: Option<&Kept>,
) -> Result<(), StoreError> {
    sqlx::query("INSERT INTO handling_change (error_id, by, verb, what, at, before) VALUES ($1, $2, $3, $4, $5, $6)")
        .bind(error)
        .bind(by)
        .bind(verb)
        .bind(what)
        .bind(at)
        .bind(before.map(sqlx::types::Json))
        .execute(connection)
        .await?;
    Ok(())
}

/// Writes down what happened by itself.
pub(crate) async fn note(
    connection: &mut PgConnection,
    error: i32,
    by: (&str, DateTime<Utc>),
    verb: &str,
    what: &str,
) -> Result<(), StoreError> {
    write_down(connection, error, by, (verb, what), None).await
}

/// A time, as it is told in words.
pub(super) fn written(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)
}
