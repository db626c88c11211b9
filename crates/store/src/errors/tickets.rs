//! Tickets of errors in another program, and how they are made there.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// The ticket of an error.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Ticket {
    /// What the other program calls it; empty of one that was linked by its address.
    pub key: String,
    /// Its address; empty while it is being made.
    pub link: String,
    /// Its state there, as it was last read.
    pub state: Option<String>,
    /// Who made or linked it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// When its state was last read.
    pub looked_at: DateTime<Utc>,
}

const SELECT: &str = "SELECT key, link, state, made_by, made_at, looked_at FROM ticket";

/// The ticket of an error, as far as it is made.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_error(database: &Database, error: i32) -> Result<Option<Ticket>, StoreError> {
    let statement = format!("{SELECT} WHERE error_id = $1 AND link <> ''");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(error)
        .fetch_optional(&database.pool)
        .await?)
}

/// How long a ticket may take to be made: whoever began and never ended is taken for gone.
const MAKING_SECS: f64 = 120.0;

/// Begins to make the ticket of an error: whoever gets `true` makes it, and ends with [`keep`] or [`give_up`].
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn begin(database: &Database, error: i32, by: &str, at: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "INSERT INTO ticket (error_id, key, link, made_by, made_at, looked_at) VALUES ($1, '', '', $2, $3, $3) ON \
         CONFLICT (error_id) DO UPDATE SET made_by = excluded.made_by, made_at = excluded.made_at, looked_at = \
         excluded.looked_at WHERE ticket.link = '' AND ticket.made_at < $3 - make_interval(secs => $4)",
    )
    .bind(error)
    .bind(by)
    .bind(at)
    .bind(MAKING_SECS)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Keeps the ticket that was made.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn keep(database: &Database, error: i32, key: &str, link: &str) -> Result<(), StoreError> {
    sqlx::query("UPDATE ticket SET key = $2, link = $3 WHERE error_id = $1 AND link = ''")
        .bind(error)
        .bind(key)
        .bind(link)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Notes that no ticket was made.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn give_up(database: &Database, error: i32) -> Result<(), StoreError> {
    sqlx::query("DELETE FROM ticket WHERE error_id = $1 AND link = ''")
        .bind(error)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Links a ticket by its address; one that was linked or made before is left.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn link(
    database: &Database,
    error: i32,
    link: &str,
    (by, at): (&str, DateTime<Utc>),
) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO ticket (error_id, key, link, made_by, made_at, looked_at) VALUES ($1, '', $2, $3, $4, $4) ON \
         CONFLICT (error_id) DO UPDATE SET key = '', link = excluded.link, state = NULL, made_by = excluded.made_by, \
         made_at = excluded.made_at, looked_at = excluded.looked_at",
    )
    .bind(error)
    .bind(link)
    .bind(by)
    .bind(at)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Leaves an error's ticket; what is there in the other program stays. Whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn leave(database: &Database, error: i32) -> Result<bool, StoreError> {
    let done = sqlx::query("DELETE FROM ticket WHERE error_id = $1")
        .bind(error)
        .execute(&database.pool)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Tickets whose state was not read since a time, the oldest first: numbers of their errors, and their keys.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn due(database: &Database, before: DateTime<Utc>, limit: i64) -> Result<Vec<(i32, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT error_id, key FROM ticket WHERE looked_at < $1 AND key <> '' AND link <> '' ORDER BY looked_at LIMIT $2",
    )
    .bind(before)
    .bind(limit)
    .fetch_all(&database.pool)
    .await?)
}

/// Keeps what state a ticket has; none where nobody could say.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn looked_at(
    database: &Database,
    error: i32,
    state: Option<&str>,
    at: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query("UPDATE ticket SET state = coalesce($2, state), looked_at = $3 WHERE error_id = $1")
        .bind(error)
        .bind(state)
        .bind(at)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// How tickets are made, as it was set; `None` where nobody said.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn tracker(database: &Database) -> Result<Option<serde_json::Value>, StoreError> {
    Ok(sqlx::query_scalar("SELECT setting FROM tracker")
        .fetch_optional(&database.pool)
        .await?)
}

