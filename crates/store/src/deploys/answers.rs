//! What is answered for deploys, kept so that lists need not ask anew.
//!
//! An answer is made anew when something changed that it tells of (a flag, a name, the deploy itself), and as long as
//! requests are compared once a tenth of the deploy's age has gone by: the older it is, the less a minute changes.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use serde_json::Value;
use sqlx::{FromRow, PgConnection, PgTransaction};

use super::records::{CHARGED, Deploy, of_services};
use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// How far back answers are kept: as far as lists of deploys go.
const KEPT: TimeDelta = TimeDelta::days(31);
/// Answers made in one round: about a second's work.
const AT_ONCE: usize = 40;
/// How long after the last request is compared counts may still come that were late.
const LATE: TimeDelta = TimeDelta::hours(24);
/// How long after it was due an answer still holds: past it the job is behind, and is not waited for.
const BEHIND: TimeDelta = TimeDelta::minutes(1);

/// What tells deploys apart: service, environment, version, beginning.
type Key = (i32, i32, String, DateTime<Utc>);

fn key(deploy: &Deploy) -> Key {
    (
        deploy.service_id,
        deploy.environment_id,
        deploy.version.clone(),
        deploy.at,
    )
}

/// An answer to keep.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The answer itself.
    pub answer: Value,
    /// The display names of the services whose flags stand in it.
    pub services: Vec<String>,
}

/// The answers of deploys that hold now, in their order; `None` where one is to be made. `form` says how they are
/// written: those of another form do not hold.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn held(
    database: &Database,
    deploys: &[Deploy],
    form: i16,
    now: DateTime<Utc>,
) -> Result<Vec<Option<Value>>, StoreError> {
    let versions: Vec<&str> = deploys.iter().map(|deploy| deploy.version.as_str()).collect();
    let answers: Vec<(i64, Value)> = sqlx::query_as(
        "SELECT n, answer FROM UNNEST($1::int[], $2::int[], $3::text[], $4::timestamptz[]) WITH ORDINALITY AS asked \
         (service_id, environment_id, version, at, n) JOIN deploy_answer known USING (service_id, environment_id, \
         version, at) WHERE form = $5 AND (due_at IS NULL OR due_at > $6) AND NOT EXISTS (SELECT FROM deploy_stale s \
         WHERE s.service_id = known.service_id AND s.environment_id = known.environment_id AND s.from_at <= known.at \
         AND s.since >= known.answered_at)",
    )
    .bind(deploys.iter().map(|deploy| deploy.service_id).collect::<Vec<_>>())
    .bind(deploys.iter().map(|deploy| deploy.environment_id).collect::<Vec<_>>())
    .bind(versions)
    .bind(deploys.iter().map(|deploy| deploy.at).collect::<Vec<_>>())
    .bind(form)
    .bind(now - BEHIND)
    .fetch_all(&database.pool)
    .await?;
    let mut answers: HashMap<i64, Value> = answers.into_iter().collect();
    Ok((1..).zip(deploys).map(|(n, _)| answers.remove(&n)).collect())
}

/// A place where something changed for deploys.
#[derive(FromRow)]
struct Stale {
    service_id: i32,
    environment_id: i32,
    from_at: DateTime<Utc>,
    since: DateTime<Utc>,
}

/// One round of making answers anew. One instance at a time is at it.
pub struct Round {
    transaction: PgTransaction<'static>,
    began: DateTime<Utc>,
    now: DateTime<Utc>,
    form: i16,
    /// The deploys that are to be answered, the newest first.
    pub deploys: Vec<Deploy>,
    /// Whether more are waiting.
    pub is_more: bool,
    /// Places that are done with this round.
    done: Vec<Stale>,
}

/// Finds which deploys are to be answered anew; `None` while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn begin(database: &Database, form: i16, now: DateTime<Utc>) -> Result<Option<Round>, StoreError> {
    let mut transaction = database.pool.begin().await?;
    if !Lock::Deploys.try_take(&mut transaction).await? {
        return Ok(None);
    }
    let began: DateTime<Utc> = sqlx::query_scalar("SELECT clock_timestamp()")
        .fetch_one(&mut *transaction)
        .await?;
    let stale: Vec<Stale> = sqlx::query_as(
        "SELECT service_id, environment_id, greatest(from_at, $1) AS from_at, since FROM deploy_stale ORDER BY since, 1, 2 \
         LIMIT $2",
    )
    .bind(now - KEPT)
    .bind(i64::try_from(AT_ONCE).unwrap_or(i64::MAX))
    .fetch_all(&mut *transaction)
    .await?;
    let due: Vec<Key> = sqlx::query_as(
        "(SELECT service_id, environment_id, version, at FROM deploy_answer WHERE due_at <= $1 ORDER BY due_at LIMIT $2) \
         UNION ALL (SELECT service_id, environment_id, version, at FROM deploy_answer WHERE form < $3 LIMIT $2)",
    )
    .bind(now)
    .bind(i64::try_from(AT_ONCE).unwrap_or(i64::MAX))
    .bind(form)
    .fetch_all(&mut *transaction)
    .await?;
    let mut round = Round {
        is_more: stale.len() == AT_ONCE || due.len() >= AT_ONCE,
        transaction,
        began,
        now,
        form,
        deploys: vec![],
        done: vec![],
    };
    if !stale.is_empty() || !due.is_empty() {
        round.choose(stale, due).await?;
    }
    Ok(Some(round))
}

