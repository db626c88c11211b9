//! Names of environments and versions, by their numbers.

use std::collections::HashMap;

use chrono::{DateTime, Utc};

use crate::{Database, StoreError};

/// Names of environments and versions, the latter with the order they were first received in.
pub(crate) struct Labels {
    pub(super) environments: HashMap<i32, String>,
    pub(super) versions: HashMap<i32, (DateTime<Utc>, String)>,
}

impl Labels {
    pub(crate) async fn named(
        database: &Database,
        environments: Vec<i32>,
        versions: Vec<i32>,
    ) -> Result<Self, StoreError> {
        type Named = Vec<(i32, String)>;
        type Ordered = Vec<(i32, Option<DateTime<Utc>>, String)>;
        let environments = sqlx::query_as("SELECT id, name FROM environment WHERE id = ANY($1)")
            .bind(environments)
            .fetch_all(&database.pool);
        let versions = sqlx::query_as(
            "SELECT v.id, min(d.first_received_at), v.label FROM version v LEFT JOIN deployed d ON d.version_id = \
             v.id WHERE v.id = ANY($1) GROUP BY v.id, v.label",
        )
        .bind(versions)
        .fetch_all(&database.pool);
        let (environments, versions): (Named, Ordered) = futures_util::try_join!(environments, versions)?;
        Ok(Self {
            environments: environments.into_iter().collect(),
            versions: versions
                .into_iter()
                .map(|(id, at, label)| (id, (at.unwrap_or_default(), label)))
                .collect(),
        })
    }

    pub(crate) fn environments(&self, ids: &[i32]) -> Vec<String> {
        let mut names: Vec<String> = ids.iter().filter_map(|id| self.environments.get(id).cloned()).collect();
        names.sort();
        names
    }

    pub(crate) fn versions(&self, ids: &[i32]) -> Vec<String> {
        let mut labels: Vec<&(DateTime<Utc>, String)> = ids.iter().filter_map(|id| self.versions.get(id)).collect();
        labels.sort();
        labels.into_iter().map(|(_, label)| label.clone()).collect()
    }
}
