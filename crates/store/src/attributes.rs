//! Names and values that occurrences carry, for completion and for slips: from the newest of them.

use crate::{Database, StoreError};
use outcrop_core::query::Field;

/// Newest occurrences looked at.
const NEWEST: i64 = 2_000;

/// Names of attributes in the newest occurrences and their resources, the most frequent first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn names(database: &Database, beginning: &str, limit: i64) -> Result<Vec<String>, StoreError> {
    let rows: Vec<(String,)> = sqlx::query_as(
        "WITH newest AS (SELECT attributes, resource FROM occurrence ORDER BY id DESC LIMIT $1), named AS ( \
             SELECT jsonb_object_keys(attributes) AS name FROM newest \
             UNION ALL SELECT jsonb_object_keys(body) FROM resource WHERE hash IN (SELECT resource FROM newest)) \
         SELECT name FROM named WHERE strpos(lower(name), lower($2)) > 0 AND name NOT LIKE 'exception.%' \
         GROUP BY name ORDER BY (strpos(lower(name), lower($2)) = 1) DESC, count(*) DESC, name LIMIT $3",
    )
    .bind(NEWEST)
    .bind(beginning)
    .bind(limit)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().map(|(name,)| name).collect())
}

/// Values of a field that hold a text, the most frequent of the newest occurrences first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn values(database: &Database, field: &Field, part: &str, limit: i64) -> Result<Vec<String>, StoreError> {
    const USER: &str = "COALESCE(attributes ->> 'user.id', attributes ->> 'enduser.id', attributes ->> 'user.name')";
    let value = match field {
        Field::Service => "(SELECT name FROM service WHERE id = service_id)",
        Field::Namespace => "(SELECT namespace FROM service WHERE id = service_id)",
        Field::Environment => "(SELECT name FROM environment WHERE id = environment_id)",
        Field::Version | Field::FirstVersion => "(SELECT label FROM version WHERE id = version_id)",
        Field::Endpoint => "(SELECT name FROM endpoint WHERE id = endpoint_id)",
        Field::Type => "type",
        Field::User => USER,
        Field::Attribute(_) => {
            "COALESCE(attributes -> $4, (SELECT body FROM resource WHERE resource.hash = newest.resource) -> $4) #>> '{}'"
        }
        _ => return Ok(vec![]),
    };
    let name = if let Field::Attribute(name) = field { name.as_str() } else { "" };
    let statement = format!(
        "WITH newest AS (SELECT {value} AS value FROM (SELECT * FROM occurrence ORDER BY id DESC LIMIT $1) AS newest WHERE $4::text IS NOT NULL) \
         SELECT value FROM newest WHERE value <> '' AND length(value) <= 200 AND strpos(lower(value), lower($2)) > 0 \
         GROUP BY value ORDER BY (strpos(lower(value), lower($2)) = 1) DESC, count(*) DESC, value LIMIT $3"
    );
    // The statement is put together from the pieces above alone.
    let rows: Vec<(String,)> =
        sqlx::query_as(sqlx::AssertSqlSafe(statement)).bind(NEWEST).bind(part).bind(limit).bind(name).fetch_all(&database.pool).await?;
    Ok(rows.into_iter().map(|(value,)| value).collect())
}