impl Round {
    /// Chooses the deploys to answer; forgets answers of deploys that are no more.
    async fn choose(&mut self, stale: Vec<Stale>, due: Vec<Key>) -> Result<(), StoreError> {
        let of_stale = stale.iter().map(|place| place.service_id);
        let services: BTreeSet<i32> = of_stale.chain(due.iter().map(|key| key.0)).collect();
        let services: Vec<i32> = services.into_iter().collect();
        // What was announced ahead of its time counts as begun.
        let window = (self.now - KEPT, self.now + TimeDelta::minutes(10));
        let found = of_services(&mut self.transaction, &services, window).await?;
        let answered = answered(&mut self.transaction, &services).await?;
        let known: BTreeSet<Key> = found.iter().map(key).collect();
        let gone: Vec<&Key> = answered.keys().filter(|key| !known.contains(*key)).collect();
        forget(&mut self.transaction, &gone).await?;
        let due: BTreeSet<Key> = due.into_iter().collect();
        let place = |deploy: &Deploy| (deploy.service_id, deploy.environment_id);
        let waits = |deploy: &Deploy| {
            let key = key(deploy);
            let answered_at = answered.get(&key);
            let is_stale = stale.iter().any(|stale| {
                (stale.service_id, stale.environment_id) == place(deploy)
                    && answered_at.is_none_or(|at| stale.from_at <= deploy.at && *at <= stale.since)
            });
            is_stale || due.contains(&key)
        };
        let mut waiting: Vec<Deploy> = found.into_iter().filter(waits).collect();
        waiting.sort_by_key(|deploy| std::cmp::Reverse(deploy.at));
        let left: Vec<Deploy> = waiting.split_off(waiting.len().min(AT_ONCE));
        let unfinished: BTreeSet<(i32, i32)> = left.iter().map(place).collect();
        self.is_more |= !left.is_empty();
        self.deploys = waiting;
        self.done = stale;
        self.done
            .retain(|stale| !unfinished.contains(&(stale.service_id, stale.environment_id)));
        Ok(())
    }

    /// Keeps the answers of the round's deploys, in their order.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer in time: all are made anew in the next round.
    pub async fn keep(mut self, answers: &[Answer]) -> Result<(), StoreError> {
        for (deploy, answer) in self.deploys.iter().zip(answers) {
            sqlx::query(
                "INSERT INTO deploy_answer (service_id, environment_id, version, at, services, answer, form, answered_at, \
                 due_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) ON CONFLICT (service_id, environment_id, version, \
                 at) DO UPDATE SET services = excluded.services, answer = excluded.answer, form = excluded.form, \
                 answered_at = excluded.answered_at, due_at = excluded.due_at",
            )
            .bind(deploy.service_id)
            .bind(deploy.environment_id)
            .bind(&deploy.version)
            .bind(deploy.at)
            .bind(&answer.services)
            .bind(&answer.answer)
            .bind(self.form)
            .bind(self.began)
            .bind(due_at(deploy.at, self.now))
            .execute(&mut *self.transaction)
            .await?;
        }
        sqlx::query(
            "DELETE FROM deploy_stale s USING UNNEST($1::int[], $2::int[], $3::timestamptz[]) AS done (service_id, \
             environment_id, since) WHERE s.service_id = done.service_id AND s.environment_id = done.environment_id AND \
             s.since <= done.since",
        )
        .bind(self.done.iter().map(|place| place.service_id).collect::<Vec<_>>())
        .bind(self.done.iter().map(|place| place.environment_id).collect::<Vec<_>>())
        .bind(self.done.iter().map(|place| place.since).collect::<Vec<_>>())
        .execute(&mut *self.transaction)
        .await?;
        self.transaction.commit().await?;
        Ok(())
    }
}

