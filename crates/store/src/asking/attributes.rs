//! Names and values that occurrences carry, for completion and for slips: from the newest of them.

use std::collections::BTreeSet;

use outcrop_core::query;
use outcrop_core::query::{Field, Predicate};
use outcrop_core::telemetry::facts;

use crate::boxed;
use crate::{Database, StoreError};

/// Newest occurrences looked at.
const NEWEST: i64 = 2_000;

/// Names of attributes in the newest occurrences and their resources, the most frequent first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
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

/// Attributes that a predicate asks for and that nothing newest carries, under any of the names of
/// their facts: each with the name it may have been meant for.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn unknown(database: &Database, predicate: &Predicate) -> Result<Vec<Unknown>, StoreError> {
    let asked: Vec<(&str, usize)> = predicate
        .tests()
        .into_iter()
        .filter_map(|test| {
            if let Field::Attribute(name) = &test.field {
                Some((name.as_str(), test.at))
            } else {
                None
            }
        })
        .collect();
    if asked.is_empty() {
        return Ok(vec![]);
    }
    let known: Vec<(String,)> = sqlx::query_as(
        "WITH newest AS (SELECT attributes, resource FROM (SELECT attributes, resource FROM occurrence ORDER BY id \
         DESC LIMIT $1) o \
             UNION ALL SELECT attributes, resource FROM (SELECT attributes, resource FROM log_record ORDER BY id DESC \
             LIMIT $1) l \
             UNION ALL SELECT attributes, NULL FROM (SELECT attributes FROM request_sample ORDER BY id DESC LIMIT $1) \
             r) \
         SELECT jsonb_object_keys(attributes) AS name FROM newest \
         UNION SELECT jsonb_object_keys(body) FROM resource WHERE hash IN (SELECT resource FROM newest)",
    )
    .bind(NEWEST)
    .fetch_all(&database.pool)
    .await?;
    let known: BTreeSet<String> = known.into_iter().map(|(name,)| name).collect();
    let is_known = |name: &str| facts::names_of(name).into_iter().any(|name| known.contains(name));
    let mut candidates: Vec<&str> = known.iter().map(String::as_str).collect();
    for name in Field::names().chain(facts::known()) {
        candidates.push(name);
    }
    // A slip of some letters, or a longer name than the plain word for it.
    let holding = |name: &str| {
        facts::known()
            .filter(|known| known.len() >= 4)
            .find(|known| name.to_lowercase().contains(known))
    };
    let meant = |name: &str| {
        query::closest(name, candidates.iter().copied())
            .or_else(|| holding(name))
            .map(str::to_owned)
    };
    Ok(asked
        .into_iter()
        .filter(|(name, _)| !is_known(name))
        .map(|(name, at)| Unknown {
            name: name.to_owned(),
            at,
            meant: meant(name),
        })
        .collect())
}

/// An attribute that nothing carries.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unknown {
    /// As it is asked for.
    pub name: String,
    /// Where in the predicate, in bytes.
    pub at: usize,
    /// The known name it is closest to.
    pub meant: Option<String>,
}

impl std::fmt::Display for Unknown {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "nothing that came lately has an attribute `{}`", self.name)?;
        self.meant
            .as_ref()
            .map_or(Ok(()), |meant| write!(f, "; did you mean `{meant}`?"))
    }
}

/// Values of a field that hold a text, the most frequent of the newest occurrences first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn values(database: &Database, field: &Field, part: &str, limit: i64) -> Result<Vec<String>, StoreError> {
    const USER: &str = "COALESCE(attributes ->> 'user.id', attributes ->> 'enduser.id', attributes ->> 'user.name', \
        attributes ->> 'user_id', attributes ->> 'userId')";
    let value = match field {
        Field::Service => "(SELECT name FROM service WHERE id = service_id)",
        Field::Namespace => "(SELECT namespace FROM service WHERE id = service_id)",
        Field::Environment => "(SELECT name FROM environment WHERE id = environment_id)",
        Field::Version | Field::FirstVersion => "(SELECT label FROM version WHERE id = version_id)",
        Field::Endpoint => "(SELECT name FROM endpoint WHERE id = endpoint_id)",
        Field::Type => "type",
        Field::User => USER,
        Field::Attribute(_) => {
            "(SELECT told.attributes -> name #>> '{}' \
              FROM (SELECT attributes UNION ALL SELECT body FROM resource WHERE resource.hash = newest.resource) AS \
              told (attributes), \
                  unnest($4) WITH ORDINALITY AS asked (name, at) WHERE told.attributes ? name ORDER BY at LIMIT 1)"
        }
        _ => return Ok(vec![]),
    };
    let names = if let Field::Attribute(name) = field {
        facts::names_of(name)
    } else {
        vec![]
    };
    let statement = format!(
        "WITH newest AS (SELECT {value} AS value FROM (SELECT * FROM occurrence ORDER BY id DESC LIMIT $1) AS newest \
         WHERE $4::text[] IS NOT NULL) \
         SELECT value FROM newest WHERE value <> '' AND length(value) <= 200 AND strpos(lower(value), lower($2)) > 0 \
         GROUP BY value ORDER BY (strpos(lower(value), lower($2)) = 1) DESC, count(*) DESC, value LIMIT $3"
    );
    // The statement is put together from the pieces above alone.
    let rows: Vec<(String,)> = sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(NEWEST)
        .bind(part)
        .bind(limit)
        .bind(names)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows.into_iter().map(|(value,)| value).collect())
}

