//! What people say of services, and predicates saved under a name.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::scrub::Addresses;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// What is said of a service; empty where nothing is.
#[derive(Clone, Debug, Default, PartialEq, Eq, FromRow)]
pub struct ServiceSetting {
    /// Template of a link to a line of source.
    pub source_url: Option<String>,
    /// The folder the code runs in.
    pub source_root: Option<String>,
    /// The attribute that tells instance groups apart.
    pub instance_group: Option<String>,
    /// The attribute that names the customer.
    pub customer: Option<String>,
    /// Whether e-mail addresses are kept as they are; where not, pseudonyms stand for them.
    pub keep_addresses: Option<bool>,
}

impl ServiceSetting {
    /// This, with what it leaves open taken from another.
    #[must_use]
    pub fn or(self, other: &Self) -> Self {
        Self {
            source_url: self.source_url.or_else(|| other.source_url.clone()),
            source_root: self.source_root.or_else(|| other.source_root.clone()),
            instance_group: self.instance_group.or_else(|| other.instance_group.clone()),
            customer: self.customer.or_else(|| other.customer.clone()),
            keep_addresses: self.keep_addresses.or(other.keep_addresses),
        }
    }
}

/// What is said of each service by number; what is said of all stands under `None`.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn all(database: &Database) -> Result<HashMap<Option<i32>, ServiceSetting>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        service_id: Option<i32>,
        #[sqlx(flatten)]
        setting: ServiceSetting,
    }
    let rows: Vec<Row> = sqlx::query_as("SELECT * FROM service_setting")
        .fetch_all(&database.pool)
        .await?;
    Ok(rows.into_iter().map(|row| (row.service_id, row.setting)).collect())
}

/// What holds for a service of this name: its own words, else those for all.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_service(database: &Database, service: &str) -> Result<ServiceSetting, StoreError> {
    Ok(own(database, Some(service)).await?.or(&own(database, None).await?))
}

/// What is said of a service itself, or of all.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn own(database: &Database, service: Option<&str>) -> Result<ServiceSetting, StoreError> {
    let service = match service {
        Some(name) => match crate::people::service_names::named(database, name).await? {
            Some(service) => Some(service.id),
            None => return Ok(ServiceSetting::default()),
        },
        None => None,
    };
    let found: Option<ServiceSetting> = sqlx::query_as(
        "SELECT source_url, source_root, instance_group, customer, keep_addresses FROM service_setting WHERE \
         service_id IS NOT DISTINCT FROM $1",
    )
    .bind(service)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.unwrap_or_default())
}

/// Sets what is said of a service, or of all. Returns whether there is such a service.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn set(database: &Database, service: Option<&str>, setting: &ServiceSetting) -> Result<bool, StoreError> {
    let service = match service {
        Some(name) => match crate::people::service_names::named(database, name).await? {
            Some(service) => Some(service.id),
            None => return Ok(false),
        },
        None => None,
    };
    let done = sqlx::query(
        "INSERT INTO service_setting (service_id, source_url, source_root, instance_group, customer, keep_addresses) \
         VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (service_id) DO UPDATE SET source_url = $2, source_root = $3, \
         instance_group = $4, customer = $5, keep_addresses = $6",
    )
    .bind(service)
    .bind(&setting.source_url)
    .bind(&setting.source_root)
    .bind(&setting.instance_group)
    .bind(&setting.customer)
    .bind(setting.keep_addresses)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Whose e-mail addresses are kept, and the key of this installation's pseudonyms.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn addresses(database: &Database) -> Result<Addresses, StoreError> {
    let (key,): (uuid::Uuid,) = sqlx::query_as("SELECT pseudonym_key FROM installation")
        .fetch_one(&database.pool)
        .await?;
    let said: Vec<(Option<String>, bool)> = sqlx::query_as(
        "SELECT service.name, keep_addresses FROM service_setting LEFT JOIN service ON service.id = service_id WHERE \
         keep_addresses IS NOT NULL",
    )
    .fetch_all(&database.pool)
    .await?;
    let mut addresses = Addresses {
        key: key.into_bytes(),
        ..Addresses::default()
    };
    for (service, keep) in said {
        match (service, keep) {
            (None, keep) => addresses.kept_for_others = keep,
            (Some(service), true) => drop(addresses.kept_for.insert(service)),
            (Some(service), false) => drop(addresses.hidden_for.insert(service)),
        }
    }
    Ok(addresses)
}

