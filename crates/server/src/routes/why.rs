//! Why an error is there: the evidence in order, in plain sentences.

use actix_web::{get, web};
use chrono::Utc;
use outcrop_api::{Problem, Why};

use super::query::error_of;
use super::viewer::{Seen, Viewer};
use crate::answers::why::why;
use crate::api_error::ApiError;

/// Why an error is there.
#[utoipa::path(operation_id = "explain_why", tag = "errors", params(("ref" = String, Path, description = "The error's \
    reference")), responses(
    (status = 200, body = Why),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/why")]
pub(super) async fn explain_why(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<Why>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    let why = state
        .on_main(async move { why(&database, reference, Utc::now()).await })
        .await?;
    why.map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}
