//! Finding whatever was pasted: errors, occurrences, attribute values, services.

use chrono::{DateTime, Utc};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::{Digest, Reference};
use sqlx::FromRow;
use uuid::Uuid;

use crate::boxed;
use crate::ids::{id_uuid, reference, uuid};
use crate::{Database, StoreError};

/// An error that was found.
#[derive(Clone, Debug, FromRow)]
pub struct Found {
    id: i32,
    /// Its service.
    pub service: String,
    /// Its title.
    pub title: String,
}

impl Found {
    /// Its reference.
    #[must_use]
    pub fn reference(&self) -> Reference {
        Reference::of_number(u32::from_ne_bytes(self.id.to_ne_bytes()))
    }
}

const SELECT: &str = "SELECT DISTINCT error_group.id, service.display_name AS service, error_group.title FROM \
    error_group \
                      JOIN service ON service.id = error_group.service_id ";

/// The error of a reference.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn error(database: &Database, reference: Reference) -> Result<Option<Found>, StoreError> {
    let sql = sqlx::AssertSqlSafe(format!("{SELECT} WHERE error_group.id = $1"));
    Ok(sqlx::query_as(sql)
        .bind(crate::ids::number(reference))
        .fetch_optional(&database.pool)
        .await?)
}

/// Errors of a grouping key, in any service.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn by_key(database: &Database, key: Digest) -> Result<Vec<Found>, StoreError> {
    let sql = sqlx::AssertSqlSafe(format!(
        "{SELECT} JOIN cause ON cause.error_id = error_group.id WHERE cause.key = $1"
    ));
    Ok(sqlx::query_as(sql).bind(uuid(key)).fetch_all(&database.pool).await?)
}

/// Titles searched at most: the newest errors.
const TITLES: i64 = 20_000;

/// The newest errors, to search their titles.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn newest(database: &Database) -> Result<Vec<Found>, StoreError> {
    let sql = sqlx::AssertSqlSafe(format!("{SELECT} ORDER BY error_group.id DESC LIMIT $1"));
    Ok(sqlx::query_as(sql).bind(TITLES).fetch_all(&database.pool).await?)
}

/// The error that an occurrence, or a report that is part of one, belongs to.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn occurrence(database: &Database, id: OccurrenceId) -> Result<Option<Found>, StoreError> {
    let sql = sqlx::AssertSqlSafe(format!(
        "{SELECT} JOIN cause ON cause.error_id = error_group.id JOIN occurrence o ON o.cause_id = cause.id \
         WHERE o.id = COALESCE((SELECT part_of FROM also_reported WHERE id = $1), $1)"
    ));
    Ok(sqlx::query_as(sql)
        .bind(id_uuid(id))
        .fetch_optional(&database.pool)
        .await?)
}

/// Occurrences of a trace.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn in_trace(database: &Database, trace: [u8; 16]) -> Result<i64, StoreError> {
    let (count,): (i64,) = sqlx::query_as("SELECT count(*) FROM occurrence WHERE trace_id = $1")
        .bind(Uuid::from_bytes(trace))
        .fetch_one(&database.pool)
        .await?;
    Ok(count)
}

/// Newest occurrences whose attributes are searched.
const SEARCHED: i64 = 20_000;

/// Attributes that hold exactly this text in the newest occurrences, with the number of these.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn attributes(database: &Database, text: &str) -> Result<Vec<(String, i64)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT pair.key, count(*) FROM (SELECT attributes FROM occurrence ORDER BY id DESC LIMIT $1) AS newest \
         CROSS JOIN LATERAL jsonb_each_text(newest.attributes) AS pair WHERE pair.value = $2 AND pair.key NOT LIKE \
         'exception.%' \
         GROUP BY pair.key ORDER BY count(*) DESC, pair.key LIMIT 5",
    )
    .bind(SEARCHED)
    .bind(text)
    .fetch_all(&database.pool)
    .await?)
}

/// Attributes of resources and of log lines that hold exactly this text in the newest of each, with
/// the number of these: whether they are of log lines, the name, the number.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn elsewhere(database: &Database, text: &str) -> Result<Vec<(bool, String, i64)>, StoreError> {
    Ok(sqlx::query_as(
        "WITH newest AS (SELECT resource, count(*) AS n FROM (SELECT resource FROM occurrence ORDER BY id DESC LIMIT \
         $1) o GROUP BY 1) \
         (SELECT false, pair.key, sum(n)::bigint FROM newest JOIN resource ON resource.hash = newest.resource \
              CROSS JOIN LATERAL jsonb_each_text(resource.body) AS pair WHERE pair.value = $2 GROUP BY 2 ORDER BY 3 \
              DESC, 2 LIMIT 5) \
         UNION ALL (SELECT true, pair.key, count(*) FROM (SELECT attributes FROM log_record ORDER BY id DESC LIMIT \
         $1) AS line \
              CROSS JOIN LATERAL jsonb_each_text(line.attributes) AS pair WHERE pair.value = $2 GROUP BY 2 ORDER BY 3 \
              DESC, 2 LIMIT 5)",
    )
    .bind(SEARCHED)
    .bind(text)
    .fetch_all(&database.pool)
    .await?)
}

/// A version of a service in an environment.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Release {
    /// The service.
    pub service: String,
    /// The version.
    pub version: String,
    /// The environment.
    pub environment: String,
}

/// Releases named at most.
const RELEASES: i64 = 5;

