//! Reads the board.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use sqlx::FromRow;

use super::{FORM, window_of};
use crate::asking::services_of;
use crate::boxed;
use crate::errors::Summary;
use crate::errors::read::{all_of, read_beside};
use crate::ids::number;
use crate::{Database, Scope, StoreError};

/// Stale errors that are counted while a list is read; with more of them what the job wrote last is shown.
const COUNTED_AT_ONCE: i32 = 50;
/// How old the job's last round and the oldest stale error may be; past it a list is counted.
const FRESH: TimeDelta = TimeDelta::minutes(1);

/// Where an error stands, and what else a list is headed by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, FromRow)]
pub struct Key {
    /// Its number.
    pub error_id: i32,
    /// Its attention while it is open, with what it follows from taken into account.
    pub score: i16,
    /// Whether any occurrence was uncaught.
    pub uncaught: bool,
    /// Whether it came with a version.
    pub came_with_version: bool,
    /// Its first event of all time.
    pub first_seen: DateTime<Utc>,
}

/// The errors of a window as they are kept.
#[derive(Clone, Debug, Default)]
pub struct Listing {
    /// Those that the job has counted, in the order of their numbers.
    pub keys: Vec<Key>,
    /// Those that were stale, counted just now; they have no key.
    pub counted: Vec<Summary>,
    minutes: i32,
    environment: i32,
}

impl Listing {
    /// Of errors that were all counted.
    #[must_use]
    pub fn counted(counted: Vec<Summary>) -> Self {
        Self {
            counted,
            ..Self::default()
        }
    }
}

/// The state of the board.
#[derive(FromRow)]
struct State {
    ended_at: Option<DateTime<Utc>>,
    stale_since: Option<DateTime<Utc>>,
    stale: Vec<i32>,
    environment: Option<i32>,
}

/// The errors of a scope from the board; `None` where its window is not kept, its predicate asks for more than services,
/// or the job is behind: then they are to be counted.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn listing(database: &Database, scope: &Scope, now: DateTime<Utc>) -> Result<Option<Listing>, StoreError> {
    let Some(minutes) = window_of(scope, now) else {
        return Ok(None);
    };
    let Some(services) = services_of(database, scope).await? else {
        return Ok(None);
    };
    let state: State = sqlx::query_as(
        "SELECT (SELECT ended_at FROM board_round WHERE form = $3) AS ended_at, (SELECT min(since) FROM error_stale) AS \
         stale_since, ARRAY(SELECT error_id FROM error_stale UNION SELECT cause.error_id FROM (SELECT DISTINCT cause_id \
         FROM touched LIMIT $1) touched JOIN cause ON cause.id = touched.cause_id LIMIT $1) AS stale, \
         (SELECT id FROM environment WHERE name = $2) AS environment",
    )
    .bind(COUNTED_AT_ONCE + 1)
    .bind(&scope.environment)
    .bind(FORM)
    .fetch_one(&database.pool)
    .await?;
    let is_fresh = |at: DateTime<Utc>| now - at < FRESH;
    if !state.ended_at.is_some_and(is_fresh) || !state.stale_since.is_none_or(is_fresh) {
        return Ok(None);
    }
    let environment = match (&scope.environment, state.environment) {
        (None, _) => 0,
        (Some(_), Some(environment)) => environment,
        (Some(_), None) => return Ok(Some(Listing::default())),
    };
    let is_countable = i32::try_from(state.stale.len()).is_ok_and(|count| count <= COUNTED_AT_ONCE);
    let keys = async {
        Ok(sqlx::query_as(
            "SELECT error_id, score, uncaught, came_with_version, first_seen FROM error_now WHERE minutes = $1 AND \
             environment_id = $2 AND ($3::int[] IS NULL OR service_id = ANY($3)) ORDER BY error_id",
        )
        .bind(minutes)
        .bind(environment)
        .bind(&services)
        .fetch_all(&database.pool)
        .await?)
    };
    let counted = async {
        if state.stale.is_empty() || !is_countable {
            return Ok(vec![]);
        }
        let bare = Scope {
            predicate: None,
            ..scope.clone()
        };
        all_of(database, &bare, Some(&state.stale)).await
    };
    let (mut keys, mut counted): (Vec<Key>, Vec<Summary>) = futures_util::try_join!(keys, counted)?;
    counted.retain(|summary| {
        services
            .as_ref()
            .is_none_or(|services| services.contains(&summary.service_id))
    });
    if is_countable {
        let stale: BTreeSet<i32> = state.stale.into_iter().collect();
        keys.retain(|key| !stale.contains(&key.error_id));
    }
    Ok(Some(Listing {
        keys,
        counted,
        minutes,
        environment,
    }))
}

/// The numbers of some errors of a listing that the job has counted, with the requests beside them and the weight of each as they are now.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time, or when a stored summary is of another release.
#[boxed]
pub async fn numbers(
    database: &Database,
    listing: &Listing,
    errors: &[i32],
    scope: &Scope,
) -> Result<HashMap<i32, Summary>, StoreError> {
    let stored: Vec<(serde_json::Value,)> = sqlx::query_as(
        "SELECT summary FROM error_numbers WHERE minutes = $1 AND environment_id = $2 AND error_id = ANY($3)",
    )
    .bind(listing.minutes)
    .bind(listing.environment)
    .bind(errors)
    .fetch_all(&database.pool)
    .await?;
    let read = stored
        .into_iter()
        .map(|(summary,)| {
            let summary: Summary = serde_json::from_value(summary)
                .map_err(|error| StoreError::Unusable(format!("an error's numbers cannot be read: {error}")))?;
            Ok((number(summary.reference), summary))
        })
        .collect::<Result<HashMap<i32, Summary>, StoreError>>();
    let mut summaries = read?;
    read_beside(database, scope, &mut summaries).await?;
    Ok(summaries)
}
