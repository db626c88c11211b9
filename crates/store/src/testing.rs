//! For tests of this crate: a database of their own, and requests as the intake makes them.

use std::sync::Arc;

use outcrop_core::failure::{Found, Limits, find_in_logs, find_in_metrics, find_in_spans};
use outcrop_core::telemetry::{
    Attributes, LogRecord, NO_GROUPS, Reading, Resource, Scope, ScopeRecords, Span, SpanEvent, SpanId, SpanKind,
    TraceId, Value,
};
use outcrop_core::{Digest, Timestamp, scrub};
use outcrop_testkit::Postgres;

use crate::Database;
use crate::writing::{Outcome, Submission, Writer};

/// An empty database with the schema.
pub(crate) async fn database() -> Database {
    Database::open(&Postgres::shared().database()).await.unwrap()
}

pub(crate) fn now() -> Timestamp {
    crate::from_utc(chrono::Utc::now())
}

pub(crate) fn writer(database: &Database) -> Writer {
    Writer::new(database.clone(), |report| report.message.clone())
}

/// Writes requests in one batch; each must be stored.
pub(crate) async fn store(writer: &Writer, batch: &[Submission]) {
    let outcomes = writer.write(batch).await.unwrap();
    assert!(
        outcomes.iter().all(|outcome| matches!(outcome, Outcome::Stored(_))),
        "{outcomes:?}"
    );
}

pub(crate) fn text(text: &str) -> Value {
    Value::String(text.to_owned())
}

pub(crate) fn attributes(entries: &[(&str, &str)]) -> Attributes {
    entries.iter().map(|(name, value)| (*name, text(value))).collect()
}

pub(crate) fn resource(service: &str) -> Arc<Resource> {
    resource_of(&[
        ("service.name", service),
        ("service.version", "2.4.0"),
        ("deployment.environment.name", "production"),
        ("host.name", "pier-3"),
    ])
}

pub(crate) fn resource_of(entries: &[(&str, &str)]) -> Arc<Resource> {
    Arc::new(Resource {
        attributes: attributes(entries),
    })
}

pub(crate) fn of<T>(resource: Arc<Resource>, records: Vec<T>) -> ScopeRecords<T> {
    ScopeRecords {
        resource,
        scope: Arc::new(Scope::default()),
        records,
    }
}

fn limits(received: Timestamp) -> Limits<'static> {
    Limits {
        received,
        oldest: received.plus_millis(-30 * 86_400_000),
        scrubbing: &scrub::BUILT_IN,
        groups: &NO_GROUPS,
    }
}

/// A request of spans, received at a time.
pub(crate) fn spans(groups: Vec<ScopeRecords<Span>>, received: Timestamp) -> Submission {
    submission(find_in_spans(groups, limits(received)), received)
}

/// A request of log records, received at a time.
pub(crate) fn logs(groups: Vec<ScopeRecords<LogRecord>>, received: Timestamp) -> Submission {
    submission(find_in_logs(groups, limits(received)), received)
}

/// A request of metrics, received at a time.
pub(crate) fn metrics(groups: Vec<ScopeRecords<Reading>>, received: Timestamp) -> Submission {
    submission(find_in_metrics(groups, limits(received)), received)
}

/// Each request has a body of its own.
fn submission(found: Found, received: Timestamp) -> Submission {
    static COUNT: std::sync::atomic::AtomicU64 = std::sync::atomic::AtomicU64::new(0);
    let number = COUNT.fetch_add(1, std::sync::atomic::Ordering::Relaxed).to_string();
    Submission {
        receipt: Digest::of([number.as_str()]),
        key: 7,
        received,
        found: Arc::new(found),
    }
}

pub(crate) fn trace(number: u64) -> TraceId {
    TraceId((u128::from(number) + 1).to_be_bytes())
}

/// A request of a service that is fine.
pub(crate) fn span(trace: TraceId, id: u64, parent: Option<u64>, at: Timestamp) -> Span {
    Span {
        trace_id: trace,
        span_id: SpanId(id),
        parent_id: parent.map(SpanId),
        name: "GET /v1/quotes/{sailing}".to_owned(),
        kind: if parent.is_some() {
            SpanKind::Internal
        } else {
            SpanKind::Server
        },
        start: Some(at.plus_millis(-100)),
        end: Some(at),
        attributes: Attributes::default(),
        events: vec![],
        links: vec![],
        is_error: false,
        status_message: String::new(),
        flags: 0,
        one_in: None,
    }
}

/// The same, failing with an exception.
pub(crate) fn failing(trace: TraceId, id: u64, parent: Option<u64>, at: Timestamp, message: &str) -> Span {
    Span {
        is_error: true,
        events: vec![exception(at, message)],
        ..span(trace, id, parent, at)
    }
}

pub(crate) fn exception(at: Timestamp, message: &str) -> SpanEvent {
    SpanEvent {
        name: "exception".to_owned(),
        time: Some(at),
        attributes: attributes(&[("exception.type", "BerthTaken"), ("exception.message", message)]),
    }
}

/// A log record of an exception without a trace.
pub(crate) fn logged(at: Timestamp, message: &str) -> LogRecord {
    LogRecord {
        time: Some(at),
        severity: 17,
        attributes: attributes(&[("exception.type", "BerthTaken"), ("exception.message", message)]),
        ..LogRecord::default()
    }
}

/// A number that the database answers with.
pub(crate) async fn number(database: &Database, sql: &'static str) -> i64 {
    let (number,): (i64,) = sqlx::query_as(sql).fetch_one(&database.pool).await.unwrap();
    number
}

/// Occurrences that are counted.
pub(crate) async fn counted(database: &Database) -> i64 {
    number(database, "SELECT coalesce(sum(n), 0)::bigint FROM tally_hour").await
}

/// A deploy of fares into production.
pub(crate) fn announced(version: &str, at: chrono::DateTime<chrono::Utc>) -> crate::deploys::NewDeploy {
    crate::deploys::NewDeploy {
        service: "fares".to_owned(),
        environment: "production".to_owned(),
        version: version.to_owned(),
        at,
        ended_at: None,
        share: None,
        instance_group: None,
        revision: String::new(),
        link: String::new(),
        by: "pipeline".to_owned(),
    }
}
