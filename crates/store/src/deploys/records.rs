//! Deploys as they are announced, and as they are seen.

use chrono::{DateTime, TimeDelta, Utc};
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::deployed::DEPLOYS;
use crate::{Database, StoreError};

/// A deploy to record.
#[derive(Clone, Debug)]
pub struct NewDeploy {
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over, or a canary ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic that a canary takes, 0 to 1.
    pub share: Option<f32>,
    /// The instance group that it goes to.
    pub instance_group: Option<String>,
    /// The commit.
    pub revision: String,
    /// The pipeline's page.
    pub link: String,
    /// Who recorded it.
    pub by: String,
}

/// Records a deploy; of the same version at the same time, what is said last holds.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn record(database: &Database, deploy: &NewDeploy) -> Result<(), StoreError> {
    let known = crate::people::service_names::named(database, &deploy.service).await?;
    let (namespace, service) = known.map_or_else(
        || (String::new(), deploy.service.clone()),
        |service| (service.namespace, service.name),
    );
    let identity = outcrop_core::telemetry::names::Identity {
        namespace,
        service,
        environment: deploy.environment.clone(),
        version: deploy.version.clone(),
    };
    let names = crate::writing::dictionary::names::Names::default();
    let wanted = [(&identity, (0, std::collections::BTreeSet::new()))].into();
    let numbers = names
        .resolve(
            &database.writing,
            &wanted,
            crate::times::day_number(crate::from_utc(Utc::now())),
        )
        .await?;
    let sender = numbers.senders[&identity];
    sqlx::query(
        "INSERT INTO deploy (service_id, environment_id, version_id, at, ended_at, share, revision, link, by, \
         instance_group) \
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) \
         ON CONFLICT (service_id, environment_id, version_id, at) DO UPDATE SET ended_at = excluded.ended_at, share = \
         excluded.share, \
             instance_group = excluded.instance_group, revision = excluded.revision, link = excluded.link, by = \
             excluded.by",
    )
    .bind(sender.service)
    .bind(sender.environment)
    .bind(sender.version)
    .bind(deploy.at)
    .bind(deploy.ended_at)
    .bind(deploy.share)
    .bind(&deploy.revision)
    .bind(&deploy.link)
    .bind(&deploy.by)
    .bind(&deploy.instance_group)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// A deploy, announced or seen.
#[derive(Clone, Debug, FromRow)]
pub struct Deploy {
    /// The service's number.
    pub service_id: i32,
    /// The service.
    pub service: String,
    /// The environment's number.
    pub environment_id: i32,
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// When it began: as announced, else its first telemetry.
    pub at: DateTime<Utc>,
    /// When it was over, if that was announced.
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic of a canary.
    pub share: Option<f32>,
    /// The instance group that it went to.
    pub instance_group: Option<String>,
    /// Whether it was announced; else seen from its first telemetry.
    pub announced: bool,
    /// Whether the version had run there before and another came between.
    pub rollback: bool,
    /// The commit.
    pub revision: String,
    /// The pipeline's page.
    pub link: String,
    /// Who recorded it.
    pub by: String,
    /// Its latest telemetry.
    pub last_event_at: Option<DateTime<Utc>>,
}

/// Deploys of a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn list(
    database: &Database,
    (service, environment): (Option<&str>, Option<&str>),
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    limit: i64,
) -> Result<Vec<Deploy>, StoreError> {
    let statement = format!(
        "{DEPLOYS} WHERE at >= $1 AND at < $2 AND ($3::text IS NULL OR service.id IN (SELECT services_named($3))) AND \
         ($4::text IS NULL OR environment.name = $4) \
         ORDER BY at DESC, service.display_name, version.label LIMIT $5"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(from)
        .bind(to)
        .bind(service)
        .bind(environment)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

/// Deploys of some services in a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(super) async fn of_services(
    connection: &mut PgConnection,
    services: &[i32],
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<Vec<Deploy>, StoreError> {
    // What a version's first telemetry says of it concerns its own service alone.
    let own = DEPLOYS.replacen("FROM deployed)", "FROM deployed WHERE service_id = ANY($1))", 1);
    let statement = format!("{own} WHERE service.id = ANY($1) AND at >= $2 AND at < $3 ORDER BY at DESC, 1, 3, 5");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(services)
        .bind(from)
        .bind(to)
        .fetch_all(connection)
        .await?)
}

/// The latest deploy of a version, if there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_version(
    database: &Database,
    service: &str,
    version: &str,
    environment: &str,
) -> Result<Option<Deploy>, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(None);
    };
    let statement = format!(
        "{DEPLOYS} WHERE service.id = $1 AND version.label = $2 AND environment.name = $3 ORDER BY at DESC LIMIT 1"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(service.id)
        .bind(version)
        .bind(environment)
        .fetch_optional(&database.pool)
        .await?)
}

/// How long after a deploy flags are charged to it, at most.
pub const CHARGED: TimeDelta = TimeDelta::hours(24);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{announced, database};

    #[tokio::test]
    async fn a_deploy_is_listed_newest_first_narrowed_and_what_is_said_last_of_it_holds() {
        let database = database().await;
        let at = Utc::now() - TimeDelta::hours(2);
        let hour = TimeDelta::hours(1);
        record(&database, &announced("2.4.0", at)).await.unwrap();
        record(&database, &announced("2.5.0", at + hour)).await.unwrap();
        let again = NewDeploy {
            link: "https://ci.skerry.example/7".to_owned(),
            ..announced("2.5.0", at + hour)
        };
        record(&database, &again).await.unwrap();
        let staging = NewDeploy {
            environment: "staging".to_owned(),
            ..announced("2.6.0", at)
        };
        record(&database, &staging).await.unwrap();
        let all = (at - hour, at + hour * 2);
        let versions = async |service, environment, window, limit| {
            let found = list(&database, (service, environment), window, limit).await.unwrap();
            found.into_iter().map(|deploy| deploy.version).collect::<Vec<_>>()
        };
        assert_eq!(
            versions(Some("fares"), Some("production"), all, 9).await,
            ["2.5.0", "2.4.0"]
        );
        assert_eq!(versions(None, None, all, 9).await, ["2.5.0", "2.4.0", "2.6.0"]);
        assert_eq!(versions(None, None, all, 1).await, ["2.5.0"]);
        assert_eq!(
            versions(None, None, (at + hour * 3, at + hour * 4), 9).await,
            Vec::<String>::new()
        );
        assert_eq!(versions(Some("nobody"), None, all, 9).await, Vec::<String>::new());
        let one = of_version(&database, "fares", "2.5.0", "production")
            .await
            .unwrap()
            .unwrap();
        assert_eq!(
            (one.link.as_str(), one.announced),
            ("https://ci.skerry.example/7", true)
        );
        assert!(
            of_version(&database, "fares", "2.5.0", "staging")
                .await
                .unwrap()
                .is_none()
        );
    }

    #[tokio::test]
    async fn a_version_that_ran_before_another_is_a_rollback() {
        let database = database().await;
        let at = Utc::now() - TimeDelta::hours(3);
        for (hours, version) in [(0, "2.4.0"), (1, "2.5.0"), (2, "2.4.0")] {
            record(&database, &announced(version, at + TimeDelta::hours(hours)))
                .await
                .unwrap();
        }
        let found = list(&database, (None, None), (at, Utc::now()), 9).await.unwrap();
        let told: Vec<(&str, bool)> = found.iter().map(|deploy| (&*deploy.version, deploy.rollback)).collect();
        assert_eq!(told, [("2.4.0", true), ("2.5.0", false), ("2.4.0", false)]);
    }
}