/// When answers of services were made.
async fn answered(connection: &mut PgConnection, services: &[i32]) -> Result<BTreeMap<Key, DateTime<Utc>>, StoreError> {
    type Row = (i32, i32, String, DateTime<Utc>, DateTime<Utc>);
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT service_id, environment_id, version, at, answered_at FROM deploy_answer WHERE service_id = ANY($1)",
    )
    .bind(services)
    .fetch_all(connection)
    .await?;
    let keyed = rows.into_iter();
    Ok(keyed
        .map(|(service, environment, version, at, answered)| ((service, environment, version, at), answered))
        .collect())
}

async fn forget(connection: &mut PgConnection, gone: &[&Key]) -> Result<(), StoreError> {
    if gone.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "DELETE FROM deploy_answer WHERE (service_id, environment_id, version, at) IN (SELECT * FROM UNNEST($1::int[], \
         $2::int[], $3::text[], $4::timestamptz[]))",
    )
    .bind(gone.iter().map(|key| key.0).collect::<Vec<_>>())
    .bind(gone.iter().map(|key| key.1).collect::<Vec<_>>())
    .bind(gone.iter().map(|key| key.2.clone()).collect::<Vec<_>>())
    .bind(gone.iter().map(|key| key.3).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// By when an answer is to be made anew though nothing changed: after a tenth of the deploy's age, of 15 seconds at least
/// and an hour at most; never once nothing of it is counted any more.
fn due_at(at: DateTime<Utc>, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    let age = now - at;
    let wait = (age / 10).clamp(TimeDelta::seconds(15), TimeDelta::hours(1));
    (age < CHARGED + LATE).then(|| now + wait)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::deploys::{list, record};
    use crate::testing::{announced, database, failing, now as at, of, resource_of, spans, store, trace, writer};

    const FORM: i16 = 7;

    /// Answers all that waits with a word. Returns the versions that waited, the newest deploy first.
    async fn answer(database: &Database, word: &str, now: DateTime<Utc>) -> Vec<String> {
        let mut versions = vec![];
        loop {
            let round = begin(database, FORM, now).await.unwrap().expect("nobody else is at it");
            versions.extend(round.deploys.iter().map(|deploy| deploy.version.clone()));
            let (is_more, count) = (round.is_more, round.deploys.len());
            let answer = Answer {
                answer: json!(word),
                services: vec!["fares".to_owned()],
            };
            round.keep(&vec![answer; count]).await.unwrap();
            if !is_more {
                return versions;
            }
        }
    }

    /// The answers that hold, the newest deploy first.
    async fn holding(database: &Database, now: DateTime<Utc>) -> Vec<Option<Value>> {
        let window = (now - TimeDelta::days(30), now);
        let all = list(database, (None, None), window, 99).await.unwrap();
        held(database, &all, FORM, now).await.unwrap()
    }

    async fn flag(database: &Database, since: DateTime<Utc>) {
        sqlx::query(
            "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, count, \
             expected, evidence) SELECT e.id, e.service_id, v.id, 'new', '2.5.0', true, $1, $1, 1, 0, 1 FROM error_group \
             e, environment v WHERE v.name = 'production'",
        )
        .bind(since)
        .execute(&database.pool)
        .await
        .unwrap();
    }

    /// Stores a failure of a service in production.
    async fn fails(database: &Database, service: &str, version: &str) {
        let of_version = resource_of(&[
            ("service.name", service),
            ("service.version", version),
            ("deployment.environment.name", "production"),
        ]);
        let failure = failing(trace(1), 1, None, at(), "no fare");
        store(&writer(database), &[spans(vec![of(of_version, vec![failure])], at())]).await;
    }

    /// An error of fares 2.5.0 now; 2.4.0 was announced four days ago, 2.5.0 two hours ago.
    async fn two_deploys(now: DateTime<Utc>) -> Database {
        let database = database().await;
        fails(&database, "fares", "2.5.0").await;
        for (version, ago) in [("2.4.0", TimeDelta::days(4)), ("2.5.0", TimeDelta::hours(2))] {
            record(&database, &announced(version, now - ago)).await.unwrap();
        }
        database
    }

    #[tokio::test]
    async fn an_answer_holds_until_a_flag_changes_that_is_charged_to_its_deploy() {
        let now = Utc::now();
        let database = two_deploys(now).await;
        assert_eq!(holding(&database, now).await, [None, None]);
        assert_eq!(answer(&database, "first", now).await, ["2.5.0", "2.4.0"]);
        let both = |word: &str| vec![Some(json!(word)); 2];
        assert_eq!(holding(&database, now).await, both("first"));
        assert_eq!(answer(&database, "again", now).await, Vec::<String>::new());
        flag(&database, now - TimeDelta::hours(1)).await;
        assert_eq!(holding(&database, now).await, [None, Some(json!("first"))]);
        assert_eq!(answer(&database, "flagged", now).await, ["2.5.0"]);
        assert_eq!(
            holding(&database, now).await,
            [Some(json!("flagged")), Some(json!("first"))]
        );
        for change in [
            "UPDATE error_group SET title = 'no fare is known'",
            "UPDATE flag SET ended_at = now()",
            "DELETE FROM flag",
        ] {
            sqlx::raw_sql(change).execute(&database.pool).await.unwrap();
            assert_eq!(answer(&database, "changed", now).await, ["2.5.0"], "{change}");
        }
        sqlx::raw_sql("UPDATE service SET display_name = 'Fares'")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(answer(&database, "named", now).await, ["2.5.0", "2.4.0"]);
    }

    #[tokio::test]
    async fn a_change_while_answers_are_made_is_not_lost() {
        let now = Utc::now();
        let database = two_deploys(now).await;
        answer(&database, "first", now).await;
        flag(&database, now - TimeDelta::hours(1)).await;
        let round = begin(&database, FORM, now).await.unwrap().unwrap();
        assert!(begin(&database, FORM, now).await.unwrap().is_none(), "one at a time");
        sqlx::raw_sql("UPDATE flag SET ended_at = now()")
            .execute(&database.pool)
            .await
            .unwrap();
        let answer_of = |word: &str| Answer {
            answer: json!(word),
            services: vec![],
        };
        round.keep(&[answer_of("before")]).await.unwrap();
        assert_eq!(holding(&database, now).await[0], None);
        assert_eq!(answer(&database, "after", now).await, ["2.5.0"]);
    }

    #[tokio::test]
    async fn answers_of_another_release_and_of_deploys_that_are_no_more_do_not_stay() {
        let now = Utc::now();
        let database = two_deploys(now).await;
        answer(&database, "first", now).await;
        sqlx::raw_sql("UPDATE deploy_answer SET form = 6")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(holding(&database, now).await, [None, None]);
        assert_eq!(answer(&database, "anew", now).await, ["2.5.0", "2.4.0"]);
        // Its telemetry turns out to have begun before it was announced.
        sqlx::query("UPDATE deployed SET first_event_at = $1")
            .bind(now - TimeDelta::minutes(150))
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(holding(&database, now).await, [None, Some(json!("anew"))]);
        assert_eq!(answer(&database, "earlier", now).await, ["2.5.0"]);
        let kept: i64 = sqlx::query_scalar("SELECT count(*) FROM deploy_answer")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        assert_eq!(kept, 2);
    }

    #[tokio::test]
    async fn more_deploys_than_one_round_answers_are_answered_in_some() {
        let now = Utc::now();
        let database = database().await;
        for hour in 1..=100 {
            let at = now - TimeDelta::hours(hour);
            record(&database, &announced(&format!("1.{hour}"), at)).await.unwrap();
        }
        let answered = answer(&database, "all", now).await;
        let wanted: Vec<String> = (1..=100).map(|hour| format!("1.{hour}")).collect();
        assert_eq!(answered, wanted);
    }

    #[tokio::test]
    async fn an_answer_that_tells_of_a_closed_service_does_not_hold_for_whom_it_is_closed() {
        let now = Utc::now();
        let database = two_deploys(now).await;
        fails(&database, "ledger", "1.0.0").await;
        answer(&database, "all", now).await;
        sqlx::raw_sql("UPDATE deploy_answer SET services = '{fares,ledger}' WHERE version = '2.5.0'")
            .execute(&database.pool)
            .await
            .unwrap();
        let ledger: i32 = sqlx::query_scalar("SELECT id FROM service WHERE name = 'ledger'")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        let seen = database.seen_by(&[ledger]);
        assert_eq!(holding(&seen, now).await, [None, Some(json!("all"))]);
        assert_eq!(holding(&database, now).await, vec![Some(json!("all")); 2]);
    }

    #[test]
    fn an_answer_is_due_sooner_the_younger_its_deploy_and_final_two_days_after_it() {
        let now = Utc::now();
        for (minutes_ago, seconds) in [
            (0, Some(15)),
            (2, Some(15)),
            (30, Some(180)),
            (600, Some(3_600)),
            (2_000, Some(3_600)),
            (2_881, None),
        ] {
            let due = due_at(now - TimeDelta::minutes(minutes_ago), now);
            assert_eq!(due.map(|due| (due - now).num_seconds()), seconds, "{minutes_ago} min");
        }
    }
}
