//! Counts over time.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{Problem, Timeline, TimelineQuery};

use super::query::{error_of, scope};
use super::viewer::{Seen, Viewer};
use crate::answers::timelines;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

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
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<Timeline>, ApiError> {
    let query: TimelineQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let scope = scope(&query.window(), &viewer, Utc::now())?;
    let most = query.steps.unwrap_or(STEPS.0);
    if !(2..=STEPS.1).contains(&most) {
        return Err(bad(format!("steps is {most}; it must be 2 to {}", STEPS.1)));
    }
    let database = state.database.clone();
    let made = state
        .on_main(async move { timelines::of_error(&database, reference, &scope, most as usize).await })
        .await?;
    made.map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}
