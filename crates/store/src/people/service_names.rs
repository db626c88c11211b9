//! A service by the name that people say.

use crate::boxed;
use crate::{Database, StoreError};

/// A service.
#[derive(Clone, Debug, PartialEq, Eq, sqlx::FromRow)]
pub(crate) struct Service {
    pub id: i32,
    pub namespace: String,
    pub name: String,
}

/// Finds the service of a name; where one name stands in several namespaces it is written `namespace/name`.
///
/// # Errors
/// [`StoreError::Ambiguous`] when the name alone says too little; others when the database does not answer.
pub(crate) async fn named(database: &Database, said: &str) -> Result<Option<Service>, StoreError> {
    let found: Vec<Service> = sqlx::query_as(
        "SELECT id, namespace, name FROM service WHERE id IN (SELECT services_named($1)) ORDER BY \
            namespace, name LIMIT 20",
    )
    .bind(said)
    .fetch_all(&database.pool)
    .await?;
    if found.len() > 1 {
        let names: Vec<String> = found
            .iter()
            .map(|service| format!("{}/{}", service.namespace, service.name))
            .collect();
        return Err(StoreError::Ambiguous(format!(
            "several services are named {said}; say which: {}",
            names.join(", ")
        )));
    }
    Ok(found.into_iter().next())
}

/// All services by their names as pages say them, with their namespaces.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn all(database: &Database) -> Result<Vec<(String, String)>, StoreError> {
    Ok(
        sqlx::query_as("SELECT display_name, namespace FROM service WHERE name NOT LIKE '(%' ORDER BY display_name")
            .fetch_all(&database.pool)
            .await?,
    )
}

/// Whether a name is that of a service that is closed to whoever asks.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn is_closed(database: &Database, said: &str) -> Result<bool, StoreError> {
    match named(database, said).await {
        Ok(None) => {}
        Ok(Some(_)) | Err(StoreError::Ambiguous(_)) => return Ok(false),
        Err(error) => return Err(error),
    }
    match named(&database.whole(), said).await {
        Ok(found) => Ok(found.is_some()),
        Err(StoreError::Ambiguous(_)) => Ok(true),
        Err(error) => Err(error),
    }
}

/// Whether a service asked for is the one shown under a name: by that name, or by its last part
/// where that name holds a namespace.
#[must_use]
pub fn is_meant(asked: &str, shown: &str) -> bool {
    asked == shown || shown.strip_suffix(asked).is_some_and(|rest| rest.ends_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Scope;
    use crate::asking::list_errors;
    use crate::testing::{database, failing, now, of, resource_of, span, spans, store, trace, writer};

    #[tokio::test]
    async fn a_name_in_two_namespaces_has_to_be_said_whole() {
        let database = database().await;
        let group = |namespace: &str, name: &str| {
            let resource = resource_of(&[("service.name", name), ("service.namespace", namespace)]);
            of(resource, vec![span(trace(1), 1, None, now())])
        };
        let batch = [spans(
            vec![group("skerry", "fares"), group("isles", "fares"), group("", "berths")],
            now(),
        )];
        store(&writer(&database), &batch).await;
        assert_eq!(shown(&database).await, ["berths", "isles/fares", "skerry/fares"]);
        let ambiguous = named(&database, "fares").await;
        assert!(
            matches!(&ambiguous, Err(StoreError::Ambiguous(why)) if why.contains("isles/fares, skerry/fares")),
            "{ambiguous:?}"
        );
        assert_eq!(
            named(&database, "skerry/fares")
                .await
                .unwrap()
                .map(|service| service.namespace)
                .as_deref(),
            Some("skerry")
        );
        assert_eq!(
            named(&database, "berths")
                .await
                .unwrap()
                .map(|service| service.name)
                .as_deref(),
            Some("berths")
        );
        assert_eq!(named(&database, "nobody").await.unwrap(), None);
        // What is set holds for the one that was named alone.
        let setting = crate::people::settings::ServiceSetting {
            customer: Some("skerry.line".to_owned()),
            ..Default::default()
        };
        assert!(
            crate::people::settings::set(&database, Some("skerry/fares"), &setting)
                .await
                .unwrap()
        );
        assert_eq!(
            crate::people::settings::own(&database, Some("skerry/fares"))
                .await
                .unwrap()
                .customer,
            setting.customer
        );
        assert_eq!(
            crate::people::settings::own(&database, Some("isles/fares"))
                .await
                .unwrap()
                .customer,
            None
        );
        assert!(
            crate::people::settings::set(&database, Some("fares"), &setting)
                .await
                .is_err()
        );
    }
    async fn shown(database: &Database) -> Vec<String> {
        sqlx::query_scalar("SELECT display_name FROM service ORDER BY 1")
            .fetch_all(&database.pool)
            .await
            .unwrap()
    }

    #[tokio::test]
    async fn lists_show_and_take_a_name_that_means_one_service() {
        let database = database().await;
        let writer = writer(&database);
        let send = async |number: u64, namespace: &str| {
            let resource = resource_of(&[
                ("service.name", "fares"),
                ("service.namespace", namespace),
                ("service.version", "2.4.0"),
            ]);
            store(
                &writer,
                &[spans(
                    vec![of(
                        resource,
                        vec![failing(trace(number), number, None, now(), "no tariff")],
                    )],
                    now(),
                )],
            )
            .await;
        };
        send(1, "skerry").await;
        assert_eq!(shown(&database).await, ["fares"], "alone it needs no namespace");
        send(2, "isles").await;
        send(3, "").await;
        assert_eq!(shown(&database).await, ["fares", "isles/fares", "skerry/fares"]);
        let errors = async |service: &str| {
            let to = chrono::Utc::now() + chrono::TimeDelta::minutes(1);
            let from = to - chrono::TimeDelta::hours(1);
            let scope = Scope {
                service: Some(service.to_owned()),
                environment: None,
                version: None,
                from,
                to,
                predicate: None,
            };
            let mut found: Vec<String> = list_errors(&database, &scope)
                .await
                .unwrap()
                .into_iter()
                .map(|error| error.service)
                .collect();
            found.sort();
            assert_eq!(
                crate::traffic::endpoints(&database, &scope).await.unwrap().len(),
                found.len(),
                "{service}"
            );
            found
        };
        assert_eq!(errors("skerry/fares").await, ["skerry/fares"]);
        assert_eq!(errors("fares").await, ["fares"]);
        assert_eq!(errors("berths").await, [""; 0]);
        sqlx::query("DELETE FROM service WHERE namespace = ''")
            .execute(&database.pool)
            .await
            .unwrap_err();
        sqlx::query("UPDATE service SET display_name = 'old/fares' WHERE namespace = ''")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(
            errors("fares").await,
            ["isles/fares", "old/fares", "skerry/fares"],
            "none is shown under the name alone: it means all"
        );
    }

    #[rstest::rstest]
    #[case::itself("fares", "fares", true)]
    #[case::the_last_part("fares", "skerry/fares", true)]
    #[case::another_namespace("isles/fares", "skerry/fares", false)]
    #[case::a_longer_name("fares", "ferryfares", false)]
    fn a_name_asked_for_means(#[case] asked: &str, #[case] shown: &str, #[case] expected: bool) {
        assert_eq!(is_meant(asked, shown), expected);
    }
}
