//! Errors that are settled by a commit: the first deploy that holds it settles them in its version.

use chrono::{DateTime, Utc};
use sqlx::PgConnection;

use super::kept::{HandlingError, held, keep, write_down};
use crate::boxed;
use crate::{Database, StoreError};

/// Whose commits are looked for in the deploys.
#[derive(Clone, Copy)]
pub(super) enum Waiting {
    Error(i32),
    Service(i32),
}

/// Settles the errors of a service whose commit a deploy is now known to hold, each in the version of the first that
/// does. Returns how many.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn meet_commits(database: &Database, service: &str, at: DateTime<Utc>) -> Result<usize, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(0);
    };
    let mut transaction = database.pool.begin().await?;
    let met = meet(&mut transaction, Waiting::Service(service.id), at).await;
    let met = match met {
        Ok(met) => met,
        Err(HandlingError::Store(error)) => return Err(error),
        // Nobody's last change is asked for.
        Err(_) => 0,
    };
    transaction.commit().await?;
    Ok(met)
}

pub(super) async fn meet(
    connection: &mut PgConnection,
    waiting: Waiting,
    at: DateTime<Utc>,
) -> Result<usize, HandlingError> {
    let (error, service) = match waiting {
        Waiting::Error(error) => (Some(error), None),
        Waiting::Service(service) => (None, Some(service)),
    };
    let found: Vec<(i32, String)> = sqlx::query_as(
        "SELECT h.error_id, first.version FROM handling h JOIN error_group e ON e.id = h.error_id \
         CROSS JOIN LATERAL (SELECT version FROM (\
             SELECT version.label AS version, d.at FROM deploy d JOIN version ON version.id = d.version_id \
                 WHERE d.service_id = e.service_id AND starts_with(lower(d.revision), h.settled_by) \
             UNION ALL SELECT c.version, coalesce((SELECT min(d.at) FROM deploy d JOIN version v ON v.id = d.version_id \
                     WHERE d.service_id = c.service_id AND v.label = c.version), c.sent_at) FROM deploy_change c \
                 WHERE c.service_id = e.service_id AND EXISTS (SELECT FROM jsonb_array_elements(c.commits) commit \
                     WHERE starts_with(lower(commit->>'id'), h.settled_by))) held ORDER BY at LIMIT 1) first \
         WHERE h.settled_by IS NOT NULL AND h.settled_in IS NULL AND (h.error_id = $1 OR e.service_id = $2) \
         ORDER BY h.error_id",
    )
    .bind(error)
    .bind(service)
    .fetch_all(&mut *connection)
    .await?;
    let mut met = 0;
    for (error, version) in found {
        let before = held(&mut *connection, crate::ids::reference(error), None).await?;
        // Somebody may have done something about it before this transaction held it.
        if before.awaits_a_deploy() {
            keep(&mut *connection, error, &before.met(&version, at)).await?;
            write_down(
                &mut *connection,
                error,
                ("outcrop", at),
                ("settle", &version),
                Some(&before),
            )
            .await?;
            met += 1;
        }
    }
    Ok(met)
}

#[cfg(test)]
mod tests {
    use outcrop_core::Reference;
    use outcrop_core::touching::Commit;

    use super::*;
    use crate::deploys::changes::{self, Changes};
    use crate::deploys::{NewDeploy, record};
    use crate::errors::handling::{self, Action, Handling, Settled, act, undo};
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    const COMMIT: &str = "3f2a1c9e5b7d4f60812a9c3e7b1d5f4a6c8e0b21";

    fn at(minutes: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_796_000_000 + minutes * 60, 0).unwrap()
    }

    fn deploy(version: &str, revision: &str, minutes: i64) -> NewDeploy {
        NewDeploy {
            service: "fares".to_owned(),
            environment: "production".to_owned(),
            version: version.to_owned(),
            at: at(minutes),
            ended_at: None,
            share: None,
            instance_group: None,
            revision: revision.to_owned(),
            link: String::new(),
            by: "pipeline".to_owned(),
        }
    }

    async fn one_error(database: &Database) -> Reference {
        let failure = failing(trace(1), 1, None, now(), "no tariff");
        store(
            &writer(database),
            &[spans(vec![of(resource("fares"), vec![failure])], now())],
        )
        .await;
        let id = number(database, "SELECT id::bigint FROM error_group").await;
        crate::ids::reference(id.try_into().unwrap())
    }

    async fn settle(database: &Database, error: Reference, settled: Settled) {
        act(database, &[error], &Action::Settle(settled), ("purser", at(0)), None)
            .await
            .unwrap();
    }

    async fn facts(database: &Database, error: Reference) -> Handling {
        let number = crate::ids::number(error);
        let mut all = handling::of(database, Some(&[number])).await.unwrap();
        all.remove(&number).unwrap_or_default()
    }

    #[tokio::test]
    async fn the_first_deploy_that_holds_the_commit_settles_and_a_later_one_changes_nothing() {
        let database = database().await;
        let error = one_error(&database).await;
        settle(&database, error, Settled::By("3f2a1c9".to_owned())).await;
        let waiting = facts(&database, error).await;
        assert!(waiting.is_settled() && !waiting.is_open(at(1)) && waiting.settled_at.is_none());
        assert_eq!(waiting.in_words(at(1)).unwrap(), "settled by commit 3f2a1c9");

        record(&database, &deploy("2.4.1", "77aa001", 1)).await.unwrap();
        assert_eq!(
            meet_commits(&database, "fares", at(1)).await.unwrap(),
            0,
            "another commit"
        );
        assert_eq!(meet_commits(&database, "nobody", at(1)).await.unwrap(), 0);

        let commit = Commit {
            id: COMMIT.to_owned(),
            ..Commit::default()
        };
        let brought = Changes {
            commits: vec![commit],
            ..Changes::default()
        };
        record(&database, &deploy("2.4.2", "88bb002", 2)).await.unwrap();
        changes::note(&database, "fares", "2.4.2", &brought).await.unwrap();
        assert_eq!(meet_commits(&database, "fares", at(2)).await.unwrap(), 1);
        let met = facts(&database, error).await;
        assert_eq!(
            (met.settled_in.as_deref(), met.settled_by.as_deref(), met.settled_at),
            (Some("2.4.2"), Some("3f2a1c9"), Some(at(2)))
        );
        record(&database, &deploy("2.4.3", COMMIT, 3)).await.unwrap();
        assert_eq!(meet_commits(&database, "fares", at(3)).await.unwrap(), 0);

        let history = handling::changes(&database, error).await.unwrap();
        let told: Vec<_> = history
            .iter()
            .map(|change| (change.by.as_str(), change.verb.as_str()))
            .collect();
        assert_eq!(told, [("outcrop", "settle"), ("purser", "settle by")]);
        undo(&database, error, history[0].id, "purser", at(4)).await.unwrap();
        assert!(facts(&database, error).await.settled_in.is_none(), "it waits again");
    }

    #[tokio::test]
    async fn a_commit_that_is_deployed_already_settles_in_the_first_version_that_holds_it() {
        let database = database().await;
        let error = one_error(&database).await;
        record(&database, &deploy("2.4.2", COMMIT, 2)).await.unwrap();
        record(&database, &deploy("2.4.1", &COMMIT.to_uppercase(), 1))
            .await
            .unwrap();
        settle(&database, error, Settled::By(COMMIT.to_owned())).await;
        assert_eq!(facts(&database, error).await.settled_in.as_deref(), Some("2.4.1"));
    }
}