/// Says how tickets are made; nothing takes it away.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn set_tracker(
    database: &Database,
    setting: Option<&serde_json::Value>,
    (by, at): (&str, DateTime<Utc>),
) -> Result<(), StoreError> {
    match setting {
        Some(setting) => {
            sqlx::query(
                "INSERT INTO tracker (setting, made_by, made_at) VALUES ($1, $2, $3) ON CONFLICT (is_one) DO UPDATE \
                 SET setting = excluded.setting, made_by = excluded.made_by, made_at = excluded.made_at",
            )
            .bind(setting)
            .bind(by)
            .bind(at)
            .execute(&database.pool)
            .await?;
        }
        None => {
            sqlx::query("DELETE FROM tracker").execute(&database.pool).await?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn an_error_has_one_ticket_made_by_one_of_those_who_try() {
        let database = database().await;
        let failure = failing(trace(1), 1, None, now(), "no tariff");
        store(
            &writer(&database),
            &[spans(vec![of(resource("fares"), vec![failure])], now())],
        )
        .await;
        let error = i32::try_from(number(&database, "SELECT id::bigint FROM error_group").await).unwrap();
        let at = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let tries = (0..8).map(|_| begin(&database, error, "purser", at));
        let begun = futures_util::future::join_all(tries).await;
        assert_eq!(begun.into_iter().filter(|begun| *begun.as_ref().unwrap()).count(), 1);
        assert_eq!(of_error(&database, error).await.unwrap(), None, "it is being made");
        give_up(&database, error).await.unwrap();
        assert!(begin(&database, error, "purser", at).await.unwrap());
        let later = at + TimeDelta::minutes(3);
        assert!(
            begin(&database, error, "mate", later).await.unwrap(),
            "who began is gone"
        );
        keep(&database, error, "71", "https://tracker.skerry.example/71")
            .await
            .unwrap();
        assert!(
            !begin(&database, error, "purser", later + TimeDelta::hours(1))
                .await
                .unwrap()
        );
        let kept = of_error(&database, error).await.unwrap().unwrap();
        assert_eq!(
            (kept.key.as_str(), kept.made_by.as_str(), kept.state),
            ("71", "mate", None)
        );

        assert_eq!(
            due(&database, later + TimeDelta::seconds(1), 9).await.unwrap(),
            [(error, "71".to_owned())]
        );
        looked_at(&database, error, Some("closed"), later + TimeDelta::hours(1))
            .await
            .unwrap();
        assert!(
            due(&database, later + TimeDelta::seconds(1), 9)
                .await
                .unwrap()
                .is_empty()
        );
        looked_at(&database, error, None, later + TimeDelta::hours(2))
            .await
            .unwrap();
        assert_eq!(
            of_error(&database, error).await.unwrap().unwrap().state.as_deref(),
            Some("closed")
        );

        link(&database, error, "https://wiki.skerry.example/7", ("purser", at))
            .await
            .unwrap();
        let linked = of_error(&database, error).await.unwrap().unwrap();
        assert_eq!((linked.key.as_str(), linked.state), ("", None));
        assert!(
            due(&database, later + TimeDelta::days(9), 9).await.unwrap().is_empty(),
            "nobody can say its state"
        );
        assert!(leave(&database, error).await.unwrap() && !leave(&database, error).await.unwrap());
    }

    #[tokio::test]
    async fn how_tickets_are_made_is_set_replaced_and_taken_away() {
        let database = database().await;
        let at = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        for setting in [serde_json::json!({"address": "a"}), serde_json::json!({"address": "b"})] {
            set_tracker(&database, Some(&setting), ("master", at)).await.unwrap();
            assert_eq!(tracker(&database).await.unwrap(), Some(setting));
        }
        set_tracker(&database, None, ("master", at)).await.unwrap();
        assert_eq!(tracker(&database).await.unwrap(), None);
    }
}
