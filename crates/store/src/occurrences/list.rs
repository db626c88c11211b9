//! The occurrences of one error in a scope, a page at a time.

use outcrop_core::Reference;
use outcrop_core::failure::OccurrenceId;
use outcrop_core::query::Field;
use sqlx::{Postgres, QueryBuilder};
use uuid::Uuid;

use super::read::OccurrenceRow;
use crate::asking::{parts, resolve, within};
use crate::ids::{id_uuid, number};
use crate::{Database, Scope, StoreError, boxed};

/// Occurrences that are counted at most: past it a count says that there are more.
pub const COUNTED: i64 = 10_000;

/// What is wanted of a list of occurrences.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Only those before this one.
    pub before: Option<OccurrenceId>,
    /// How many at most.
    pub limit: i64,
    /// Fields and attributes that are read beside what each occurrence has.
    pub columns: Vec<Field>,
}

impl Wanted {
    /// The newest ones, and nothing beside.
    #[must_use]
    pub const fn newest(limit: i64) -> Self {
        Self {
            before: None,
            limit,
            columns: vec![],
        }
    }
}

/// Whether a field is a value that one occurrence has, so that it can be a column of a list of them.
#[must_use]
pub const fn is_column(field: &Field) -> bool {
    !field.is_of_error() && !matches!(field, Field::State(_) | Field::Slice | Field::File | Field::Function)
}

/// The occurrences of an error in a scope for which its predicate holds, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_error(
    database: &Database,
    error: Reference,
    scope: &Scope,
    wanted: &Wanted,
) -> Result<Vec<OccurrenceRow>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, \
         endpoint.name AS endpoint, o.type AS type_name, o.message, o.severity, o.uncaught, o.trace_id, o.span_id, \
         o.received_at, resource.body ->> 'host.name' AS host, resource.body ->> 'service.instance.id' AS instance, ",
    );
    parts::expression(database, &mut sql, &Field::User).await?;
    sql.push(" AS \"user\", ARRAY[");
    for (at, field) in wanted.columns.iter().enumerate() {
        sql.push(if at > 0 { ", " } else { "" });
        if !parts::expression(database, &mut sql, field).await? {
            sql.push("NULL::text");
        }
    }
    // Each cause's newest are found by its index, whatever the number of the others.
    sql.push(
        "]::text[] AS values FROM (SELECT newest.* FROM cause CROSS JOIN LATERAL (SELECT o.* FROM occurrence o WHERE \
         o.cause_id = cause.id AND ",
    );
    narrow(database, &mut sql, scope).await?;
    sql.push(" AND o.id < ")
        .push_bind(wanted.before.map_or(Uuid::max(), id_uuid));
    sql.push(" ORDER BY o.id DESC LIMIT ")
        .push_bind(wanted.limit)
        .push(") AS newest WHERE cause.error_id = ")
        .push_bind(number(error))
        .push(" ORDER BY newest.id DESC LIMIT ")
        .push_bind(wanted.limit);
    sql.push(
        ") AS o JOIN service ON service.id = o.service_id JOIN environment ON environment.id = o.environment_id JOIN \
         version ON version.id = o.version_id LEFT JOIN endpoint ON endpoint.id = o.endpoint_id LEFT JOIN resource ON \
         resource.hash = o.resource ORDER BY o.id DESC",
    );
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

/// How many occurrences of an error are kept in a scope for which its predicate holds; past [`COUNTED`] one more.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn count(database: &Database, error: Reference, scope: &Scope) -> Result<i64, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT count(*) FROM (SELECT FROM occurrence o WHERE o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE \
         error_id = ",
    );
    sql.push_bind(number(error)).push(")) AND ");
    narrow(database, &mut sql, scope).await?;
    sql.push(" LIMIT ").push_bind(COUNTED + 1).push(") AS found");
    Ok(sql.build_query_scalar().fetch_one(&database.pool).await?)
}

/// Adds the condition that an occurrence lies in a scope and its predicate holds.
async fn narrow(database: &Database, sql: &mut QueryBuilder<Postgres>, scope: &Scope) -> Result<(), StoreError> {
    within(sql, scope);
    if let Some(predicate) = &scope.predicate {
        let condition = resolve(database, predicate, scope).await?;
        sql.push(" AND ");
        condition.write(sql);
    }
    Ok(())
}

#[cfg(test)]
pub(super) mod tests {
    use std::sync::Arc;

    use chrono::TimeDelta;

    use super::*;
    use crate::asking::list_errors;
    use crate::testing::{database, failing, now, of, resource, spans, store, trace, writer};
    use crate::to_utc;

