//! The rules that people made, as they are in force.

use outcrop_core::grouping::rules::{CodePrefix, Join, Rules, ServiceRules, Split, join_key};
use outcrop_core::{Digest, Reference, query};
use uuid::Uuid;

use super::change::{Change, ChangeError};
use crate::boxed;
use crate::ids::{number, reference};
use crate::{Database, StoreError};

/// The number of a service, by name; where several namespaces have one of that name, the namespace decides.
///
/// # Errors
/// [`ChangeError::Unfit`] where there is none, or more than one.
#[boxed]
pub async fn service_number(database: &Database, namespace: Option<&str>, service: &str) -> Result<i32, ChangeError> {
    let found: Vec<(i32,)> = sqlx::query_as(
        "SELECT id FROM service WHERE id IN (SELECT services_named($1)) AND ($2::text IS NULL OR namespace = $2)",
    )
    .bind(service)
    .bind(namespace)
    .fetch_all(&database.pool)
    .await?;
    match found.as_slice() {
        [(id,)] => Ok(*id),
        [] => Err(ChangeError::Unfit(format!("there is no service {service}"))),
        _ => Err(ChangeError::Unfit(format!(
            "several namespaces have a service {service}: give the namespace too"
        ))),
    }
}

/// The service an error belongs to, as a number.
///
/// # Errors
/// [`ChangeError::Unfit`] where there is no such error.
#[boxed]
pub async fn service_of(database: &Database, error: i32) -> Result<i32, ChangeError> {
    let found: Option<(i32,)> = sqlx::query_as("SELECT service_id FROM error_group WHERE id = $1")
        .bind(error)
        .fetch_optional(&database.pool)
        .await?;
    found
        .map(|(id,)| id)
        .ok_or_else(|| ChangeError::Unfit(format!("there is no error {}", reference(error))))
}

/// The error that a reference leads to: itself, or the one it was joined into.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn standing(database: &Database, asked: Reference) -> Result<Reference, StoreError> {
    let found: Option<(i32,)> = sqlx::query_as(
        "WITH RECURSIVE led AS (SELECT id, joined_into, 1 AS step FROM error_group WHERE id = $1 \
         UNION ALL SELECT next.id, next.joined_into, led.step + 1 FROM led JOIN error_group next ON next.id = \
         led.joined_into WHERE led.step < 50) \
         SELECT id FROM led ORDER BY step DESC LIMIT 1",
    )
    .bind(number(asked))
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map_or(asked, |(id,)| reference(id)))
}

/// The rules in force.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn rules(database: &Database) -> Result<Rules, StoreError> {
    let rows: Vec<(i64, String, String, serde_json::Value)> = sqlx::query_as(
        "SELECT grouping_change.id, service.namespace, service.name, change FROM grouping_change JOIN service ON \
         service.id = service_id \
         WHERE undone_at IS NULL AND change ->> 'kind' IN ('own_code', 'join_where', 'split_by') ORDER BY \
         grouping_change.id",
    )
    .fetch_all(&database.pool)
    .await?;
    let mut rules = Rules::default();
    for (id, namespace, service, change) in rows {
        let of_service = rules.of_mut(&namespace, &service);
        match serde_json::from_value(change) {
            Ok(Change::OwnCode { own, library }) => add_places(of_service, own, library),
            // Saved predicates were parsed before; a release that reads them no more leaves the rule out.
            Ok(Change::JoinWhere { predicate }) => {
                of_service
                    .joins
                    .extend(query::parse(&predicate).ok().map(|predicate| Join {
                        key: join_key(id),
                        predicate,
                    }));
            }
            Ok(Change::SplitBy { error, attribute }) => {
                let keys: Vec<(Uuid,)> = sqlx::query_as("SELECT key FROM cause WHERE error_id = $1")
                    .bind(error)
                    .fetch_all(&database.pool)
                    .await?;
                of_service.splits.push(Split {
                    attribute,
                    keys: keys.iter().map(|(key,)| Digest(*key.as_bytes())).collect(),
                });
            }
            Ok(Change::JoinErrors { .. } | Change::SplitOff { .. } | Change::Moved { .. }) | Err(_) => {}
        }
    }
    rules.drops = crate::people::drops::in_force(database).await?;
    rules.scrubbing = crate::people::scrub_rules::in_force(database).await?;
    rules.instance_groups = crate::traffic::groups::attributes(database).await?;
    Ok(rules)
}

pub(super) fn add_places(rules: &mut ServiceRules, own: Vec<String>, library: Vec<String>) {
    let places = own
        .into_iter()
        .map(|prefix| (prefix, true))
        .chain(library.into_iter().map(|prefix| (prefix, false)));
    for (prefix, own) in places {
        // What was said last of a place holds.
        rules.places.retain(|place| place.prefix != prefix);
        rules.places.push(CodePrefix { prefix, own });
    }
}
