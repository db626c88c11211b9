//! What deploys brought, as their pipelines read it from the repository.

use outcrop_core::touching::Commit;

use crate::boxed;
use crate::{Database, StoreError};

/// Who owns the files of a pattern.
pub type Owned = (String, Vec<String>);

/// What a deploy brought.
#[derive(Clone, Debug, Default)]
pub struct Changes {
    /// The repository's name.
    pub repository: String,
    /// Its commits.
    pub commits: Vec<Commit>,
    /// Patterns with their owners; the last that fits a file counts.
    pub owners: Vec<Owned>,
}

/// Notes what a version of a service brought; what was noted before is replaced.
///
/// # Errors
/// [`StoreError::Ambiguous`] where the service's name stands in several namespaces; others when the
/// database does not answer.
#[boxed]
pub async fn note(database: &Database, service: &str, version: &str, changes: &Changes) -> Result<(), StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(());
    };
    let json = |value: serde_json::Result<serde_json::Value>| value.unwrap_or_default();
    sqlx::query(
        "INSERT INTO deploy_change (service_id, version, repository, commits, owners) VALUES ($1, $2, $3, $4, $5) \
         ON CONFLICT (service_id, version) \
         DO UPDATE SET repository = excluded.repository, commits = excluded.commits, owners = excluded.owners, \
         sent_at = now()",
    )
    .bind(service.id)
    .bind(version)
    .bind(&changes.repository)
    .bind(json(serde_json::to_value(&changes.commits)))
    .bind(json(serde_json::to_value(&changes.owners)))
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// What a version of a service brought; `None` where nobody said.
///
/// # Errors
/// [`StoreError::Ambiguous`] where the service's name stands in several namespaces; others when the
/// database does not answer.
#[boxed]
pub async fn of_version(database: &Database, service: &str, version: &str) -> Result<Option<Changes>, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(None);
    };
    let found: Option<(String, serde_json::Value, serde_json::Value)> =
        sqlx::query_as("SELECT repository, commits, owners FROM deploy_change WHERE service_id = $1 AND version = $2")
            .bind(service.id)
            .bind(version)
            .fetch_optional(&database.pool)
            .await?;
    Ok(found.map(|(repository, commits, owners)| Changes {
        repository,
        commits: serde_json::from_value(commits).unwrap_or_default(),
        owners: serde_json::from_value(owners).unwrap_or_default(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now, of, resource, span, spans, store, trace, writer};

    #[tokio::test]
    async fn what_a_version_brought_is_replaced_by_what_is_said_later() {
        let database = database().await;
        let sent = vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])];
        store(&writer(&database), &[spans(sent, now())]).await;
        assert!(of_version(&database, "fares", "2.5.0").await.unwrap().is_none());
        let changes = |repository: &str| Changes {
            repository: repository.to_owned(),
            owners: vec![("app/**".to_owned(), vec!["deck team".to_owned()])],
            ..Changes::default()
        };
        for repository in ["skerry/fares", "skerry/fares-2"] {
            note(&database, "fares", "2.5.0", &changes(repository)).await.unwrap();
        }
        let found = of_version(&database, "fares", "2.5.0").await.unwrap().unwrap();
        assert_eq!(
            (found.repository.as_str(), found.owners),
            ("skerry/fares-2", changes("").owners)
        );
        note(&database, "nobody", "1", &changes("x")).await.unwrap();
        assert!(
            of_version(&database, "nobody", "1").await.unwrap().is_none(),
            "a service that never sent anything"
        );
    }
}
