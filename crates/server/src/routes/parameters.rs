//! Query parameters, read.

use crate::routes::ApiError;

/// Query parameters, with actix's error told in the API's form.
pub(super) fn parameters<T: serde::de::DeserializeOwned>(query: &str) -> Result<T, ApiError> {
    actix_web::web::Query::from_query(query)
        .map(actix_web::web::Query::into_inner)
        .map_err(|error| bad(format!("query parameters: {error}")))
}

pub(super) fn bad(message: impl Into<String>) -> ApiError {
    ApiError::BadRequest(message.into())
}
