//! One trace, whole.

use std::collections::{HashMap, HashSet};

use actix_web::{get, web};
use outcrop_api::{PathItem, Problem, RepeatedItem, SpanEventItem, SpanItem, SpanLink, SpanOccurrence, TraceDetail};
use outcrop_core::telemetry::{Attributes, SpanId, SpanKind};
use outcrop_core::trace::{Trace, critical_path, origin_of, repeated, sentence};
use outcrop_core::{Digest, Timestamp};
use outcrop_store::traces::{InTrace, Marks, StoredTrace};
use outcrop_store::{ids, to_utc, traces};

use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::clock::millis;
use crate::routes::parameters::bad;
use crate::state::State;

/// A whole trace: the tree over all services, its critical path, where its failures began.
#[utoipa::path(operation_id = "show_trace", tag = "traces", params(("id" = String, Path, description = "The trace's \
    id, 32 hex digits")), responses(
    (status = 200, body = TraceDetail),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/traces/{id}")]
pub(super) async fn show_trace(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<TraceDetail>, ApiError> {
    of_trace(&state, &path).await.map(web::Json)
}

/// The trace of an id.
pub(super) async fn of_trace(state: &State, text: &str) -> Result<TraceDetail, ApiError> {
    let id = trace_id(text).ok_or_else(|| {
        bad(format!(
            "`{}` is no trace id: 32 hex digits",
            outcrop_core::text::prefix(text, 40)
        ))
    })?;
    let database = state.database.clone();
    let (stored, occurrences) = state
        .on_main(
            async move { futures_util::try_join!(traces::read(&database, id), traces::occurrences(&database, id)) },
        )
        .await?;
    let Some(stored) = stored else {
        let why = if occurrences.is_empty() {
            "nothing of this trace is stored: it never came, or it went within the hour since it neither failed nor \
             was slow"
                .to_owned()
        } else {
            let one = occurrences
                .first()
                .map(|one| ids::reference(one.error_id).to_string())
                .unwrap_or_default();
            format!("no span of this trace is stored, only failures reported in it, such as {one}")
        };
        return Err(ApiError::NotFound(why));
    };
    web::block(move || detail(id, stored, &occurrences))
        .await
        .map_err(|error| {
            tracing::error!(%error, "a trace could not be put together");
            ApiError::Away
        })
}

pub(super) fn trace_id(text: &str) -> Option<[u8; 16]> {
    let digits = text.trim().replace('-', "");
    let number = u128::from_str_radix(&digits, 16).ok().filter(|_| digits.len() == 32)?;
    Some(number.to_be_bytes())
}

/// Why a trace or request is kept, in words.
pub(super) fn kept_because(marks: Marks) -> Vec<String> {
    [
        (marks.failed, "failed"),
        (marks.slow, "slow"),
        (marks.sampled, "sample"),
    ]
    .into_iter()
    .filter(|(holds, _)| *holds)
    .map(|(_, why)| why.to_owned())
    .collect()
}

fn hex(span: SpanId) -> String {
    format!("{:016x}", span.0)
}

fn json(attributes: &Attributes) -> serde_json::Value {
    serde_json::Value::Object(attributes.to_json())
}

const fn kind(kind: SpanKind) -> &'static str {
    match kind {
        SpanKind::Internal => "internal",
        SpanKind::Server => "server",
        SpanKind::Client => "client",
        SpanKind::Producer => "producer",
        SpanKind::Consumer => "consumer",
    }
}

/// Where the request failed first: where the root's failure began, else the first failure that has no other origin.
fn failed_first(trace: &Trace, root: usize, occurrences: &[InTrace]) -> Option<String> {
    let fails = |at: &usize| trace.spans.get(*at).is_some_and(|span| span.is_error);
    let of_root = Some(root)
        .filter(fails)
        .map(|root| origin_of(trace, root).unwrap_or(root));
    let first = of_root.or_else(|| {
        (0..trace.spans.len())
            .filter(fails)
            .find(|at| origin_of(trace, *at).is_none())
    });
    let service = match first {
        Some(at) => trace.spans.get(at)?.service.to_string(),
        None => occurrences.first()?.service.clone(),
    };
    let thrown = occurrences.iter().find(|occurrence| occurrence.service == service);
    let what = thrown
        .map(|occurrence| occurrence.title.clone())
        .or_else(|| first.map(|at| trace.spans[at].name.clone()))?;
    Some(format!("Failed first in {service}: {what}."))
}

