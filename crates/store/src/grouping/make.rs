//! Tries a change on what is stored, makes it, undoes it.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use outcrop_core::Digest;
use outcrop_core::grouping::regrouping::{Move, Target};
use outcrop_core::grouping::rules::join_key;
use sqlx::PgConnection;

use super::change::{Change, ChangeError, Name, Outlook, Over, Trial};
use super::outlook::outlook;
use crate::Database;
use crate::boxed;
use crate::database::locks::Lock;
use crate::ids::{reference, uuid};

/// Tries a change over a window: nothing is written.
///
/// # Errors
/// [`ChangeError`] where it makes no sense, or the database does not answer in time.
#[boxed]
pub async fn try_change(database: &Database, service: i32, change: &Change, over: Over) -> Result<Trial, ChangeError> {
    let outlook = outlook(database, service, change, over, Digest([0xff; 16])).await?;
    Ok(outlook.trial())
}

/// What change somebody makes, and for which service.
#[derive(Clone, Copy, Debug)]
pub struct Order<'o> {
    /// The service's number.
    pub service: i32,
    /// The change.
    pub change: &'o Change,
    /// The window by which known errors are told what they are.
    pub over: Over,
    /// Who makes it.
    pub by: &'o str,
}

/// Makes a change, for the known errors by what they had in the window. Returns the change's number and what it did.
///
/// # Errors
/// [`ChangeError`] where it makes no sense, something was changed meanwhile, or the database does not answer in time.
pub async fn make(
    database: &Database,
    order: Order<'_>,
    in_words: impl Fn(&Trial) -> String + Send,
) -> Result<(i64, Trial), ChangeError> {
    let Order {
        service,
        change,
        over,
        by,
    } = order;
    let mut transaction = database.pool.begin().await?;
    let (id,): (i64,) = sqlx::query_as(
        "INSERT INTO grouping_change (by, service_id, change, sentence, moves) VALUES ($1, $2, $3, '', \
            '[]') RETURNING id",
    )
    .bind(by)
    .bind(service)
    .bind(serde_json::to_value(change).unwrap_or_default())
    .fetch_one(&mut *transaction)
    .await?;
    let outlook = outlook(database, service, change, over, join_key(id)).await?;
    // The lock under which causes are made: none of this service comes or goes meanwhile.
    Lock::Causes.take(&mut transaction).await?;
    let mut moves = outlook.plan.moves.clone();
    if let Change::SplitOff { error, causes } = change {
        let new = new_error(
            &mut transaction,
            service,
            outlook.names.values().next().cloned().unwrap_or_default(),
        )
        .await?;
        moves = causes
            .iter()
            .map(|cause| Move {
                cause: *cause,
                from: *error,
                to: new,
            })
            .collect();
    } else {
        moves.extend(place_keys(&mut transaction, service, &outlook).await?);
    }
    carry_out(&mut transaction, &moves).await?;
    let trial = outlook.trial();
    sqlx::query("UPDATE grouping_change SET sentence = $2, moves = $3 WHERE id = $1")
        .bind(id)
        .bind(in_words(&trial))
        .bind(serde_json::to_value(&moves).unwrap_or_default())
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok((id, trial))
}

/// Makes a cause of every key that is new, in the error the plan says. Returns where each would go back to.
async fn place_keys(connection: &mut PgConnection, service: i32, outlook: &Outlook) -> Result<Vec<Move>, ChangeError> {
    let mut moves = vec![];
    for (key, target) in &outlook.plan.keys {
        let is_known: Option<(i64,)> = sqlx::query_as("SELECT id FROM cause WHERE service_id = $1 AND key = $2")
            .bind(service)
            .bind(uuid(*key))
            .fetch_optional(&mut *connection)
            .await?;
        if is_known.is_some() {
            continue;
        }
        let (error, from) = match target {
            Target::Known(error) => (*error, *error),
            Target::SplitFrom(from) => (
                new_error(connection, service, outlook.names.get(key).cloned().unwrap_or_default()).await?,
                *from,
            ),
        };
        let (cause,): (i64,) = sqlx::query_as(
            "INSERT INTO cause (service_id, key, algorithm, error_id) VALUES ($1, $2, 0, $3) RETURNING id",
        )
        .bind(service)
        .bind(uuid(*key))
        .bind(from)
        .fetch_one(&mut *connection)
        .await?;
        if from != error {
            moves.push(Move { cause, from, to: error });
        }
    }
    Ok(moves)
}

async fn new_error(connection: &mut PgConnection, service: i32, name: Name) -> Result<i32, sqlx::Error> {
    let (error,): (i32,) = sqlx::query_as(
        "INSERT INTO error_group (service_id, title, type, own_frame) VALUES ($1, $2, $3, $4) RETURNING id",
    )
    .bind(service)
    .bind(name.title)
    .bind(name.exception)
    .bind(name.own_frame)
    .fetch_one(connection)
    .await?;
    Ok(error)
}

/// Moves causes, and lets references of errors left without any lead to where they went.
pub(crate) async fn carry_out(connection: &mut PgConnection, moves: &[Move]) -> Result<(), ChangeError> {
    for one in moves {
        let moved = sqlx::query("UPDATE cause SET error_id = $3 WHERE id = $1 AND error_id = $2")
            .bind(one.cause)
            .bind(one.from)
            .bind(one.to)
            .execute(&mut *connection)
            .await?;
        if moved.rows_affected() != 1 {
            let error = reference(one.from);
            return Err(ChangeError::Conflict(format!(
                "{error} was joined or split by a later change: undo that one first (`outcrop grouping changes`)"
            )));
        }
    }
    let left: BTreeMap<i32, i32> = moves.iter().map(|one| (one.from, one.to)).collect();
    let errors: BTreeSet<i32> = moves.iter().flat_map(|one| [one.from, one.to]).collect();
    for error in errors {
        sqlx::query(
            "UPDATE error_group SET row_version = row_version + 1, \
             joined_into = CASE WHEN EXISTS (SELECT 1 FROM cause WHERE error_id = $1) THEN NULL ELSE $2 END WHERE id \
             = $1",
        )
        .bind(error)
        .bind(left.get(&error))
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Undoes a change: its causes go back, its rule ends. What came in meanwhile goes with its cause.
///
/// # Errors
/// [`ChangeError`] where there is no such change, it was undone, or a later one stands in the way.
#[boxed]
pub async fn undo(database: &Database, id: i64, by: &str) -> Result<String, ChangeError> {
    let mut transaction = database.pool.begin().await?;
    let found: Option<(serde_json::Value, String, Option<DateTime<Utc>>)> =
        sqlx::query_as("SELECT moves, sentence, undone_at FROM grouping_change WHERE id = $1 FOR UPDATE")
            .bind(id)
            .fetch_optional(&mut *transaction)
            .await?;
    let (moves, sentence, undone) = found.ok_or_else(|| ChangeError::Unfit(format!("there is no change {id}")))?;
    if undone.is_some() {
        return Err(ChangeError::Conflict(format!("change {id} was undone already")));
    }
    Lock::Causes.take(&mut transaction).await?;
    let moves: Vec<Move> = serde_json::from_value(moves)
        .map_err(|error| ChangeError::Conflict(format!("change {id} was written by another release: {error}")))?;
    let back: Vec<Move> = moves
        .iter()
        .map(|one| Move {
            cause: one.cause,
            from: one.to,
            to: one.from,
        })
        .collect();
    carry_out(&mut transaction, &back).await?;
    sqlx::query("UPDATE grouping_change SET undone_at = now(), undone_by = $2 WHERE id = $1")
        .bind(id)
        .bind(by)
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(sentence)
}
