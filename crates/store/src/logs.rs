//! Log lines and what they have in common.

pub mod stands_out;

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::failure::OccurrenceId;
use outcrop_core::question::Source;
use sqlx::{FromRow, Postgres, QueryBuilder};
use uuid::Uuid;

use crate::boxed;
use crate::ids::id_uuid;
use crate::{Database, Scope, StoreError, asking, to_utc};

/// Which lines to read, within a scope.
#[derive(Clone, Debug, Default)]
pub struct Asked {
    /// Only lines that hold this text, in any case.
    pub text: Option<String>,
    /// Only lines of this trace.
    pub trace: Option<[u8; 16]>,
    /// Only lines of traces in which this error occurred: of its newest thousand.
    pub error: Option<Reference>,
    /// Only lines of this template.
    pub template: Option<[u8; 16]>,
    /// Only lines of this OTLP severity number or above.
    pub severity: Option<i16>,
    /// Only lines before this one.
    pub before: Option<OccurrenceId>,
    /// The oldest first, rather than the newest.
    pub oldest_first: bool,
}

/// A log line.
#[derive(Clone, Debug, FromRow)]
pub struct Line {
    id: Uuid,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// Its trace, if any.
    pub trace_id: Option<Uuid>,
    /// Its span, if any, as stored.
    pub span_id: Option<i64>,
    /// OTLP severity number; 0 where unknown.
    pub severity: i16,
    /// The hash of its template.
    pub template: Uuid,
    /// What it says.
    pub message: String,
    /// Its attributes.
    pub attributes: serde_json::Value,
}

impl Line {
    /// Its id; begins with its time.
    #[must_use]
    pub const fn id(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }

    /// When it was written, to the millisecond.
    #[must_use]
    pub fn at(&self) -> DateTime<Utc> {
        to_utc(self.id().at())
    }
}

/// Traces of an error whose lines are looked for.
const TRACES: i64 = 1_000;

async fn narrow(
    sql: &mut QueryBuilder<Postgres>,
    database: &Database,
    scope: &Scope,
    asked: &Asked,
) -> Result<(), StoreError> {
    asking::within(sql, scope);
    if let Some(wanted) = &scope.predicate {
        let condition = asking::resolve_for(database, wanted, scope, Source::Lines).await?;
        sql.push(" AND ");
        condition.write(sql);
    }
    if let Some(text) = &asked.text {
        sql.push(" AND position(lower(")
            .push_bind(text.clone())
            .push(") IN lower(o.message)) > 0");
    }
    if let Some(trace) = asked.trace {
        sql.push(" AND o.trace_id = ").push_bind(Uuid::from_bytes(trace));
    }
    if let Some(error) = asked.error {
        sql.push(
            " AND o.trace_id = ANY(ARRAY(SELECT e.trace_id FROM occurrence e WHERE e.trace_id IS NOT NULL AND \
             e.cause_id IN \
             (SELECT id FROM cause WHERE error_id = ",
        );
        sql.push_bind(crate::ids::number(error))
            .push(") AND e.id >= first_id_at(")
            .push_bind(scope.from);
        sql.push(") ORDER BY e.id DESC LIMIT ").push_bind(TRACES).push("))");
    }
    if let Some(template) = asked.template {
        sql.push(" AND o.template = ").push_bind(Uuid::from_bytes(template));
    }
    if let Some(severity) = asked.severity {
        sql.push(" AND o.severity >= ").push_bind(severity);
    }
    if let Some(before) = asked.before {
        sql.push(if asked.oldest_first {
            " AND o.id > "
        } else {
            " AND o.id < "
        })
        .push_bind(id_uuid(before));
    }
    Ok(())
}

/// Reads lines, the newest first unless asked otherwise.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn lines(database: &Database, scope: &Scope, asked: &Asked, limit: i64) -> Result<Vec<Line>, StoreError> {
    let order = if asked.oldest_first { "" } else { " DESC" };
    let mut sql = QueryBuilder::new(
        "SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, \
         o.trace_id, o.span_id, o.severity, \
             o.template, o.message, o.attributes FROM (SELECT o.* FROM log_record o WHERE ",
    );
    narrow(&mut sql, database, scope, asked).await?;
    sql.push(" ORDER BY o.id").push(order).push(" LIMIT ").push_bind(limit);
    sql.push(
        ") o JOIN service ON service.id = o.service_id JOIN environment ON environment.id = o.environment_id \
         JOIN version ON version.id = o.version_id ORDER BY o.id",
    );
    sql.push(order);
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

/// What many lines have in common, and how often it came.
#[derive(Clone, Debug, FromRow)]
pub struct TemplateCount {
    /// Its hash.
    pub template: Uuid,
    /// The text, its variable parts replaced.
    pub text: String,
    /// The service that writes it.
    pub service: String,
    /// The highest severity it came with.
    pub severity: i16,
    /// Lines within the window's whole hours.
    pub count: i64,
    /// Lines in the hours of the same number before.
    pub before: i64,
    /// Lines by the hour, as (hour, lines).
    #[sqlx(skip)]
    pub hours: Vec<(DateTime<Utc>, i64)>,
}

/// Which templates to count.
#[derive(Clone, Debug, Default)]
pub struct AskedTemplates {
    /// Only those that hold this text, in any case.
    pub text: Option<String>,
    /// Only those that came with this OTLP severity number or above.
    pub severity: Option<i16>,
    /// Only this one.
    pub template: Option<[u8; 16]>,
}

/// Lines per hour.
type Hours = Vec<(DateTime<Utc>, i64)>;

