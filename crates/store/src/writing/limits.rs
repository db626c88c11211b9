//! Limits that senders reach, and what is said of them: past a limit nothing is lost, it is counted together.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::Timestamp;
use outcrop_core::completeness::Limit;
use sqlx::PgConnection;

use crate::boxed;
use crate::ids::signed;
use crate::{Database, StoreError, to_utc};

/// Limits reached in a batch: how many names, or failures, by service and limit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Reached(BTreeMap<(i32, &'static str), u64>);

impl Reached {
    pub(crate) fn add(&mut self, service: i32, limit: Limit, count: u64) {
        *self.0.entry((service, limit.name())).or_default() += count;
    }

    pub(crate) fn extend(&mut self, other: Self) {
        for (key, count) in other.0 {
            *self.0.entry(key).or_default() += count;
        }
    }

    /// Notes them by the hour of reception.
    pub(crate) async fn store(&self, connection: &mut PgConnection, received: Timestamp) -> Result<(), StoreError> {
        if self.0.is_empty() {
            return Ok(());
        }
        sqlx::query(
            "INSERT INTO limit_reached AS l (hour, service_id, what, n) \
             SELECT $1, service, what, n FROM UNNEST($2::int[], $3::text[], $4::bigint[]) AS new (service, what, n) \
             ORDER BY 2, 3 \
             ON CONFLICT (hour, service_id, what) DO UPDATE SET n = l.n + excluded.n",
        )
        .bind(to_utc(received.hour()))
        .bind(self.0.keys().map(|key| key.0).collect::<Vec<_>>())
        .bind(self.0.keys().map(|key| key.1).collect::<Vec<_>>())
        .bind(
            self.0
                .values()
                .map(|count| signed(*count).unwrap_or_default())
                .collect::<Vec<_>>(),
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}

/// The limits that each service reached since a time, with how many names or failures came past them.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn reached_since(
    database: &Database,
    since: DateTime<Utc>,
) -> Result<BTreeMap<i32, Vec<(Limit, i64)>>, StoreError> {
    let rows: Vec<(i32, String, i64)> = sqlx::query_as(
        "SELECT service_id, what, sum(n)::bigint FROM limit_reached WHERE hour > $1 GROUP BY 1, 2 ORDER BY 1, 2",
    )
    .bind(since)
    .fetch_all(&database.pool)
    .await?;
    let mut reached: BTreeMap<i32, Vec<(Limit, i64)>> = BTreeMap::new();
    for (service, what, n) in rows {
        reached
            .entry(service)
            .or_default()
            .extend(Limit::of_name(&what).map(|limit| (limit, n)));
    }
    Ok(reached)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now};

    #[tokio::test]
    async fn limits_are_summed_by_the_hour_and_told_for_a_day() {
        let database = database().await;
        let mut connection = database.writing.acquire().await.unwrap();
        let mut reached = Reached::default();
        reached.add(7, Limit::Endpoints, 3);
        reached.add(7, Limit::Endpoints, 4);
        reached.add(8, Limit::Errors, 1);
        for at in [now(), now(), now().plus_millis(-26 * 3_600_000)] {
            reached.store(&mut connection, at).await.unwrap();
        }
        let told = reached_since(&database, Utc::now() - chrono::TimeDelta::hours(24))
            .await
            .unwrap();
        assert_eq!(
            told,
            BTreeMap::from([(7, vec![(Limit::Endpoints, 14)]), (8, vec![(Limit::Errors, 2)])])
        );
        Reached::default().store(&mut connection, now()).await.unwrap();
    }
}
