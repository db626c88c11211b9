//! Calls, statements, instances, and what needs attention now.

use actix_web::{HttpRequest, get, web};
use outcrop_api::{
    CallItem, CallList, InstanceItem, InstanceList, InstanceThen, NowReport, PlatformEventItem, Problem, TrafficQuery,
};
use outcrop_store::traffic::uses;
use outcrop_store::traffic::uses::CallCount;

use super::query::{against, against_or_before, limit};
use super::traffic::window;
use super::viewer::{Seen, Viewer};
use crate::answers::now;
use crate::api_error::ApiError;
use crate::clock::millis;
use crate::routes::parameters::parameters;
use crate::supervision::Trouble;

#[expect(clippy::cast_precision_loss, reason = "durations and counts far below 2^53")]
fn mean(total_us: i64, count: i64) -> Option<f64> {
    (count > 0).then(|| total_us as f64 / count as f64 / 1_000.0)
}

fn item(row: CallCount) -> CallItem {
    CallItem {
        mean_ms: mean(row.total_us, row.count).unwrap_or_default(),
        longest_ms: millis(row.longest_us.saturating_mul(1_000)),
        total_ms: millis(row.total_us.saturating_mul(1_000)),
        mean_before_ms: mean(row.before_us, row.before),
        before: row.before,
        service: row.service,
        kind: row.kind,
        name: row.name,
        to_service: row.to_service,
        count: row.count,
        failed: row.failed,
    }
}

/// Who calls whom: services, databases, queues, with traffic, failures and latency.
#[utoipa::path(operation_id = "list_calls", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = CallList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/calls")]
pub(super) async fn list_calls(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<CallList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let earlier = against_or_before(asked.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let rows = state
        .on_main(
            async move { uses::calls(&database, &scope, &earlier, i64::try_from(limit).unwrap_or(i64::MAX)).await },
        )
        .await?;
    Ok(web::Json(CallList {
        items: rows.into_iter().map(item).collect(),
    }))
}

/// Database statements, those that took most time first.
#[utoipa::path(operation_id = "list_statements", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = CallList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/statements")]
pub(super) async fn list_statements(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<CallList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let earlier = against_or_before(asked.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let rows = state
        .on_main(async move {
            uses::statements(&database, &scope, &earlier, i64::try_from(limit).unwrap_or(i64::MAX)).await
        })
        .await?;
    Ok(web::Json(CallList {
        items: rows.into_iter().map(item).collect(),
    }))
}

/// Instances that sent something: version, host, region, requests, failures, load.
#[utoipa::path(operation_id = "list_instances", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = InstanceList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/instances")]
pub(super) async fn list_instances(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<InstanceList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let database = state.database.clone();
    let limit = i64::try_from(limit).unwrap_or(i64::MAX);
    let earlier = against(asked.against.as_deref(), &scope)?;
    let (is_against, is_of_service) = (earlier.is_some(), scope.service.is_some());
    let (rows, events) = state
        .on_main(async move {
            futures_util::try_join!(
                uses::instances(&database, &scope, earlier.as_ref(), limit),
                uses::platform_events(&database, &scope, PLATFORM_EVENTS)
            )
        })
        .await?;
    let platform_events = events
        .into_iter()
        .map(|event| PlatformEventItem {
            at: event.at(),
            instance: rows
                .iter()
                .find(|row| is_about(&event, row))
                .map(|row| row.name.clone()),
            object: event.object,
            reason: event.reason,
            message: event.message,
            is_warning: event.is_warning,
        })
        // Of one service, what is about it.
        .filter(|event: &PlatformEventItem| !is_of_service || event.instance.is_some())
        .collect();
    let items = rows
        .into_iter()
        .map(|row| InstanceItem {
            service: row.service,
            environment: row.environment,
            version: row.version,
            instance: row.name,
            host: row.host,
            region: row.region,
            first_seen: row.first_at,
            last_seen: row.last_at,
            requests: row.requests,
            failed: row.failed,
            starts_on_host: row.starts,
            against: is_against.then_some(InstanceThen {
                requests: row.then_requests,
                failed: row.then_failed,
            }),
            readings: row.readings,
        })
        .collect();
    Ok(web::Json(InstanceList { items, platform_events }))
}

/// Events of the platform shown.
const PLATFORM_EVENTS: i64 = 100;

/// Whether an event is about an instance: its pod, its host, or a unit of its service on its host.
fn is_about(event: &uses::PlatformEvent, instance: &uses::Instance) -> bool {
    let unit = event.reason.strip_suffix(".service");
    let is_its_own =
        |service: &str| service == instance.service || service.ends_with(&format!("-{}", instance.service));
    event.object == instance.name
        || (!instance.host.is_empty() && event.object == instance.host && unit.is_none_or(is_its_own))
        || instance.name.split(['/', ' ']).any(|part| part == event.object) && unit.is_none_or(is_its_own)
}

/// What is unwell now: endpoints that fail more or take longer than their own past explains, errors
/// that are flagged or busy.
#[utoipa::path(operation_id = "report_now", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = NowReport),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/now")]
pub(super) async fn report_now(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<NowReport>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let scope = window(&asked)?;
    let database = state.database.clone();
    let mut told = state
        .on_main(async move { now::report(&database, &scope).await })
        .await?;
    told.troubles = state
        .health
        .troubles(crate::clock::now())
        .iter()
        .map(Trouble::to_item)
        .collect();
    if let Some(trouble) = told.troubles.first() {
        let how = if trouble.failures > 0 { "fails" } else { "is late" };
        told.sentence = format!("{} Outcrop's own job “{}” {how}.", told.sentence, trouble.name);
    }
    Ok(web::Json(told))
}