#[cfg(test)]
mod tests {
    use crate::asking;
    use outcrop_core::telemetry::{Span, Value};

    use super::*;
    use crate::Scope;
    use crate::asking::parts;
    use crate::testing::{attributes, database, failing, now, of, resource, spans, store, trace, writer};
    use crate::to_utc;

    /// A request that failed with a status, told under one of its names.
    fn failed(number: u64, status_name: &str) -> Span {
        let at = now();
        let mut span = failing(trace(number), number + 1, None, at, "berth 7 is taken");
        span.attributes = attributes(&[
            ("http.route", "/v1/berths/{berth}"),
            ("http.user_agent", "skerry-app/3.2"),
        ]);
        span.attributes.0.push((status_name.to_owned(), Value::Int(500)));
        span
    }

    async fn found(database: &Database, predicate: &str) -> i64 {
        let (to, predicate) = (to_utc(now().plus_millis(1_000)), query::parse(predicate).unwrap());
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from: to - chrono::TimeDelta::hours(1),
            to,
            predicate: Some(predicate.into()),
        };
        asking::list_errors(database, &scope)
            .await
            .unwrap()
            .iter()
            .map(|summary| summary.count)
            .sum()
    }

    #[tokio::test]
    async fn a_fact_is_found_by_any_of_its_names_however_it_was_sent_or_stored() {
        let database = database().await;
        let writer = writer(&database);
        let sent = vec![failed(1, "http.status_code"), failed(2, "http.response.status_code")];
        store(&writer, &[spans(vec![of(resource("berths"), sent)], now())]).await;
        // A row of a release that stored names as they were sent.
        let as_before = "UPDATE occurrence SET attributes = attributes - 'http.response.status_code' || \
            '{\"http.status_code\": 500}' \
             WHERE id = (SELECT id FROM occurrence ORDER BY id LIMIT 1)";
        sqlx::query(as_before).execute(&database.pool).await.unwrap();
        for asked in [
            "status = 500",
            "http.status_code = 500",
            "http.response.status_code >= 500",
            "status in (500, 502)",
            "status is set",
        ] {
            assert_eq!(found(&database, asked).await, 2, "{asked}");
        }
        assert_eq!(
            found(
                &database,
                "agent like \"skerry-app*\" and robot = false and route contains berths"
            )
            .await,
            2
        );
        assert_eq!(found(&database, "status = 404").await, 0);
    }

    #[tokio::test]
    async fn an_attribute_that_nothing_has_is_said_with_what_was_meant() {
        let database = database().await;
        let writer = writer(&database);
        store(
            &writer,
            &[spans(
                vec![of(resource("berths"), vec![failed(1, "http.status_code")])],
                now(),
            )],
        )
        .await;
        let said = async |text: &str| -> Vec<(String, usize, Option<String>)> {
            let unknown = unknown(&database, &query::parse(text).unwrap()).await.unwrap();
            unknown
                .into_iter()
                .map(|unknown| (unknown.name, unknown.at, unknown.meant))
                .collect()
        };
        assert_eq!(said("status = 500 and agent is set and service = berths").await, []);
        assert_eq!(
            said("usres > 50").await,
            [("usres".to_owned(), 0, Some("users".to_owned()))]
        );
        assert_eq!(
            said("service = berths and status_code = 500").await,
            [("status_code".to_owned(), 21, Some("status".to_owned()))]
        );
        assert_eq!(said("xyzzy_42 = 1").await, [("xyzzy_42".to_owned(), 0, None)]);
    }

    #[tokio::test]
    async fn occurrences_fall_into_the_files_of_their_own_frames() {
        let database = database().await;
        let writer = writer(&database);
        let mut span = failed(1, "http.status_code");
        let stack = "Traceback (most recent call last):\n  File \"/srv/berths/app.py\", line 3, in take\n    x\n  \
            File \"/usr/lib/python3.11/json/__init__.py\", line 9, in loads\n    x\nKeyError: 'a'";
        span.events[0].attributes = attributes(&[("exception.type", "KeyError"), ("exception.stacktrace", stack)]);
        store(&writer, &[spans(vec![of(resource("berths"), vec![span])], now())]).await;
        let to = to_utc(now().plus_millis(1_000));
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from: to - chrono::TimeDelta::hours(1),
            to,
            predicate: None,
        };
        for (field, expected) in [(Field::File, "berths/app.py"), (Field::Function, "take")] {
            let parts = parts::values(&database, &scope, &field, 10).await.unwrap();
            let values: Vec<(&str, i64, i64)> = parts
                .iter()
                .map(|part| (part.value.as_str(), part.errors, part.occurrences))
                .collect();
            assert_eq!(values, [(expected, 1, 1)]);
        }
        assert_eq!(
            found(&database, "file = \"berths/app.py\"").await,
            1,
            "what it falls into is found by it"
        );
    }
}
