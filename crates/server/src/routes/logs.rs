//! Log lines, and what led up to a failure.

use std::collections::HashMap;
use std::sync::Arc;

use actix_web::{HttpRequest, get, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    ErrorQuery, HourCount, LeadUp, LeadUpStep, LogItem, LogPage, LogQuery, LogTemplate, LogTemplates, Problem,
    Severity, SharedByLines,
};
use outcrop_core::telemetry::SpanId;
use outcrop_core::trace::{LineSeen, Step, StepKind, Trace, what_led_to};
use outcrop_store::logs::{Asked, AskedTemplates, Line};
use outcrop_store::{Scope, from_utc, logs, occurrences, traces};

use super::query::{against_or_before, cursor, error_of, limit, read_cursor, scope};
use super::traces::trace_id;
use super::viewer::{Seen, Viewer};
use crate::answers::unknown::unknown;
use crate::api_error::ApiError;
use crate::clock::millis;
use crate::routes::parameters::{bad, parameters};

fn window(asked: &LogQuery, viewer: &Viewer) -> Result<Scope, ApiError> {
    let window = ErrorQuery {
        service: asked.service.clone(),
        environment: asked.environment.clone(),
        version: asked.version.clone(),
        since: asked.since.clone(),
        from: asked.from,
        to: asked.to,
        predicate: asked.predicate.clone(),
        ..ErrorQuery::default()
    };
    let scope = scope(&window, viewer, Utc::now())?;
    if let (Some(predicate), Some(text)) = (&scope.predicate, &asked.predicate) {
        predicate.for_log_lines().map_err(|mistake| {
            let place = super::predicate::place(text, &mistake);
            ApiError::Predicate {
                message: mistake.message,
                at: place.0,
                length: place.1,
            }
        })?;
    }
    Ok(scope)
}

/// Names of severities, with the first OTLP number of each.
const SEVERITIES: [(&str, i16); 6] = [
    ("trace", 1),
    ("debug", 5),
    ("info", 9),
    ("warn", 13),
    ("error", 17),
    ("fatal", 21),
];

fn least_severity(name: Option<&String>) -> Result<Option<i16>, ApiError> {
    let Some(name) = name.filter(|name| !name.is_empty()) else {
        return Ok(None);
    };
    let known = SEVERITIES
        .iter()
        .find(|(known, _)| known == name)
        .map(|(_, number)| *number);
    known.map(Some).ok_or_else(|| {
        bad(format!(
            "severity is `{name}`; it is one of trace, debug, info, warn, error, fatal"
        ))
    })
}

fn template(text: Option<&String>) -> Result<Option<[u8; 16]>, ApiError> {
    let none = || bad("template is the hash of a template, 32 hex digits, as lines have it");
    text.map(|text| trace_id(text).ok_or_else(none)).transpose()
}

/// Log lines, the newest first.
#[utoipa::path(operation_id = "list_log_lines", tag = "logs", params(LogQuery), responses(
    (status = 200, body = LogPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/logs")]
pub(super) async fn list_lines(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<LogPage>, ApiError> {
    let query: LogQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&query, &viewer)?, limit(query.limit)?);
    let asked = asked(&state, query).await?;
    let database = state.database.clone();
    let lines_and_note = async move {
        let lines = logs::lines(&database, &scope, &asked, i64::try_from(limit).unwrap_or(i64::MAX) + 1).await?;
        let note = if lines.is_empty() {
            unknown(&database, scope.predicate.as_deref()).await?
        } else {
            None
        };
        Ok((lines, note))
    };
    let (lines, note) = state.on_main(lines_and_note).await?;
    let next = (lines.len() > limit)
        .then(|| lines.get(limit - 1).map(|last| cursor(&last.id().to_string())))
        .flatten();
    Ok(web::Json(LogPage {
        items: lines.into_iter().take(limit).map(item).collect(),
        next,
        note,
    }))
}