/// Occurrences by the span that they were reported on.
fn by_span(occurrences: &[InTrace]) -> HashMap<SpanId, Vec<SpanOccurrence>> {
    let mut reported: HashMap<SpanId, Vec<SpanOccurrence>> = HashMap::new();
    for occurrence in occurrences {
        if let Some(span) = occurrence.span() {
            reported.entry(span).or_default().push(SpanOccurrence {
                id: occurrence.id.simple().to_string(),
                reference: ids::reference(occurrence.error_id).to_string(),
                title: occurrence.title.clone(),
            });
        }
    }
    reported
}

fn detail(id: [u8; 16], stored: StoredTrace, occurrences: &[InTrace]) -> TraceDetail {
    let StoredTrace {
        chunks,
        marks,
        is_kept,
        is_cut,
    } = stored;
    let trace = Trace::new(chunks);
    let root = trace.root().unwrap_or_default();
    let path = critical_path(&trace, root);
    let on_path: HashSet<usize> = path.iter().map(|step| step.span).collect();
    let (began, ended) = trace.bounds();
    let mut reported = by_span(occurrences);
    let mut told: HashSet<*const Attributes> = HashSet::new();
    let spans = trace
        .spans
        .iter()
        .enumerate()
        .map(|(at, span)| SpanItem {
            span_id: hex(span.id),
            parent_id: span.parent.map(hex),
            depth: span.depth,
            service: span.service.to_string(),
            version: span.version.to_string(),
            environment: span.environment.to_string(),
            name: span.name.clone(),
            kind: kind(span.kind).to_owned(),
            started_at: to_utc(span.start),
            offset_ms: millis(span.start.0 - began),
            duration_ms: millis(span.duration_ns),
            self_ms: millis(span.self_ns),
            status: if span.is_error { "error" } else { "ok" }.to_owned(),
            status_message: span.status_message.clone(),
            on_critical_path: on_path.contains(&at),
            is_missing: span.is_missing,
            moved_ms: millis(span.moved_ns),
            occurrences: reported.remove(&span.id).unwrap_or_default(),
            origin_span_id: origin_of(&trace, at).map(|origin| hex(trace.spans[origin].id)),
            scope: span.scope.clone(),
            attributes: json(&span.attributes),
            resource: (!span.is_missing && told.insert(std::sync::Arc::as_ptr(&span.resource)))
                .then(|| json(&span.resource)),
            events: span
                .events
                .iter()
                .map(|event| SpanEventItem {
                    name: event.name.clone(),
                    offset_ms: millis(event.at.0 - began),
                    attributes: json(&event.attributes),
                })
                .collect(),
            links: span
                .links
                .iter()
                .map(|link| SpanLink {
                    trace_id: Digest(link.trace).to_string(),
                    span_id: hex(link.span),
                })
                .collect(),
        })
        .collect();
    TraceDetail {
        trace_id: Digest(id).to_string(),
        started_at: to_utc(Timestamp(began)),
        duration_ms: millis(ended - began),
        services: trace.services().iter().map(ToString::to_string).collect(),
        kept_because: kept_because(marks),
        is_kept,
        is_cut,
        failed_first: failed_first(&trace, root, occurrences),
        sentence: sentence(&trace, root, &path),
        missing: trace.spans.iter().filter(|span| span.is_missing).count(),
        moved: trace.spans.iter().filter(|span| span.moved_ns != 0).count(),
        repeated: repeated(&trace)
            .into_iter()
            .map(|found| RepeatedItem {
                service: found.service.to_string(),
                statement: found.statement,
                below: hex(trace.spans[found.below].id),
                count: found.count,
                total_ms: millis(found.total_ns),
            })
            .collect(),
        critical_path: path
            .iter()
            .map(|step| PathItem {
                span_id: hex(trace.spans[step.span].id),
                from_ms: millis(step.from - began),
                duration_ms: millis(step.to - step.from),
            })
            .collect(),
        spans,
    }
}
