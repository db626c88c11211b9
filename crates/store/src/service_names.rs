//! A service by the name that people say.

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
        "SELECT id, namespace, name FROM service WHERE name = $1 OR namespace <> '' AND namespace || '/' || name = $1 ORDER BY namespace, name LIMIT 20",
    )
    .bind(said)
    .fetch_all(&database.pool)
    .await?;
    if found.len() > 1 {
        let names: Vec<String> = found.iter().map(|service| format!("{}/{}", service.namespace, service.name)).collect();
        return Err(StoreError::Ambiguous(format!("several services are named {said}; say which: {}", names.join(", "))));
    }
    Ok(found.into_iter().next())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now, of, resource_of, span, spans, store, trace, writer};

    #[tokio::test]
    async fn a_name_in_two_namespaces_has_to_be_said_whole() {
        let database = database().await;
        let group = |namespace: &str, name: &str| {
            let resource = resource_of(&[("service.name", name), ("service.namespace", namespace)]);
            of(resource, vec![span(trace(1), 1, None, now())])
        };
        let batch = [spans(vec![group("skerry", "fares"), group("isles", "fares"), group("", "berths")], now())];
        store(&writer(&database), &batch).await;
        let ambiguous = named(&database, "fares").await;
        assert!(matches!(&ambiguous, Err(StoreError::Ambiguous(why)) if why.contains("isles/fares, skerry/fares")), "{ambiguous:?}");
        assert_eq!(named(&database, "skerry/fares").await.unwrap().map(|service| service.namespace).as_deref(), Some("skerry"));
        assert_eq!(named(&database, "berths").await.unwrap().map(|service| service.name).as_deref(), Some("berths"));
        assert_eq!(named(&database, "nobody").await.unwrap(), None);
        // What is set holds for the one that was named alone.
        let setting = crate::settings::ServiceSetting { customer: Some("skerry.line".to_owned()), ..Default::default() };
        assert!(crate::settings::set(&database, Some("skerry/fares"), &setting).await.unwrap());
        assert_eq!(crate::settings::own(&database, Some("skerry/fares")).await.unwrap().customer, setting.customer);
        assert_eq!(crate::settings::own(&database, Some("isles/fares")).await.unwrap().customer, None);
        assert!(crate::settings::set(&database, Some("fares"), &setting).await.is_err());
    }
}
