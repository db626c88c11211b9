//! Puts causes that a version brought with the errors they were before, and looks again as more comes.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::grouping::moved;
use outcrop_core::grouping::moved::{Finding, MAX_NEW, Shape};
use outcrop_core::grouping::regrouping::Move;
use sqlx::PgConnection;

use super::known::{BY, Earlier, Known, Row};
use crate::boxed;
use crate::database::locks::Lock;
use crate::grouping::{Change, ChangeError};
use crate::{Database, StoreError, grouping};

/// For how long after a cause came it is looked at again. Within two days all that a version has in
/// common with the one before has mostly occurred; later, people have seen it under its reference.
pub(super) const LOOKED_AGAIN: TimeDelta = TimeDelta::days(2);

/// A cause that was just made.
pub(crate) struct Coming {
    pub cause: i64,
    pub error: i32,
    pub shape: Shape,
    pub version: i32,
}

/// Looks whether causes that were just made are errors of versions before, and puts those there.
/// The caller holds the lock under which causes are made.
pub(crate) async fn place(connection: &mut PgConnection, service: i32, coming: &[Coming]) -> Result<(), StoreError> {
    let known = Known::read(connection, service).await?;
    let new: Vec<_> = coming
        .iter()
        .take(MAX_NEW)
        .map(|one| (one.cause, one.error, &one.shape, one.version))
        .collect();
    let found = known.find(&new);
    for one in coming {
        if let Some(Finding::Moved { error, changes }) = found.get(&one.cause) {
            record(
                connection,
                service,
                (one.cause, one.error, *error),
                changes,
                known.label(Some(one.version)),
            )
            .await?;
        }
    }
    Ok(())
}

async fn record(
    connection: &mut PgConnection,
    service: i32,
    (cause, from, to): (i64, i32, i64),
    changes: &[moved::Change],
    version: &str,
) -> Result<(), StoreError> {
    let to = i32::try_from(to).unwrap_or_default();
    let sentence = format!(
        "moved in {version}: {}",
        changes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
    );
    let change = Change::Moved {
        error: to,
        cause,
        version: version.to_owned(),
    };
    let moves = [Move { cause, from, to }];
    match grouping::carry_out(connection, &moves).await {
        Ok(()) => {}
        // Somebody has moved it meanwhile: it stays there.
        Err(ChangeError::Conflict(_) | ChangeError::Unfit(_)) => return Ok(()),
        Err(ChangeError::Store(error)) => return Err(error),
    }
    sqlx::query("INSERT INTO grouping_change (by, service_id, change, sentence, moves) VALUES ($1, $2, $3, $4, $5)")
        .bind(BY)
        .bind(service)
        .bind(serde_json::to_value(change).unwrap_or_default())
        .bind(sentence)
        .bind(serde_json::to_value(moves).unwrap_or_default())
        .execute(connection)
        .await?;
    Ok(())
}

/// Looks again at the causes that came in the last two days: what occurs in a version both as it
/// did and as it was taken to be now is told apart again, and what has become clear is put where it
/// belongs. Returns how many causes went elsewhere.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn review(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let services: Vec<(i32,)> = sqlx::query_as(
        "SELECT DISTINCT cause.service_id FROM sighted JOIN cause ON cause.id = sighted.cause_id WHERE \
         sighted.first_at >= $1 AND sighted.n > 0",
    )
    .bind(now - LOOKED_AGAIN)
    .fetch_all(&database.pool)
    .await?;
    let mut went = 0;
    for (service,) in services {
        went += review_service(database, service, now).await?;
    }
    Ok(went)
}

async fn review_service(database: &Database, service: i32, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let mut transaction = database.pool.begin().await?;
    Lock::Causes.take(&mut transaction).await?;
    let known = Known::read(&mut transaction, service).await?;
    let found = known.find(&[]);
    let young: Vec<&Row> = known
        .rows
        .iter()
        .filter(|row| row.first_at >= now - LOOKED_AGAIN)
        .collect();
    let mut went = 0;
    for row in young {
        let before = known
            .made
            .iter()
            .find(|made| !made.is_undone && made.cause == row.cause);
        let to = match found.get(&row.cause) {
            Some(Finding::Moved { error, changes }) => Some((*error, changes)),
            _ => None,
        };
        match (before, to) {
            (Some(before), Some((to, _))) if i64::from(before.to) == to => {}
            (None, None) => {}
            // Where people have moved it on, it stays.
            (Some(before), _) if row.error != before.to => {}
            (before, to) => {
                let mut from = row.error;
                if let Some(before) = before {
                    take_back(&mut transaction, before).await?;
                    from = before.from;
                }
                if let Some((to, changes)) = to {
                    let version = known.label(known.first_version(row)).to_owned();
                    record(&mut transaction, service, (row.cause, from, to), changes, &version).await?;
                }
                went += 1;
            }
        }
    }
    transaction.commit().await?;
    Ok(went)
}

async fn take_back(connection: &mut PgConnection, made: &Earlier) -> Result<(), StoreError> {
    match grouping::carry_out(
        connection,
        &[Move {
            cause: made.cause,
            from: made.to,
            to: made.from,
        }],
    )
    .await
    {
        Err(ChangeError::Store(error)) => return Err(error),
        Err(_) => return Ok(()),
        Ok(()) => {}
    }
    sqlx::query("UPDATE grouping_change SET undone_at = now(), undone_by = $2 WHERE id = $1")
        .bind(made.change)
        .bind(BY)
        .execute(connection)
        .await?;
    Ok(())
}
