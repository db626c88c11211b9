//! What deploys brought, as their pipelines read it from the repository.

use outcrop_core::touching::Commit;

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
/// [`StoreError`] when the database does not answer.
pub async fn note(database: &Database, service: &str, version: &str, changes: &Changes) -> Result<(), StoreError> {
    let json = |value: serde_json::Result<serde_json::Value>| value.unwrap_or_default();
    sqlx::query(
        "INSERT INTO deploy_change (service_id, version, repository, commits, owners) SELECT min(id), $2, $3, $4, $5 FROM service WHERE name = $1 \
         HAVING min(id) IS NOT NULL ON CONFLICT (service_id, version) \
         DO UPDATE SET repository = excluded.repository, commits = excluded.commits, owners = excluded.owners, sent_at = now()",
    )
    .bind(service)
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
/// [`StoreError`] when the database does not answer.
pub async fn of_version(database: &Database, service: &str, version: &str) -> Result<Option<Changes>, StoreError> {
    let found: Option<(String, serde_json::Value, serde_json::Value)> = sqlx::query_as(
        "SELECT repository, commits, owners FROM deploy_change JOIN service ON service.id = deploy_change.service_id WHERE service.name = $1 AND version = $2",
    )
    .bind(service)
    .bind(version)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map(|(repository, commits, owners)| Changes {
        repository,
        commits: serde_json::from_value(commits).unwrap_or_default(),
        owners: serde_json::from_value(owners).unwrap_or_default(),
    }))
}