/// Counts lines by their templates over the hours that a window touches, the most frequent first.
/// Predicates and versions are not looked at.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn templates(
    database: &Database,
    scope: &Scope,
    earlier: &Scope,
    asked: &AskedTemplates,
    limit: i64,
) -> Result<Vec<TemplateCount>, StoreError> {
    let from = crate::hour(scope.from);
    let then = crate::hour(earlier.from);
    // An hour that both periods touch belongs to the window.
    let end = earlier.to.min(if then < from { from } else { earlier.to });
    let mut sql = QueryBuilder::new(
        "SELECT l.template, t.template AS text, service.display_name AS service, max(l.severity) AS severity, \
             coalesce(sum(l.n) FILTER (WHERE l.is_now), 0)::bigint AS count, coalesce(sum(l.n) FILTER (WHERE NOT \
             l.is_now), 0)::bigint AS before \
         FROM (SELECT *, true AS is_now FROM log_hour WHERE hour >= ",
    );
    sql.push_bind(from).push(" AND hour < ").push_bind(scope.to);
    sql.push(" UNION ALL SELECT *, false FROM log_hour WHERE hour >= ")
        .push_bind(then)
        .push(" AND hour < ")
        .push_bind(end);
    sql.push(") l JOIN log_template t ON t.hash = l.template JOIN service ON service.id = l.service_id WHERE true");
    if let Some(service) = &scope.service {
        sql.push(" AND service.id IN (SELECT services_named(")
            .push_bind(service.clone())
            .push("))");
    }
    if let Some(environment) = &scope.environment {
        sql.push(" AND l.environment_id IN (SELECT id FROM environment WHERE name = ")
            .push_bind(environment.clone())
            .push(")");
    }
    if let Some(text) = &asked.text {
        sql.push(" AND position(lower(")
            .push_bind(text.clone())
            .push(") IN lower(t.template)) > 0");
    }
    if let Some(severity) = asked.severity {
        sql.push(" AND l.severity >= ").push_bind(severity);
    }
    if let Some(template) = asked.template {
        sql.push(" AND l.template = ").push_bind(Uuid::from_bytes(template));
    }
    sql.push(" GROUP BY 1, 2, 3 HAVING sum(l.n) FILTER (WHERE l.is_now) > 0 ORDER BY 5 DESC, 2 LIMIT ")
        .push_bind(limit);
    let mut counts: Vec<TemplateCount> = sql.build_query_as().fetch_all(&database.pool).await?;
    let hashes: Vec<Uuid> = counts.iter().map(|count| count.template).collect();
    let rows: Vec<(Uuid, String, DateTime<Utc>, i64)> = sqlx::query_as(
        "SELECT l.template, service.display_name, l.hour, sum(l.n)::bigint FROM log_hour l JOIN service ON service.id \
         = l.service_id \
         WHERE l.template = ANY($1) AND l.hour >= $2 AND l.hour < $3 GROUP BY 1, 2, 3 ORDER BY 3",
    )
    .bind(hashes)
    .bind(from)
    .bind(scope.to)
    .fetch_all(&database.pool)
    .await?;
    let mut hours: HashMap<(Uuid, String), Hours> = HashMap::new();
    for (template, service, hour, n) in rows {
        hours.entry((template, service)).or_default().push((hour, n));
    }
    for count in &mut counts {
        count.hours = hours
            .remove(&(count.template, count.service.clone()))
            .unwrap_or_default();
    }
    Ok(counts)
}

/// Lines of a trace read for what led up to a failure.
const OF_TRACE: i64 = 500;
/// How far back lines of the same instance are looked for, where the failure has no trace.
const BEFORE: chrono::TimeDelta = chrono::TimeDelta::seconds(10);

/// The lines of a trace up to a time, the oldest first; of more than 500 the last.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_trace(database: &Database, trace: Uuid, until: DateTime<Utc>) -> Result<Vec<Line>, StoreError> {
    let scope = whole(
        until - chrono::TimeDelta::hours(6),
        until + chrono::TimeDelta::minutes(5),
    );
    let mut lines = lines(
        database,
        &scope,
        &Asked {
            trace: Some(*trace.as_bytes()),
            ..Asked::default()
        },
        OF_TRACE,
    )
    .await?;
    lines.reverse();
    Ok(lines)
}

/// What the instance of an occurrence wrote in the ten seconds before it, the oldest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_instance(database: &Database, occurrence: OccurrenceId) -> Result<Vec<Line>, StoreError> {
    let until = to_utc(occurrence.at());
    let mut sql = QueryBuilder::new(
        "SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, \
         o.trace_id, o.span_id, o.severity, \
             o.template, o.message, o.attributes FROM log_record o JOIN occurrence c ON c.id = ",
    );
    sql.push_bind(id_uuid(occurrence));
    sql.push(
        " AND c.resource = o.resource JOIN service ON service.id = o.service_id JOIN environment ON environment.id = \
         o.environment_id \
         JOIN version ON version.id = o.version_id WHERE o.id >= first_id_at(",
    );
    sql.push_bind(until - BEFORE)
        .push(") AND o.id < first_id_at(")
        .push_bind(until + chrono::TimeDelta::milliseconds(1));
    sql.push(") ORDER BY o.id DESC LIMIT ").push_bind(OF_TRACE);
    let mut lines: Vec<Line> = sql.build_query_as().fetch_all(&database.pool).await?;
    lines.reverse();
    Ok(lines)
}

const fn whole(from: DateTime<Utc>, to: DateTime<Utc>) -> Scope {
    Scope {
        service: None,
        environment: None,
        version: None,
        from,
        to,
        predicate: None,
    }
}