/// Releases of a version, of `service@version` or `service version`, or that brought a commit, by the first seven or more
/// digits of its id; the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn releases(database: &Database, text: &str) -> Result<Vec<Release>, StoreError> {
    let (service, version) = text
        .split_once(['@', ' '])
        .map_or((None, text), |(service, version)| (Some(service), version));
    let commit = (text.len() >= 7 && text.len() <= 64 && text.bytes().all(|b| b.is_ascii_hexdigit()))
        .then(|| format!("{}%", text.to_lowercase()));
    Ok(sqlx::query_as(
        "SELECT service.display_name AS service, version.label AS version, environment.name AS environment FROM \
         deployed \
         JOIN version ON version.id = deployed.version_id JOIN service ON service.id = deployed.service_id \
         JOIN environment ON environment.id = deployed.environment_id \
         WHERE version.label = $1 AND ($2::text IS NULL OR service.name = $2) \
            OR $3::text IS NOT NULL AND (EXISTS (SELECT FROM deploy WHERE deploy.version_id = version.id AND \
            lower(deploy.revision) LIKE $3) \
               OR EXISTS (SELECT FROM deploy_change c, jsonb_array_elements(c.commits) commit \
                          WHERE c.service_id = service.id AND c.version = version.label AND lower(commit ->> 'id') \
                          LIKE $3)) \
         ORDER BY deployed.first_received_at DESC LIMIT $4",
    )
    .bind(version)
    .bind(service)
    .bind(commit)
    .bind(RELEASES)
    .fetch_all(&database.pool)
    .await?)
}

/// Endpoints whose name holds a text, with their services: the shortest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn endpoints(database: &Database, text: &str) -> Result<Vec<(String, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT service.display_name, endpoint.name FROM endpoint JOIN service ON service.id = endpoint.service_id \
         WHERE strpos(lower(endpoint.name), lower($1)) > 0 ORDER BY length(endpoint.name), endpoint.name, 1 LIMIT 5",
    )
    .bind(text)
    .fetch_all(&database.pool)
    .await?)
}

/// The error that a service's latest occurrence of one moment belongs to: of a report that was just stored.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn reported(database: &Database, service: &str, at: DateTime<Utc>) -> Result<Option<Reference>, StoreError> {
    let found: Option<(i32,)> = sqlx::query_as(
        "SELECT cause.error_id FROM occurrence o JOIN cause ON cause.id = o.cause_id JOIN service ON service.id = \
         o.service_id \
         WHERE o.id >= first_id_at($1) AND o.id < first_id_at($2) AND service.name = $3 ORDER BY o.id DESC LIMIT 1",
    )
    .bind(at)
    .bind(at + chrono::TimeDelta::milliseconds(1))
    .bind(service)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map(|(error,)| reference(error)))
}

#[cfg(test)]
mod tests {
    use outcrop_core::telemetry::SpanKind;

    use super::*;
    use crate::testing::{
        attributes, database, failing, logged, logs, now, of, resource_of, spans, store, trace, writer,
    };

    #[tokio::test]
    async fn values_of_resources_and_lines_and_parts_of_endpoints_are_found() {
        let database = database().await;
        let writer = writer(&database);
        let at = now();
        let fares = resource_of(&[
            ("service.name", "fares"),
            ("host.name", "pier-3"),
            ("deployment.environment.name", "production"),
        ]);
        let request = outcrop_core::telemetry::Span {
            kind: SpanKind::Server,
            attributes: attributes(&[("http.request.method", "POST"), ("http.route", "/v1/quotes/{sailing}")]),
            ..failing(trace(1), 1, None, at, "taken")
        };
        let mut line = logged(at, "free");
        line.attributes = attributes(&[("order.id", "4110-7")]);
        store(
            &writer,
            &[
                spans(vec![of(fares.clone(), vec![request])], at),
                logs(vec![of(fares, vec![line])], at),
            ],
        )
        .await;
        assert_eq!(
            elsewhere(&database, "pier-3").await.unwrap(),
            [(false, "host.name".to_owned(), 1)]
        );
        assert_eq!(
            elsewhere(&database, "4110-7").await.unwrap(),
            [(true, "order.id".to_owned(), 1)]
        );
        assert_eq!(elsewhere(&database, "pier-4").await.unwrap(), []);
        let found = ("fares".to_owned(), "POST /v1/quotes/{sailing}".to_owned());
        assert_eq!(endpoints(&database, "/V1/Quotes").await.unwrap(), [found]);
        assert_eq!(endpoints(&database, "/v1/q%").await.unwrap(), []);
    }

    #[tokio::test]
    async fn a_version_is_found_by_itself_and_with_its_service_as_pages_write_it() {
        let database = database().await;
        let at = now();
        let group = of(
            crate::testing::resource("fares"),
            vec![failing(trace(1), 1, None, at, "taken")],
        );
        store(&writer(&database), &[spans(vec![group], at)]).await;
        let version = sqlx::query_scalar::<_, String>(
            "SELECT version.label FROM deployed JOIN version ON version.id = version_id",
        )
        .fetch_one(&database.pool)
        .await
        .unwrap();
        for text in [version.clone(), format!("fares@{version}"), format!("fares {version}")] {
            let found = releases(&database, &text).await.unwrap();
            assert_eq!(
                found.iter().map(|one| one.service.as_str()).collect::<Vec<_>>(),
                ["fares"],
                "{text}"
            );
        }
        assert!(
            releases(&database, &format!("gangway {version}"))
                .await
                .unwrap()
                .is_empty()
        );
    }
}
