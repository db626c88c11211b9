//! Answers to programs, in the form of OAuth.

use actix_web::HttpResponse;
use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, RETRY_AFTER};
use outcrop_store::StoreError;
use serde_json::{Value, json};

use crate::api_error::ApiError;

/// An answer that no cache keeps.
pub(super) fn answer(status: StatusCode, said: &Value) -> HttpResponse {
    HttpResponse::build(status)
        .insert_header((CACHE_CONTROL, "no-store"))
        .json(said)
}

/// A refusal in the form of RFC 6749, 5.2.
pub(super) fn refused(status: StatusCode, error: &str, why: &str) -> HttpResponse {
    answer(status, &json!({"error": error, "error_description": why}))
}

/// What is answered where the database is not there.
pub(super) fn away(error: StoreError) -> HttpResponse {
    let error = ApiError::from(error);
    let mut said = refused(
        StatusCode::SERVICE_UNAVAILABLE,
        "temporarily_unavailable",
        &error.to_string(),
    );
    said.headers_mut().insert(RETRY_AFTER, 2.into());
    said
}
