//! Services, endpoints and sender keys that report nothing just now, with their course.

use chrono::{DateTime, TimeDelta, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Days of the past that are read of what is still.
const PAST_DAYS: i64 = 35;
/// How long nothing came before something is looked at.
const STILL: TimeDelta = TimeDelta::minutes(5);
/// How far back something must have reported to be looked at: a week and a day, for what runs once a week. What reports
/// often is looked at for [`GIVEN_UP`].
const LATELY: TimeDelta = TimeDelta::days(8);
/// What is silent for longer, and reported often, is given up: it was taken away.
pub(super) const GIVEN_UP: TimeDelta = TimeDelta::hours(48);
/// What is looked at in one round; what has missed most first.
const AT_ONCE: i64 = 300;
/// Reports that must have been missed by the mean of all hours, of what reports often: the hours of a day differ, by less
/// than this to what [`outcrop_core::notice::UNLIKELY`] asks for.
const MISSED: f64 = 3.0;

/// Something that has reported lately, and not in the last minutes.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Still {
    /// `service`, `endpoint` or `sender`.
    pub kind: String,
    /// The service's number; none of a sender key.
    pub service_id: Option<i32>,
    /// The service, as pages name it.
    pub service: String,
    /// Its namespace.
    pub namespace: String,
    /// The environment's number; none of a sender key.
    pub environment_id: Option<i32>,
    /// The environment.
    pub environment: String,
    /// The endpoint's number, or the sender key's.
    pub number: i32,
    /// The endpoint's name, or the sender key's.
    pub name: String,
    /// When it reported last, to the minute; of a sender key to the hour.
    pub last_at: DateTime<Utc>,
    /// Hours since 1970 of the past.
    pub hours: Vec<i64>,
    /// How many reports came in each of these hours.
    pub counts: Vec<i64>,
}

impl Still {
    /// What a silence of it is of, for [`super::episodes`]; the statement that reads what is still takes it apart.
    #[must_use]
    pub fn what(&self) -> String {
        let (service, environment) = (self.service_id.unwrap_or(0), self.environment_id.unwrap_or(0));
        format!("{} {service} {environment} {}", self.kind, self.number)
    }
}

/// What reported lately and not in the last minutes. Silences that were told and go on
/// are left out, and are over at `over_at` unless they go on then.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn still(database: &Database, now: DateTime<Utc>, over_at: DateTime<Utc>) -> Result<Vec<Still>, StoreError> {
    Ok(sqlx::query_as(include_str!("../../queries/notices/still.sql"))
        .bind(now)
        .bind(now - STILL)
        .bind(now - LATELY)
        .bind(now - TimeDelta::days(PAST_DAYS))
        .bind(AT_ONCE)
        .bind(MISSED)
        .bind(over_at)
        .fetch_all(&database.pool)
        .await?)
}

/// When anything was last reported by any service, to the minute; none where nothing was in the last days.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn last_of_all(database: &Database, now: DateTime<Utc>) -> Result<Option<DateTime<Utc>>, StoreError> {
    Ok(sqlx::query_scalar(
        "SELECT max(minute) FROM served_minute WHERE minute <= $2 AND minute >= (SELECT max(hour) FROM served_hour WHERE \
         hour >= $1 AND hour <= $2)",
    )
    .bind(now - LATELY)
    .bind(now)
    .fetch_one(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use outcrop_core::notice::EventKind;

    use super::*;
    use crate::notices::episodes::{Standing, look};
    use crate::notices::testing::event;
    use crate::testing::{database, of, resource, span, spans, store, trace, writer};

    #[tokio::test]
    async fn what_reported_lately_and_not_just_now_is_read_with_its_course() {
        let database = database().await;
        let now = Utc::now();
        let sent = async |service: &str, minutes_ago: i64, number: u64| {
            let at = crate::from_utc(now - TimeDelta::minutes(minutes_ago));
            let spans_of = (0..150)
                .map(|each| span(trace(number * 1_000 + each), number * 1_000 + each + 1, None, at))
                .collect();
            store(&writer(&database), &[spans(vec![of(resource(service), spans_of)], at)]).await;
        };
        sent("fares", 90, 1).await;
        sent("fares", 20, 2).await;
        sent("gangway", 1, 3).await;
        sent("gangway", 300, 4).await;
        let once = crate::from_utc(now - TimeDelta::hours(50));
        let run = span(trace(9), 9, None, once);
        store(
            &writer(&database),
            &[spans(vec![of(resource("settle"), vec![run])], once)],
        )
        .await;
        let found = still(&database, now, now).await.unwrap();
        let services: Vec<(&str, &str)> = found
            .iter()
            .map(|one| (one.kind.as_str(), one.service.as_str()))
            .collect();
        assert!(
            services.contains(&("service", "fares")) && services.contains(&("endpoint", "fares")),
            "{services:?}"
        );
        assert!(
            !services.iter().any(|(_, service)| *service == "gangway"),
            "{services:?}"
        );
        let fares = found.iter().find(|one| one.kind == "service").unwrap();
        assert_eq!(fares.counts.iter().sum::<i64>(), 300);
        let ago = (now - fares.last_at).num_minutes();
        assert!((19..=22).contains(&ago), "{ago}");
        let seldom: Vec<&Still> = found.iter().filter(|one| one.service == "settle").collect();
        assert!(
            seldom.iter().any(|one| one.kind == "endpoint"),
            "a run of two days ago is missed"
        );
        let silent = Standing {
            what: fares.what(),
            hold: TimeDelta::minutes(3),
            begins: event("", EventKind::Silent, now),
        };
        let kinds = (EventKind::Silent, Some(EventKind::Reporting));
        look(&database, kinds, &[silent], now).await.unwrap();
        let mut over = vec![];
        for minutes in [2, 4, 6, 8] {
            let at = now + TimeDelta::minutes(minutes);
            if minutes == 6 {
                sent("fares", -5, 5).await;
            }
            let read = still(&database, at, at + TimeDelta::minutes(3)).await.unwrap();
            assert!(
                !read.iter().any(|one| one.service == "fares"),
                "what is known to be silent is read again"
            );
            over.push(look(&database, kinds, &[], at).await.unwrap());
        }
        assert_eq!(over, [0, 0, 0, 1], "it goes on until something comes");
        let last = last_of_all(&database, now).await.unwrap().unwrap();
        assert!((now - last).num_minutes() <= 2);
    }
}