/// A predicate saved under a name.
#[derive(Clone, Debug, FromRow)]
pub struct Slice {
    /// Its name.
    pub name: String,
    /// The predicate.
    pub predicate: String,
    /// Who saved it.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// All saved slices, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn slices(database: &Database) -> Result<Vec<Slice>, StoreError> {
    Ok(
        sqlx::query_as("SELECT name, predicate, by, at FROM slice ORDER BY name")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// Saves a slice, or changes the one of that name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn save_slice(database: &Database, name: &str, predicate: &str, by: &str) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO slice (name, predicate, by) VALUES ($1, $2, $3) ON CONFLICT (name) DO UPDATE SET predicate = $2, \
         by = $3, at = now()",
    )
    .bind(name)
    .bind(predicate)
    .bind(by)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Removes a slice; whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove_slice(database: &Database, name: &str) -> Result<bool, StoreError> {
    Ok(sqlx::query("DELETE FROM slice WHERE name = $1")
        .bind(name)
        .execute(&database.pool)
        .await?
        .rows_affected()
        > 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now, of, resource, span, spans, store, trace, writer};

    fn source(url: &str) -> ServiceSetting {
        ServiceSetting {
            source_url: Some(url.to_owned()),
            ..ServiceSetting::default()
        }
    }

    #[test]
    fn what_is_left_open_is_taken_from_what_holds_for_all() {
        let own = ServiceSetting {
            keep_addresses: Some(false),
            ..source("of its own")
        };
        let all = ServiceSetting {
            customer: Some("skerry.port".to_owned()),
            keep_addresses: Some(true),
            ..source("of all")
        };
        let holds = own.or(&all);
        assert_eq!(holds.source_url.as_deref(), Some("of its own"));
        assert_eq!(holds.customer.as_deref(), Some("skerry.port"));
        assert_eq!(
            holds.keep_addresses,
            Some(false),
            "a choice of its own holds, also against"
        );
    }

    #[tokio::test]
    async fn a_service_has_its_own_words_else_those_for_all_and_an_unknown_one_none() {
        let database = database().await;
        let sent = vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])];
        store(&writer(&database), &[spans(sent, now())]).await;
        assert!(set(&database, None, &source("all")).await.unwrap());
        assert_eq!(of_service(&database, "fares").await.unwrap(), source("all"));
        assert!(set(&database, Some("fares"), &source("fares")).await.unwrap());
        assert!(
            set(&database, Some("fares"), &source("again")).await.unwrap(),
            "what is said last holds"
        );
        assert_eq!(of_service(&database, "fares").await.unwrap(), source("again"));
        assert_eq!(own(&database, None).await.unwrap(), source("all"));
        assert!(!set(&database, Some("nobody"), &source("x")).await.unwrap());
        assert_eq!(all(&database).await.unwrap().len(), 2);
    }

    #[tokio::test]
    async fn addresses_are_kept_for_whom_it_is_said_and_hidden_for_others() {
        let database = database().await;
        let sent = vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])];
        store(&writer(&database), &[spans(sent, now())]).await;
        assert!(
            addresses(&database).await.unwrap().hides("fares"),
            "hidden where nothing is said"
        );
        let keep = |keep| ServiceSetting {
            keep_addresses: Some(keep),
            ..ServiceSetting::default()
        };
        set(&database, None, &keep(true)).await.unwrap();
        set(&database, Some("fares"), &keep(false)).await.unwrap();
        let said = addresses(&database).await.unwrap();
        assert_eq!((said.hides("fares"), said.hides("berths")), (true, false));
    }

    #[tokio::test]
    async fn slices_are_listed_by_name_changed_and_removed() {
        let database = database().await;
        save_slice(&database, "winter", "season = winter", "purser@skerry.example")
            .await
            .unwrap();
        save_slice(&database, "crew", "user.id like \"c-*\"", "purser@skerry.example")
            .await
            .unwrap();
        save_slice(&database, "winter", "season = high", "bosun@skerry.example")
            .await
            .unwrap();
        let found: Vec<_> = slices(&database)
            .await
            .unwrap()
            .into_iter()
            .map(|slice| (slice.name, slice.by))
            .collect();
        let by = |name: &str, by: &str| (name.to_owned(), by.to_owned());
        assert_eq!(
            found,
            [
                by("crew", "purser@skerry.example"),
                by("winter", "bosun@skerry.example")
            ]
        );
        assert!(remove_slice(&database, "winter").await.unwrap());
        assert!(!remove_slice(&database, "winter").await.unwrap());
    }
}
