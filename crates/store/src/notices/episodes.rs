//! What lasts: told when it begins, and when it was not so for a while.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::notice::{Event, EventKind};

use super::events::{NewEvent, by_ids, insert};
use super::silence::GIVEN_UP;
use crate::boxed;
use crate::{Database, StoreError, from_utc, ids};

/// Something that is so now.
#[derive(Clone, Debug)]
pub struct Standing {
    /// What it is of, without a time: the same while it lasts.
    pub what: String,
    /// How long it must not have been so before it is over.
    pub hold: TimeDelta,
    /// What is said when it begins; its key is made of `what` and the time.
    pub begins: NewEvent,
}

/// The key of an event that is over, its number, its service and environment, as far as it is still there.
type Over = (String, Option<i64>, Option<i32>, Option<i32>);

/// Notes what begins of a kind, and what is over. Whichever instance looks first
/// notes it. Of a silence that is given up nothing more is said: it did not end.
/// Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next look notes it.
#[boxed]
pub async fn look(
    database: &Database,
    (kind, ends): (EventKind, Option<EventKind>),
    standing: &[Standing],
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let mut new = vec![];
    for Standing { what, hold, begins } in standing {
        let key = format!("{} {what} {}", kind.word(), now.timestamp());
        let is_new: bool = sqlx::query_scalar(
            "INSERT INTO notice_episode (what, kind, event_key, over_at) VALUES ($1, $2, $3, $4) ON CONFLICT (what) DO \
             UPDATE SET over_at = excluded.over_at RETURNING event_key = $3",
        )
        .bind(format!("{} {what}", kind.word()))
        .bind(kind.word())
        .bind(&key)
        .bind(now + *hold)
        .fetch_one(&mut *transaction)
        .await?;
        if is_new {
            new.push(NewEvent { key, ..begins.clone() });
        }
    }
    let over: Vec<Over> = sqlx::query_as(
        "WITH over AS (DELETE FROM notice_episode WHERE kind = $1 AND over_at < $2 RETURNING event_key) SELECT \
         over.event_key, e.id, e.service_id, e.environment_id FROM over LEFT JOIN notice_event e ON e.key = over.event_key \
         ORDER BY 1",
    )
    .bind(kind.word())
    .bind(now)
    .fetch_all(&mut *transaction)
    .await?;
    let begun: Vec<i64> = over.iter().filter_map(|(_, id, _, _)| *id).collect();
    let events = by_ids(&mut transaction, &begun).await?;
    for (key, id, service_id, environment_id) in over {
        let event = events.iter().find(|event| Some(event.id) == id);
        let (Some(event), Some(ends)) = (event, ends) else {
            continue;
        };
        if kind == EventKind::Silent && now - crate::to_utc(event.since) >= GIVEN_UP {
            continue;
        }
        new.push(NewEvent {
            key: format!("{key} over"),
            service_id,
            environment_id,
            error_id: event.error.map(ids::number),
            is_late: false,
            event: Event {
                kind: ends,
                at: from_utc(now),
                of: id,
                evidence: format!("it began at {}", crate::to_utc(event.since).format("%H:%M UTC")),
                ..event.clone()
            },
        });
    }
    let noted = insert(&mut transaction, &new).await?;
    transaction.commit().await?;
    Ok(noted)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::notices::events::between;
    use crate::notices::testing::event;
    use crate::testing::database;

    #[tokio::test]
    async fn a_silence_that_is_given_up_is_not_told_to_have_ended() {
        let database = database().await;
        let now = Utc::now();
        let kinds = (EventKind::Silent, Some(EventKind::Reporting));
        let mut noted = vec![];
        for hours in [1, 49] {
            let standing = Standing {
                what: format!("{hours}"),
                hold: TimeDelta::minutes(3),
                begins: event("", EventKind::Silent, now - TimeDelta::hours(hours)),
            };
            noted.push(look(&database, kinds, &[standing], now).await.unwrap());
            noted.push(look(&database, kinds, &[], now + TimeDelta::minutes(4)).await.unwrap());
        }
        assert_eq!(noted, [1, 1, 1, 0]);
    }

    #[tokio::test]
    async fn what_lasts_is_told_once_and_again_only_after_it_was_over() {
        let database = database().await;
        let start = Utc::now() - TimeDelta::hours(3);
        let at = |minutes: i64| start + TimeDelta::minutes(minutes);
        let step = async |minutes: i64, is_so: bool| {
            let standing = Standing {
                what: "7 3".to_owned(),
                hold: TimeDelta::minutes(10),
                begins: event("", EventKind::Silent, at(minutes)),
            };
            let kinds = (EventKind::Silent, Some(EventKind::Reporting));
            let so = if is_so { vec![standing] } else { vec![] };
            look(&database, kinds, &so, at(minutes)).await.unwrap()
        };
        let looks = [
            (0, true),
            (5, true),
            (6, false),
            (12, true),
            (20, false),
            (23, false),
            (40, true),
            (40, true),
        ];
        let mut noted = vec![];
        for (minutes, is_so) in looks {
            noted.push(step(minutes, is_so).await);
        }
        assert_eq!(noted, [1, 0, 0, 0, 0, 1, 1, 0]);
        let said = between(&database, at(-1), at(60)).await.unwrap();
        let kinds: Vec<EventKind> = said.iter().map(|event| event.kind).collect();
        assert_eq!(kinds, [EventKind::Silent, EventKind::Reporting, EventKind::Silent]);
        assert_eq!((said[1].of, said[1].service.as_str()), (Some(said[0].id), "fares"));
    }
}
