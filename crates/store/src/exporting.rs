//! Takes records out: occurrences, kept requests and log lines of a scope, oldest first, a page at a time.

use futures_util::TryStreamExt;
use outcrop_core::failure::OccurrenceId;
use outcrop_core::question::Source;
use sqlx::QueryBuilder;
use uuid::Uuid;

use crate::asking::{parts, resolve_for, within};
use crate::ids::id_uuid;
use crate::{Database, Scope, StoreError, boxed};

/// Most records of a page.
pub const MAX_RECORDS: i64 = 2_000;
/// Bytes after which a page ends: records may be as large as their attributes, so their number alone bounds nothing.
pub const MAX_BYTES: usize = 4 << 20;

/// A part of what is taken out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// JSON Lines: an object for each record.
    pub lines: String,
    /// How many records these are.
    pub records: usize,
    /// The last of them, where there may be more.
    pub next: Option<OccurrenceId>,
}

/// What is said of each record of a source, as the arguments of `jsonb_build_object`.
const fn columns(source: Source) -> &'static str {
    match source {
        Source::Occurrences => {
            "'endpoint', endpoint.name, 'type', o.type, 'message', o.message, 'severity', o.severity, 'uncaught', \
             o.uncaught, 'user', USER, 'error', cause.error_id"
        }
        Source::Requests => {
            "'endpoint', endpoint.name, 'status', o.status, 'failed', o.failed, 'duration_ms', o.duration_us / 1000.0"
        }
        Source::Lines => "'severity', o.severity, 'message', o.message",
    }
}

/// The table of a source, and what is joined to it beside service, environment and version.
const fn table(source: Source) -> (&'static str, &'static str) {
    match source {
        Source::Occurrences => (
            "occurrence",
            "JOIN cause ON cause.id = o.cause_id LEFT JOIN endpoint ON endpoint.id = o.endpoint_id LEFT JOIN resource \
             ON resource.hash = o.resource",
        ),
        // A request has no resource of its own, which predicates look at.
        Source::Requests => (
            "(SELECT *, NULL::uuid AS resource FROM request)",
            "JOIN endpoint ON endpoint.id = o.endpoint_id",
        ),
        Source::Lines => ("log_record", "LEFT JOIN resource ON resource.hash = o.resource"),
    }
}

