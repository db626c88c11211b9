//! Change markers: what changed and is no deploy, and what happened after.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{DeployQuery, ErrorQuery, FlagItem, MarkerCheck, MarkerItem, MarkerList, NewMarker, Problem, Sums};
use outcrop_store::deploys::markers;
use outcrop_store::deploys::markers::{Asked, Facts, Marker};
use outcrop_store::{Database, StoreError};

use super::input::Body;
use super::query::{limit, window as window_of};
use super::viewer::{Pipeline, Seen, Viewer};
use crate::answers::flag_items::flag_item;
use crate::answers::sentences::ratio;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// What may be marked.
const KINDS: [&str; 4] = ["database", "configuration", "provisioning", "other"];
/// How long after a change a surge without a deploy is held against it.
const CHARGED: TimeDelta = TimeDelta::hours(2);
/// How long before a change its traffic is compared with, at least.
const LEAST_BEFORE: TimeDelta = TimeDelta::minutes(30);
/// Minutes before anything is called clear.
const LEAST_MINUTES: i64 = 5;

/// Marks a change that is no deploy.
#[utoipa::path(operation_id = "mark_change", tag = "deploys", request_body = NewMarker, responses(
    (status = 200, body = MarkerItem),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[post("/markers")]
pub(super) async fn mark_change(
    Pipeline(viewer): Pipeline,
    body: Body<NewMarker>,
    state: Seen,
) -> Result<web::Json<MarkerItem>, ApiError> {
    viewer.must_engineer()?;
    let asked = body.into_inner();
    let now = Utc::now();
    let at = asked.at.unwrap_or(now);
    let title = asked.title.trim().to_owned();
    if title.is_empty() || title.len() > 200 || title.contains('\0') {
        return Err(bad("title says in 1 to 200 bytes what changed"));
    }
    if !KINDS.contains(&asked.kind.as_str()) {
        return Err(bad(format!(
            "kind is `{}`; it is one of {}",
            asked.kind,
            KINDS.join(", ")
        )));
    }
    if at > now + TimeDelta::minutes(5)
        || at < now - TimeDelta::days(30)
        || asked.ended_at.is_some_and(|ended| ended < at)
    {
        return Err(bad("at must lie within the last 30 days, ended_at not before it"));
    }
    if asked.link.len() > 2_000
        || !(asked.link.is_empty() || asked.link.starts_with("https://") || asked.link.starts_with("http://"))
    {
        return Err(bad("link is an http or https address of at most 2,000 bytes"));
    }
    let named = |name: Option<String>| name.filter(|name| !name.is_empty());
    let marker = markers::NewMarker {
        at,
        ended_at: asked.ended_at,
        kind: asked.kind,
        title,
        service: named(asked.service),
        environment: named(asked.environment),
        link: asked.link,
        by: viewer.email,
    };
    let database = state.database.clone();
    let made = state
        .on_main(async move {
            let Some(id) = markers::mark(&database, &marker).await? else {
                return Ok(None);
            };
            match markers::one(&database, id).await? {
                Some(marker) => Ok(items(&database, vec![marker], now).await?.pop()),
                None => Ok(None),
            }
        })
        .await?;
    made.map(web::Json).ok_or_else(|| {
        bad("no service or environment of that name ever sent anything; leave it out to mark a change for all")
    })
}

/// Marked changes, each with what happened after it.
#[utoipa::path(operation_id = "list_markers", tag = "deploys", params(DeployQuery), responses(
    (status = 200, body = MarkerList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/markers")]
pub(super) async fn list_markers(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<MarkerList>, ApiError> {
    let asked: DeployQuery = parameters(request.query_string())?;
    let limit = limit(asked.limit)?;
    let since = asked.since.or_else(|| asked.from.is_none().then(|| "7d".to_owned()));
    let now = Utc::now();
    let window = window_of(
        &ErrorQuery {
            since,
            from: asked.from,
            to: asked.to,
            ..ErrorQuery::default()
        },
        now,
    )?;
    let database = state.database.clone();
    let items = state
        .on_main(async move {
            let place = (asked.service.as_deref(), asked.environment.as_deref());
            let rows = markers::list(
                &database,
                place,
                (window.from, window.to),
                i64::try_from(limit).unwrap_or(i64::MAX),
            )
            .await?;
            items(&database, rows, now).await
        })
        .await?;
    Ok(web::Json(MarkerList { items }))
}

/// Takes a marker away.
#[utoipa::path(operation_id = "remove_marker", tag = "deploys", params(("id" = i32, Path, description = "Its \
    number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/markers/{id}")]
pub(super) async fn remove_marker(viewer: Viewer, path: web::Path<i32>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    if state
        .on_main(async move { markers::remove(&database, id).await })
        .await?
    {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("there is no marker {id}")))
}

/// Markers with what happened after each, in their order.
pub(super) async fn items(
    database: &Database,
    markers: Vec<Marker>,
    now: DateTime<Utc>,
) -> Result<Vec<MarkerItem>, StoreError> {
    let asked: Vec<Asked<'_>> = markers.iter().map(|marker| asked(marker, now)).collect();
    let facts = markers::facts(database, &asked).await?;
    let checks: Vec<MarkerCheck> = asked
        .iter()
        .zip(&facts)
        .map(|(asked, facts)| check(asked, facts))
        .collect();
    Ok(markers
        .into_iter()
        .zip(checks)
        .map(|(marker, check)| item(marker, check))
        .collect())
}

fn item(marker: Marker, check: MarkerCheck) -> MarkerItem {
    MarkerItem {
        id: marker.id,
        title: marker.title,
        kind: marker.kind,
        at: marker.at,
        ended_at: marker.ended_at,
        service: marker.service,
        environment: marker.environment,
        link: marker.link,
        by: marker.by,
        check,
    }
}

fn asked(marker: &Marker, now: DateTime<Utc>) -> Asked<'_> {
    let until = now.min(marker.at + CHARGED);
    Asked {
        marker,
        before_from: marker.at - (until - marker.at).max(LEAST_BEFORE),
        until,
    }
}

fn check(
    Asked {
        marker,
        before_from,
        until,
    }: &Asked<'_>,
    Facts { flags, before, after }: &Facts,
) -> MarkerCheck {
    let minutes = (*until - marker.at).num_minutes().max(0);
    let flags: Vec<FlagItem> = flags.iter().map(flag_item).collect();
    let share = |(requests, failed): &(i64, i64)| outcrop_core::attention::percent(ratio(*failed, *requests));
    let (outcome, sentence) = match flags.len() {
        0 if minutes < LEAST_MINUTES => (
            "too early",
            format!("{minutes} min since it; it takes at least {LEAST_MINUTES}."),
        ),
        0 => (
            "clear",
            format!(
                "No error surged after it; {} of {} requests failed ({} before).",
                share(after),
                after.0,
                share(before)
            ),
        ),
        1 => ("flagged", "1 error surged after it without a deploy.".to_owned()),
        n => ("flagged", format!("{n} errors surged after it without a deploy.")),
    };
    MarkerCheck {
        outcome: outcome.to_owned(),
        sentence,
        flags,
        before: Sums {
            requests: before.0,
            failed: before.1,
            minutes: (marker.at - *before_from).num_minutes(),
        },
        after: Sums {
            requests: after.0,
            failed: after.1,
            minutes,
        },
    }
}
