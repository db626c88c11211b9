//! Answers where nothing is.

use actix_web::HttpResponse;

use crate::api_error::problem;

pub(crate) async fn nothing_here() -> HttpResponse {
    problem(
        actix_web::http::StatusCode::NOT_FOUND,
        "not_found",
        "nothing is here; telemetry goes to /v1/traces, /v1/logs and /v1/metrics, the API is described at \
         /api/openapi.json",
    )
}
