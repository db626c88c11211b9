//! Endpoints, kept requests, and what made requests slow.

use std::collections::BTreeMap;

use actix_web::{HttpRequest, HttpResponse, get, put, web};
use chrono::Utc;
use outcrop_api::{
    Course, CourseStep, EndpointItem, EndpointList, EndpointThen, ErrorQuery, GroupItem, GroupList, Problem,
    RequestCounts, RequestItem, RequestPage, SamplingNote, SlowList, SlowSetting, StatusCount, TrafficQuery,
};
use outcrop_core::deploy::{Side, changes};
use outcrop_core::failure::OccurrenceId;
use outcrop_store::people::settings;
use outcrop_store::traffic::groups::Served;
use outcrop_store::traffic::timeline::Steps;
use outcrop_store::traffic::{Endpoint, Wanted, groups};
use outcrop_store::{Scope, traces, traffic};

use super::input::Body;
use super::query::{against, cursor, limit, read_cursor};
use super::traces::kept_because;
use super::viewer::{Seen, Viewer};
use crate::answers::slow;
use crate::api_error::ApiError;
use crate::clock::millis;
use crate::routes::parameters::{bad, parameters};

/// Slow requests whose traces are looked into at once.
const LOOKED_AT: i64 = 100;

pub(super) fn window(asked: &TrafficQuery) -> Result<Scope, ApiError> {
    let window = ErrorQuery {
        service: asked.service.clone(),
        environment: asked.environment.clone(),
        version: asked.version.clone(),
        since: asked.since.clone(),
        from: asked.from,
        to: asked.to,
        ..ErrorQuery::default()
    };
    super::query::window(&window, Utc::now())
}