    /// Six failures of one error, a second apart, the newest last; and the error.
    pub(in crate::occurrences) async fn six(database: &Database) -> (Reference, Scope) {
        let at = now();
        let failures: Vec<_> = (1..=6)
            .map(|number| {
                let time = at.plus_millis(i64::try_from(number).unwrap() * 1_000 - 60_000);
                failing(trace(number), number, None, time, &format!("berth {number} is taken"))
            })
            .collect();
        store(&writer(database), &[spans(vec![of(resource("fares"), failures)], at)]).await;
        let to = to_utc(at) + TimeDelta::minutes(1);
        let from = to - TimeDelta::hours(1);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to,
            predicate: None,
        };
        (list_errors(database, &scope).await.unwrap()[0].reference, scope)
    }

    fn said(rows: &[OccurrenceRow]) -> Vec<String> {
        rows.iter().map(|row| row.message.clone()).collect()
    }

    fn taken(number: u64) -> String {
        format!("berth {number} is taken")
    }

    #[tokio::test]
    async fn occurrences_are_paged_from_the_newest_on_and_narrowed_by_a_predicate() {
        let database = database().await;
        let (error, mut scope) = six(&database).await;
        let first = of_error(&database, error, &scope, &Wanted::newest(4)).await.unwrap();
        assert_eq!(said(&first), [6, 5, 4, 3].map(taken));
        let rest = Wanted {
            before: Some(first[3].id()),
            ..Wanted::newest(4)
        };
        let rest = of_error(&database, error, &scope, &rest).await.unwrap();
        assert_eq!(said(&rest), [2, 1].map(taken));
        let asked = outcrop_core::query::parse("message contains \"berth 5\"").unwrap();
        scope.predicate = Some(Arc::new(asked));
        let found = of_error(&database, error, &scope, &Wanted::newest(9)).await.unwrap();
        assert_eq!(said(&found), [5].map(taken));
        assert_eq!(count(&database, error, &scope).await.unwrap(), 1);
    }

    #[tokio::test]
    async fn a_scope_narrows_occurrences_by_its_window_and_its_place() {
        let database = database().await;
        let (error, scope) = six(&database).await;
        let all = of_error(&database, error, &scope, &Wanted::newest(9)).await.unwrap();
        let first = all.last().unwrap().at();
        let narrowed = [
            (
                Scope {
                    environment: Some("staging".to_owned()),
                    ..scope.clone()
                },
                0,
            ),
            (
                Scope {
                    version: Some("9.9.9".to_owned()),
                    ..scope.clone()
                },
                0,
            ),
            (
                Scope {
                    version: Some("2.4.0".to_owned()),
                    ..scope.clone()
                },
                6,
            ),
            // Two seconds, the later excluded.
            (
                Scope {
                    to: to_utc(first) + TimeDelta::seconds(2),
                    ..scope.clone()
                },
                2,
            ),
            (
                Scope {
                    from: to_utc(first) + TimeDelta::seconds(2),
                    ..scope.clone()
                },
                4,
            ),
        ];
        for (scope, expected) in narrowed {
            let found = of_error(&database, error, &scope, &Wanted::newest(9)).await.unwrap();
            assert_eq!(found.len(), expected, "{scope:?}");
            let counted = count(&database, error, &scope).await.unwrap();
            assert_eq!(usize::try_from(counted).unwrap(), expected, "{scope:?}");
        }
    }

    #[tokio::test]
    async fn any_field_or_attribute_is_read_as_a_column_in_the_order_asked_for() {
        let database = database().await;
        let (error, scope) = six(&database).await;
        let names = [
            "message",
            "service.name",
            "severity",
            "no such thing",
            "trace",
            "customer",
        ];
        let columns: Vec<Field> = names.iter().map(|name| Field::of(name)).collect();
        assert!(columns.iter().all(is_column));
        let wanted = Wanted {
            columns,
            ..Wanted::newest(1)
        };
        let row = &of_error(&database, error, &scope, &wanted).await.unwrap()[0];
        let trace = row.trace_id().unwrap();
        let values: Vec<Option<&str>> = row.values.iter().map(Option::as_deref).collect();
        let expected = [
            Some("berth 6 is taken"),
            Some("fares"),
            Some("error"),
            None,
            Some(trace.as_str()),
            None,
        ];
        assert_eq!(values, expected);
        for name in ["count", "open", "slice", "file", "error"] {
            assert!(!is_column(&Field::of(name)), "{name}");
        }
    }
}
