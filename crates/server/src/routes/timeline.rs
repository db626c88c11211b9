//! Counts over time.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{Layer, Problem, Timeline, TimelineQuery};
use outcrop_core::Reference;
use outcrop_store::traffic::timeline;
use outcrop_store::traffic::timeline::{Point, Steps};
use outcrop_store::{Scope, StoreError, asking, errors};

use super::query::{error_of, scope};
use super::viewer::Viewer;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Steps of a chart where no number is asked for, and at most.
const STEPS: (u32, u32) = (60, 400);

/// An error over time: occurrences and the requests of its service, in layers, one per version.
#[utoipa::path(operation_id = "error_timeline", tag = "errors", params(("ref" = String, Path, description = "The \
    error's reference"), TimelineQuery), responses(
    (status = 200, body = Timeline),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/timeline")]
pub(super) async fn of_error(
    _viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: web::Data<State>,
) -> Result<web::Json<Timeline>, ApiError> {
    let query: TimelineQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let scope = scope(&query.window(), Utc::now())?;
    let most = query.steps.unwrap_or(STEPS.0);
    if !(2..=STEPS.1).contains(&most) {
        return Err(bad(format!("steps is {most}; it must be 2 to {}", STEPS.1)));
    }
    let steps = Steps::cut(scope.from, scope.to, most as usize);
    let database = state.database.clone();
    let made = state
        .on_main(async move {
            let Some(summary) = asking::one_error(&database, reference, &scope).await? else {
                return Ok(None);
            };
            let service = std::slice::from_ref(&summary.service);
            let (occurrences, requests, order) = futures_util::try_join!(
                timeline::occurrences(&database, std::slice::from_ref(&reference), &scope, steps),
                timeline::requests(&database, service, &scope, steps),
                timeline::first_seen(&database, service, &scope),
            )?;
            let layers = order
                .into_iter()
                .map(|(_, version, first_seen)| Layer {
                    occurrences: series(occurrences.iter().map(|(_, point)| point), &version, steps),
                    requests: series(requests.iter().map(|(_, point)| point), &version, steps),
                    version,
                    first_seen,
                })
                .filter(|layer| layer.occurrences.iter().chain(&layer.requests).any(|n| *n > 0))
                .collect();
            Ok::<_, StoreError>(Some(Timeline {
                from: steps.from,
                to: steps.to(),
                step_ms: steps.step.num_milliseconds(),
                layers,
            }))
        })
        .await?;
    made.map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}

fn series<'a>(points: impl Iterator<Item = &'a Point>, version: &str, steps: Steps) -> Vec<i64> {
    let mut series = vec![0; steps.count];
    for point in points.filter(|point| point.version == version) {
        if let Some(slot) = usize::try_from(point.at).ok().and_then(|at| series.get_mut(at)) {
            *slot += point.n;
        }
    }
    series
}

/// Small strips for a list: per error, occurrences by version and the requests of its service.
pub(super) async fn strips(
    database: &outcrop_store::Database,
    summaries: &[&errors::Summary],
    scope: &Scope,
    most: usize,
) -> Result<Vec<Timeline>, StoreError> {
    let steps = Steps::cut_coarsely(scope.from, scope.to, most);
    let references: Vec<Reference> = summaries.iter().map(|summary| summary.reference).collect();
    let mut services: Vec<String> = summaries.iter().map(|summary| summary.service.clone()).collect();
    services.sort();
    services.dedup();
    let (occurrences, requests, order) = futures_util::try_join!(
        timeline::occurrences(database, &references, scope, steps),
        timeline::requests(database, &services, scope, steps),
        timeline::first_seen(database, &services, scope),
    )?;
    Ok(summaries
        .iter()
        .map(|summary| Timeline {
            from: steps.from,
            to: steps.to(),
            step_ms: steps.step.num_milliseconds(),
            layers: order
                .iter()
                .filter(|(service, _, _)| *service == summary.service)
                .map(|(_, version, first_seen)| Layer {
                    version: version.clone(),
                    first_seen: *first_seen,
                    occurrences: series(
                        occurrences
                            .iter()
                            .filter(|(of, _)| *of == summary.reference)
                            .map(|(_, point)| point),
                        version,
                        steps,
                    ),
                    requests: series(
                        requests
                            .iter()
                            .filter(|(of, _)| *of == summary.service)
                            .map(|(_, point)| point),
                        version,
                        steps,
                    ),
                })
                .filter(|layer| layer.occurrences.iter().chain(&layer.requests).any(|n| *n > 0))
                .collect(),
        })
        .collect())
}