/// The records of a scope after one of them, the oldest first; ends after [`MAX_RECORDS`] or [`MAX_BYTES`].
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn page(
    database: &Database,
    source: Source,
    scope: &Scope,
    after: Option<OccurrenceId>,
) -> Result<Page, StoreError> {
    let (name, joins) = table(source);
    let resource = if source == Source::Requests {
        ""
    } else {
        ", 'resource', resource.body"
    };
    let mut user = QueryBuilder::new("");
    parts::expression(database, &mut user, &outcrop_core::query::Field::User).await?;
    let columns = columns(source).replace("USER", user.sql().as_str());
    let mut sql = QueryBuilder::new(format!(
        "SELECT o.id, {error} AS error, jsonb_build_object('id', replace(o.id::text, '-', ''), 'at', \
         to_char(id_time(o.id) AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.MS\"Z\"'), 'service', \
         service.display_name, 'environment', environment.name, 'version', version.label, 'trace_id', \
         replace(o.trace_id::text, '-', ''), 'span_id', lpad(to_hex(o.span_id), 16, '0'), {columns}, 'attributes', \
         o.attributes{resource})::text AS line FROM (SELECT o.* FROM {name} o WHERE ",
        error = if source == Source::Occurrences {
            "cause.error_id"
        } else {
            "NULL::int"
        },
    ));
    within(&mut sql, scope);
    if let Some(predicate) = &scope.predicate {
        let condition = resolve_for(database, predicate, scope, source).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    if let Some(after) = after {
        sql.push(" AND o.id > ").push_bind(id_uuid(after));
    }
    sql.push(" ORDER BY o.id LIMIT ").push_bind(MAX_RECORDS + 1);
    sql.push(format!(
        ") o JOIN service ON service.id = o.service_id JOIN environment ON environment.id = o.environment_id JOIN \
         version ON version.id = o.version_id {joins} ORDER BY o.id"
    ));
    let mut found = sql
        .build_query_as::<(Uuid, Option<i32>, String)>()
        .fetch(&database.pool);
    let mut page = Page::default();
    let mut last = None;
    while let Some((id, error, line)) = found.try_next().await? {
        if i64::try_from(page.records).unwrap_or(i64::MAX) == MAX_RECORDS || page.lines.len() >= MAX_BYTES {
            page.next = last;
            break;
        }
        page.lines.push_str(&with_reference(line, error));
        page.lines.push('\n');
        page.records += 1;
        last = Some(OccurrenceId(*id.as_bytes()));
    }
    Ok(page)
}

/// The line with the error's reference in place of its number, which means nothing elsewhere.
fn with_reference(line: String, error: Option<i32>) -> String {
    let Some(error) = error else { return line };
    let reference = crate::ids::reference(error);
    line.replacen(
        &format!("\"error\": {error}"),
        &format!("\"error\": \"{reference}\""),
        1,
    )
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use serde_json::Value;

    use super::*;
    use crate::testing::{database, failing, logged, logs, now, of, resource, span, spans, store, trace, writer};
    use crate::to_utc;

    fn scope() -> Scope {
        let at = to_utc(now());
        Scope {
            service: None,
            environment: None,
            version: None,
            from: at - TimeDelta::hours(1),
            to: at + TimeDelta::minutes(1),
            predicate: None,
        }
    }

    fn read(page: &Page) -> Vec<Value> {
        page.lines
            .lines()
            .map(|line| serde_json::from_str(line).unwrap())
            .collect()
    }

    async fn filled(count: u64) -> Database {
        let database = database().await;
        let at = now();
        let failures = (1..=count)
            .map(|number| {
                let time = at.plus_millis(i64::try_from(number).unwrap() - 60_000);
                failing(
                    trace(number),
                    number,
                    None,
                    time,
                    &format!("berth \"{number}\" is taken\n\"error\": 1"),
                )
            })
            .collect();
        let line = logged(at.plus_millis(-5_000), "gate 7 is shut");
        let writer = writer(&database);
        store(&writer, &[spans(vec![of(resource("fares"), failures)], at)]).await;
        store(&writer, &[logs(vec![of(resource("berths"), vec![line])], at)]).await;
        let sound = span(trace(9_000_000), 1, None, at.plus_millis(-4_000));
        store(&writer, &[spans(vec![of(resource("fares"), vec![sound])], at)]).await;
        database
    }

    #[tokio::test]
    async fn every_record_comes_once_in_order_over_all_pages_with_what_it_said() {
        let count = u64::try_from(MAX_RECORDS).unwrap() + 7;
        let database = filled(count).await;
        let scope = scope();
        let first = page(&database, Source::Occurrences, &scope, None).await.unwrap();
        assert_eq!(first.records, 2_000);
        let rest = page(&database, Source::Occurrences, &scope, first.next).await.unwrap();
        assert_eq!((rest.records, rest.next), (8, None), "and the one of the log");
        let all = [read(&first), read(&rest)].concat();
        let ids: Vec<&str> = all.iter().map(|one| one["id"].as_str().unwrap()).collect();
        assert!(ids.is_sorted() && ids.len() == 2_008);
        let one = &all[0];
        assert_eq!(one["message"], "berth \"1\" is taken\n\"error\": 1");
        assert_eq!((&one["service"], &one["version"]), (&"fares".into(), &"2.4.0".into()));
        assert_eq!(one["resource"]["host.name"], "pier-3");
        assert_eq!(one["span_id"], "0000000000000001");
        let reference = one["error"].as_str().unwrap();
        assert!(reference.parse::<outcrop_core::Reference>().is_ok(), "{reference}");
        assert!(
            one["at"]
                .as_str()
                .unwrap()
                .parse::<chrono::DateTime<chrono::Utc>>()
                .is_ok()
        );
    }

    #[tokio::test]
    async fn requests_and_lines_are_taken_out_too_and_a_scope_narrows() {
        let database = filled(3).await;
        let mut scope = scope();
        let requests = read(&page(&database, Source::Requests, &scope, None).await.unwrap());
        assert!(requests.len() >= 3 && requests[0]["failed"] == true && requests[0]["duration_ms"] == 100.0);
        let lines = read(&page(&database, Source::Lines, &scope, None).await.unwrap());
        assert_eq!((lines.len(), &lines[0]["service"]), (1, &"berths".into()));
        scope.service = Some("berths".to_owned());
        assert_eq!(
            page(&database, Source::Requests, &scope, None).await.unwrap(),
            Page::default()
        );
        let asked = outcrop_core::query::parse("message contains shut").unwrap();
        scope.predicate = Some(std::sync::Arc::new(asked));
        assert_eq!(
            page(&database, Source::Occurrences, &scope, None)
                .await
                .unwrap()
                .records,
            1
        );
    }
}
