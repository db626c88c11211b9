//! What callers of the API send: bodies, and what no request may hold.

use std::future::Future;
use std::pin::Pin;

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::header::{CACHE_CONTROL, HeaderName, HeaderValue};
use actix_web::middleware::Next;
use actix_web::{FromRequest, HttpMessage, HttpRequest, ResponseError, web};
use percent_encoding::percent_decode_str;
use serde::de::DeserializeOwned;

use super::document::{Methods, not_allowed};
use super::viewer::authenticate;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// A JSON body, without NUL in any text: PostgreSQL stores none.
pub(super) struct Body<T>(T);

impl<T> Body<T> {
    pub(super) fn into_inner(self) -> T {
        self.0
    }
}

impl<T> std::ops::Deref for Body<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: DeserializeOwned + 'static> FromRequest for Body<T> {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let is_json = request.mime_type().is_ok_and(|kind| {
            kind.is_some_and(|kind| kind.subtype() == mime::JSON || kind.suffix() == Some(mime::JSON))
        });
        let bytes = web::Bytes::from_request(request, payload);
        Box::pin(async move {
            if !is_json {
                return Err(ApiError::NotJson);
            }
            let bytes = bytes
                .await
                .map_err(|error| match error.as_response_error().status_code() {
                    actix_web::http::StatusCode::PAYLOAD_TOO_LARGE => ApiError::TooLarge,
                    _ => bad(format!("the body cannot be read: {error}")),
                })?;
            if holds_nul(&bytes) {
                return Err(bad(
                    "the body holds the character NUL (\\u0000), which no text here may hold",
                ));
            }
            serde_json::from_slice(&bytes)
                .map(Self)
                .map_err(|error| bad(format!("the body: {error}")))
        })
    }
}

/// Whether a JSON text holds NUL: an escape `\u0000` whose backslash is not itself escaped, or the byte.
pub(super) fn holds_nul(json: &[u8]) -> bool {
    let mut rest = json;
    while let Some(at) = rest.iter().position(|byte| *byte == b'\\' || *byte == 0) {
        if rest[at] == 0 || rest[at..].starts_with(b"\\u0000") {
            return true;
        }
        // What stands behind a backslash is escaped: the next backslash is a text's own.
        rest = rest.get(at + 2..).unwrap_or_default();
    }
    false
}

/// What may be asked without a member's token or session: signing in and out, accepting an
/// invitation and following a notice by its link, and reports, which come by a sender key.
const OPEN: [(&str, &str); 7] = [
    ("POST", "/api/v1/session"),
    ("DELETE", "/api/v1/session"),
    ("POST", "/api/v1/report"),
    ("POST", "/api/v1/invitation"),
    ("POST", "/api/v1/invitation/accept"),
    ("POST", "/api/v1/notice-link"),
    ("POST", "/api/v1/notice-link/act"),
];

/// Lets in who is known, before a body is read. Refuses addresses that hold NUL and methods that an
/// address does not take, and keeps answers out of caches: they are one member's.
pub(super) async fn guard<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let uri = request.uri();
    if percent_decode_str(uri.path())
        .chain(percent_decode_str(uri.query().unwrap_or_default()))
        .any(|byte| byte == 0)
    {
        let refused = bad("the address holds the character NUL (%00), which no text here may hold").error_response();
        return Ok(request.into_response(refused).map_into_right_body());
    }
    // Before the routes: an address with a text of its own would be taken for that of its neighbour with a number.
    let methods = request.app_data::<web::Data<Methods>>().cloned();
    if let Some(taken) = methods
        .as_ref()
        .and_then(|methods| methods.at(request.path()))
        .filter(|taken| !taken.contains(&request.method().as_str()))
    {
        let refused = not_allowed(request.method(), taken);
        return Ok(request.into_response(refused).map_into_right_body());
    }
    if !OPEN
        .iter()
        .any(|(method, path)| request.method().as_str() == *method && request.path() == *path)
    {
        let refused = authenticate(request.request()).await.err();
        if let Some(refused) = refused {
            return Ok(request.into_response(refused.error_response()).map_into_right_body());
        }
    }
    let mut answer = next.call(request).await?.map_into_left_body();
    answer
        .headers_mut()
        .insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    let behind = super::viewer::behind(answer.request());
    if let Some(behind) = behind.and_then(|behind| HeaderValue::try_from(behind).ok()) {
        answer
            .headers_mut()
            .insert(HeaderName::from_static(outcrop_api::BEHIND), behind);
    }
    Ok(answer)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case::an_escape(r#"{"a": "x\u0000"}"#, true)]
    #[case::in_a_name(r#"{"\u0000": 1}"#, true)]
    #[case::a_byte("{\"a\": \"\0\"}", true)]
    #[case::after_an_escaped_backslash(r#"{"a": "\\\u0000"}"#, true)]
    #[case::an_escaped_backslash_itself(r#"{"a": "\\u0000"}"#, false)]
    #[case::another_escape(r#"{"a": "\u0001\n"}"#, false)]
    #[case::a_backslash_at_the_end(r#"{"a": "\"#, false)]
    fn nul_is_found_in(#[case] json: &str, #[case] expected: bool) {
        assert_eq!(super::holds_nul(json.as_bytes()), expected);
    }
}