/// How many requests there were, and how many of them failed.
#[utoipa::path(operation_id = "sum_traffic", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = RequestCounts),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/traffic")]
pub(super) async fn sum_traffic(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<RequestCounts>, ApiError> {
    let scope = window(&parameters(request.query_string())?)?;
    let database = state.database.clone();
    let (requests, failed) = state
        .on_main(async move { outcrop_store::errors::traffic_of(&database, &scope).await })
        .await?;
    Ok(web::Json(RequestCounts { requests, failed }))
}

/// Endpoints with their traffic, failures and latency.
#[utoipa::path(operation_id = "list_endpoints", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = EndpointList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/endpoints")]
pub(super) async fn list_endpoints(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<EndpointList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let earlier = against(asked.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let (mut rows, then, sampling) = state
        .on_main(async move {
            let then = async {
                match &earlier {
                    Some(earlier) => Ok(Some(traffic::endpoints(&database, earlier).await?)),
                    None => Ok(None),
                }
            };
            futures_util::try_join!(
                traffic::endpoints(&database, &scope),
                then,
                outcrop_store::sampling::notes(&database, &scope)
            )
        })
        .await?;
    if let Some(endpoint) = &asked.endpoint {
        rows.retain(|row| row.name == *endpoint);
    }
    let total = rows.len();
    let items = rows
        .into_iter()
        .take(limit)
        .map(|row| EndpointItem {
            against: then.as_ref().map(|then| held_against(&row, then)),
            p50_ms: quantile(&row, 0.5),
            p95_ms: quantile(&row, 0.95),
            p99_ms: quantile(&row, 0.99),
            slow_from_ms: millis(row.slow.0 * 1_000),
            slow_by: row.slow.1.word().to_owned(),
            namespace: row.namespace,
            service: row.service,
            endpoint: row.name,
            count: row.requests,
            failed: row.failed,
            statuses: row
                .statuses
                .into_iter()
                .map(|(status, (count, kept))| StatusCount { status, count, kept })
                .collect(),
        })
        .collect();
    let mut by_note: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (service, note) in sampling {
        by_note.entry(note).or_default().push(service);
    }
    let sampling = by_note
        .into_iter()
        .map(|(note, services)| SamplingNote { services, note })
        .collect();
    Ok(web::Json(EndpointList { items, total, sampling }))
}

fn quantile(row: &Endpoint, share: f64) -> Option<f64> {
    row.latency
        .quantile(share)
        .map(|micros| (micros / 10.0).round() / 100.0)
}

/// What the instance groups of one service serve, each against the others.
#[utoipa::path(operation_id = "list_groups", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = GroupList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/endpoints/groups")]
pub(super) async fn list_groups(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<GroupList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let scope = window(&asked)?;
    let service = asked
        .service
        .clone()
        .filter(|service| !service.is_empty())
        .ok_or_else(|| bad("say which service: ?service=fares"))?;
    let database = state.database.clone();
    let (served, attribute) = state
        .on_main(async move {
            let attribute = async { Ok(settings::of_service(&database, &service).await?.instance_group) };
            futures_util::try_join!(groups::served(&database, &scope, asked.endpoint.as_deref()), attribute)
        })
        .await?;
    let mut by_group: BTreeMap<String, Served> = BTreeMap::new();
    for ((group, _), served) in served {
        by_group.entry(group).or_default().merge(&served);
    }
    let side = |served: &Served| Side {
        requests: served.requests.unsigned_abs(),
        failed: served.failed.unsigned_abs(),
        latency: served.latency.clone(),
        ..Side::default()
    };
    let quantile = |served: &Served, share: f64| {
        served
            .latency
            .quantile(share)
            .map(|micros| (micros / 10.0).round() / 100.0)
    };
    let mut items: Vec<GroupItem> = by_group
        .iter()
        .map(|(group, served)| {
            let mut rest = Served::default();
            by_group
                .iter()
                .filter(|(other, _)| *other != group)
                .for_each(|(_, other)| rest.merge(other));
            let changes = changes(&side(&rest), &side(served));
            GroupItem {
                group: group.clone(),
                count: served.requests,
                failed: served.failed,
                statuses: served.statuses.to_vec(),
                p50_ms: quantile(served, 0.5),
                p95_ms: quantile(served, 0.95),
                p99_ms: quantile(served, 0.99),
                changes: changes.into_iter().map(|change| change.word().to_owned()).collect(),
            }
        })
        .collect();
    items.sort_by(|one, other| other.count.cmp(&one.count).then_with(|| one.group.cmp(&other.group)));
    Ok(web::Json(GroupList { attribute, items }))
}

/// An endpoint then, and what is different now.
fn held_against(now: &Endpoint, then: &[Endpoint]) -> EndpointThen {
    let before = then
        .iter()
        .find(|row| (&row.namespace, &row.service, &row.name) == (&now.namespace, &now.service, &now.name));
    let side = |row: &Endpoint| Side {
        requests: row.requests.unsigned_abs(),
        failed: row.failed.unsigned_abs(),
        latency: row.latency.clone(),
        ..Side::default()
    };
    let found = before
        .map(|before| changes(&side(before), &side(now)))
        .unwrap_or_default();
    EndpointThen {
        count: before.map_or(0, |row| row.requests),
        failed: before.map_or(0, |row| row.failed),
        p95_ms: before.and_then(|row| quantile(row, 0.95)),
        changes: found.into_iter().map(|change| change.word().to_owned()).collect(),
    }
}

/// Sets from when on a request of an endpoint is slow. It holds for what comes within a minute.
#[utoipa::path(operation_id = "set_slow", tag = "traffic", request_body = SlowSetting, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[put("/endpoints/slow")]
pub(super) async fn set_slow(viewer: Viewer, body: Body<SlowSetting>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let SlowSetting {
        service,
        endpoint,
        slow_from_ms,
    } = body.into_inner();
    if slow_from_ms.is_some_and(|millis| !(0.001..=86_400_000.0).contains(&millis)) {
        return Err(bad(
            "slow_from_ms must be above 0 and at most a day; null leaves it to the endpoint's history",
        ));
    }
    #[expect(clippy::cast_possible_truncation, reason = "at most a day")]
    let micros = slow_from_ms.map(|millis| (millis * 1_000.0) as i64);
    let (database, named) = (
        state.database.clone(),
        format!("there is no endpoint {endpoint} of {service}"),
    );
    if state
        .on_main(async move { traffic::set_slow(&database, &service, &endpoint, micros).await })
        .await?
    {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(named))
}

/// Requests that are kept by themselves: failed, answered 4xx or 5xx, slow, and an even sample.
#[utoipa::path(operation_id = "list_requests", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = RequestPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/requests")]
pub(super) async fn list_requests(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<RequestPage>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let (failed, slow) = match asked.only.as_deref() {
        None | Some("") => (false, false),
        Some("failed") => (true, false),
        Some("slow") => (false, true),
        Some(other) => return Err(bad(format!("only is `{other}`; it may be failed or slow"))),
    };
    let before = asked.cursor.as_deref().map(position).transpose()?;
    let wanted = Wanted {
        endpoint: asked.endpoint,
        text: asked.text.filter(|text| !text.is_empty()),
        status: asked.status,
        failed,
        slow,
        before,
    };
    let database = state.database.clone();
    let wide = i64::try_from(limit).unwrap_or(i64::MAX).saturating_add(1);
    let rows = state
        .on_main(async move { traffic::requests(&database, &scope, &wanted, wide).await })
        .await?;
    // The slowest stand first by their duration: a list without further pages.
    let next = rows
        .get(limit.saturating_sub(1))
        .filter(|_| rows.len() > limit && !slow)
        .map(|row| cursor(&row.id().to_string()));
    let items = rows
        .into_iter()
        .take(limit)
        .map(|row| RequestItem {
            at: row.at(),
            kept_because: kept_because(row.marks()),
            trace_id: row.trace_id.simple().to_string(),
            span_id: format!("{:016x}", row.span_id),
            service: row.service,
            environment: row.environment,
            version: row.version,
            endpoint: row.endpoint,
            status: row.status,
            failed: row.failed,
            duration_ms: millis(row.duration_us * 1_000),
            request: row
                .attributes
                .as_ref()
                .map(super::occurrences::request)
                .unwrap_or_default(),
            attributes: row.attributes,
        })
        .collect();
    Ok(web::Json(RequestPage { items, next }))
}

fn position(text: &str) -> Result<OccurrenceId, ApiError> {
    let text = read_cursor(text)?;
    let number = u128::from_str_radix(&text, 16).ok();
    number
        .map(|number| OccurrenceId(number.to_be_bytes()))
        .ok_or_else(|| bad("the cursor is none of this list; take it from `next` of the page before"))
}

/// What made the slowest requests slow, worst first.
#[utoipa::path(operation_id = "list_slow", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = SlowList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/slow")]
pub(super) async fn list_slow(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<SlowList>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let (scope, limit) = (window(&asked)?, limit(asked.limit)?);
    let wanted = Wanted {
        endpoint: asked.endpoint,
        slow: true,
        ..Wanted::default()
    };
    let database = state.database.clone();
    let (requests, mut chunks) = state
        .on_main(async move {
            let mut requests = traffic::requests(&database, &scope, &wanted, LOOKED_AT).await?;
            let ids: Vec<_> = requests.iter().map(|request| request.trace_id).collect();
            let (chunks, is_cut) = traces::read_all(&database, &ids).await?;
            if is_cut {
                // What there was no room for was not looked at, and says nothing.
                requests.retain(|request| chunks.get(&request.trace_id).is_some_and(|chunks| !chunks.is_empty()));
            }
            Ok((requests, chunks))
        })
        .await?;
    // A hundred traces are put together: on a thread of its own, so that no other answer waits.
    let slow = web::block(move || slow::reasons(requests, limit, |id| chunks.remove(id).unwrap_or_default()));
    slow.await.map(web::Json).map_err(|_blocked| ApiError::Away)
}

/// Steps of the course of an endpoint at most.
const STEPS: usize = 96;

/// Requests and failures of one endpoint over time, by version.
#[utoipa::path(operation_id = "show_course", tag = "traffic", params(TrafficQuery), responses(
    (status = 200, body = Course),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/endpoints/course")]
pub(super) async fn show_course(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<Course>, ApiError> {
    let asked: TrafficQuery = parameters(request.query_string())?;
    let scope = window(&asked)?;
    let Some(endpoint) = asked.endpoint.filter(|_| asked.service.is_some()) else {
        return Err(bad("name the service and the endpoint whose course is asked for"));
    };
    let cut = Steps::cut(scope.from, scope.to, STEPS);
    let minutes = i32::try_from(cut.step.num_minutes()).unwrap_or(i32::MAX);
    let scope = Scope {
        from: cut.from,
        to: cut.to(),
        ..scope
    };
    let database = state.database.clone();
    let steps = state
        .on_main(async move { traffic::course(&database, &scope, &endpoint, minutes).await })
        .await?;
    let steps = steps
        .into_iter()
        .map(|step| CourseStep {
            at: step.at,
            version: step.version,
            requests: step.requests,
            failed: step.failed,
        })
        .collect();
    Ok(web::Json(Course {
        from: cut.from,
        step_ms: cut.step.num_milliseconds(),
        count: cut.count,
        steps,
    }))
}