/// Which lines are asked for, within a scope.
async fn asked(state: &Seen, query: LogQuery) -> Result<Asked, ApiError> {
    let trace = query.trace.as_deref().filter(|trace| !trace.is_empty());
    let error = match query.error.as_deref().filter(|error| !error.is_empty()) {
        Some(error) => Some(error_of(state, error).await?),
        None => None,
    };
    Ok(Asked {
        trace: trace
            .map(|trace| trace_id(trace).ok_or_else(|| bad("trace is a trace's id, 32 hex digits")))
            .transpose()?,
        error,
        template: template(query.template.as_ref())?,
        severity: least_severity(query.severity.as_ref())?,
        before: query
            .cursor
            .as_deref()
            .map(|text| read_cursor(text).and_then(|id| super::occurrences::occurrence_id(&id)))
            .transpose()?,
        oldest_first: false,
        text: query.text.filter(|text| !text.is_empty()),
    })
}

/// What the lines asked for share that other lines of their services do not.
#[utoipa::path(operation_id = "log_lines_stand_out", tag = "logs", params(LogQuery), responses(
    (status = 200, body = SharedByLines),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/logs/stands-out")]
pub(super) async fn lines_stand_out(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<SharedByLines>, ApiError> {
    let query: LogQuery = parameters(request.query_string())?;
    let given = [
        ("limit", query.limit.is_some()),
        ("cursor", query.cursor.is_some()),
        ("against", query.against.is_some()),
    ];
    if let Some((name, _)) = given.iter().find(|(_, is_given)| *is_given) {
        return Err(bad(format!(
            "what lines share is told of the newest of the window: leave {name} out"
        )));
    }
    let scope = window(&query, &viewer)?;
    let asked = asked(&state, query).await?;
    let tests = scope.predicate.iter().flat_map(|predicate| predicate.tests());
    let but: Vec<String> = tests.map(|test| test.field.name().to_owned()).collect();
    let database = state.database.clone();
    let shared = state
        .on_main(async move {
            let but: Vec<&str> = but.iter().map(String::as_str).collect();
            logs::stands_out::shared(&database, &scope, &asked, &but).await
        })
        .await?;
    let found = |finding| super::stands_out::item(finding, shared.lines);
    Ok(web::Json(SharedByLines {
        lines: shared.lines,
        usual: shared.usual,
        stands_out: shared.findings.iter().cloned().map(found).collect(),
    }))
}

fn item(line: Line) -> LogItem {
    LogItem {
        id: line.id().to_string(),
        at: line.at(),
        severity: Severity::of(line.severity),
        trace_id: line.trace_id.map(|trace| trace.simple().to_string()),
        span_id: span(&line).map(|span| format!("{:016x}", span.0)),
        template: line.template.simple().to_string(),
        service: line.service,
        environment: line.environment,
        version: line.version,
        message: line.message,
        attributes: line.attributes,
    }
}

fn span(line: &Line) -> Option<SpanId> {
    line.span_id.map(|span| SpanId(u64::from_ne_bytes(span.to_ne_bytes())))
}

/// What log lines have in common, and how often each comes.
#[utoipa::path(operation_id = "list_log_templates", tag = "logs", params(LogQuery), responses(
    (status = 200, body = LogTemplates),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/logs/templates")]
pub(super) async fn list_templates(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<LogTemplates>, ApiError> {
    let query: LogQuery = parameters(request.query_string())?;
    let given = [
        ("where", query.predicate.is_some()),
        ("version", query.version.is_some()),
        ("trace", query.trace.is_some()),
        ("error", query.error.is_some()),
        ("cursor", query.cursor.is_some()),
    ];
    if let Some((name, _)) = given.iter().find(|(_, is_given)| *is_given) {
        return Err(bad(format!(
            "templates are counted by the hour, service and environment: {name} cannot narrow them"
        )));
    }
    let (scope, limit) = (window(&query, &viewer)?, limit(query.limit)?);
    let earlier = against_or_before(query.against.as_deref(), &scope)?;
    let asked = AskedTemplates {
        text: query.text.filter(|text| !text.is_empty()),
        severity: least_severity(query.severity.as_ref())?,
        template: template(query.template.as_ref())?,
    };
    let database = state.database.clone();
    let counts = state
        .on_main(async move {
            logs::templates(
                &database,
                &scope,
                &earlier,
                &asked,
                i64::try_from(limit).unwrap_or(i64::MAX),
            )
            .await
        })
        .await?;
    let items = counts
        .into_iter()
        .map(|count| LogTemplate {
            template: count.template.simple().to_string(),
            severity: Severity::of(count.severity),
            text: count.text,
            service: count.service,
            count: count.count,
            before: count.before,
            hours: count
                .hours
                .into_iter()
                .map(|(at, count)| HourCount { at, count })
                .collect(),
        })
        .collect();
    Ok(web::Json(LogTemplates { items }))
}

/// Steps shown before a failure: what fits beside a stack.
const STEPS: usize = 60;

/// What a request did before it failed, over all services: spans that ended, their events, log lines.
#[utoipa::path(operation_id = "show_lead_up", tag = "occurrences", params(("id" = String, Path, description = "The \
    occurrence's id in hex")), responses(
    (status = 200, body = LeadUp),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/occurrences/{id}/lead-up")]
pub(super) async fn show_lead_up(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<LeadUp>, ApiError> {
    let id = super::occurrences::occurrence_id(&path)?;
    let database = state.database.clone();
    let found = state
        .on_main(async move {
            let Some(place) = occurrences::place(&database, id).await? else {
                return Ok(None);
            };
            let ((chunks, is_cut), lines) = match place.trace_id {
                Some(trace) => futures_util::try_join!(
                    traces::read_all(&database, std::slice::from_ref(&trace)),
                    logs::of_trace(&database, trace, place.at() + TimeDelta::seconds(1))
                )?,
                None => ((HashMap::new(), false), logs::of_instance(&database, id).await?),
            };
            Ok(Some((place, chunks, lines, is_cut)))
        })
        .await?;
    let (place, mut chunks, lines, is_cut) = found
        .ok_or_else(|| ApiError::NotFound(format!("there is no occurrence {id}; it may be past its retention")))?;
    let trace = Trace::new(
        place
            .trace_id
            .and_then(|trace| chunks.remove(&trace))
            .unwrap_or_default(),
    );
    let seen: Vec<LineSeen> = lines
        .iter()
        .map(|line| LineSeen {
            at: from_utc(line.at()),
            service: Arc::from(line.service.as_str()),
            span: span(line),
            severity: line.severity,
            message: line.message.clone(),
        })
        .collect();
    let at = from_utc(place.at());
    // The line that reports the failure is the failure.
    let steps: Vec<Step> = what_led_to(&trace, place.span(), at, &seen)
        .into_iter()
        .filter(|step| step.kind != StepKind::Line || !place.is_said_by(&step.what))
        .collect();
    let from = match (place.trace_id, steps.is_empty()) {
        (_, true) => "nothing",
        (Some(_), _) => "trace",
        (None, _) => "instance",
    };
    let left_out = steps.len().saturating_sub(STEPS);
    let failed_at = steps.iter().map(|step| step.at).max().unwrap_or(at).max(at);
    let steps = steps
        .into_iter()
        .skip(left_out)
        .map(|step| LeadUpStep {
            before_ms: millis(failed_at.0 - step.at.0),
            service: step.service.to_string(),
            kind: match step.kind {
                StepKind::Began => "began",
                StepKind::Done => "done",
                StepKind::Event => "event",
                StepKind::Line => "line",
            }
            .to_owned(),
            what: step.what,
            took_ms: step.took_ns.map(millis),
            failed: step.failed,
            severity: Severity::of(step.severity),
            span_id: step.span.map(|span| format!("{:016x}", span.0)),
            times: step.times,
        })
        .collect();
    Ok(web::Json(LeadUp {
        from: from.to_owned(),
        steps,
        left_out,
        is_cut,
    }))
}
