//! One error type for the API, in the form of RFC 9457.

use std::borrow::Cow;

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use outcrop_api::Problem;
use outcrop_store::StoreError;

/// Why a call of the API failed. The internal cause goes to the log, never to the caller.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApiError {
    #[error("{0}")]
    BadRequest(String),
    #[error("{message}")]
    Predicate { message: String, at: u32, length: u32 },
    #[error("{message}")]
    Question { message: String, at: u32, length: u32 },
    #[error("sign in, or send a token: Authorization: Bearer …; `outcrop admin token create EMAIL` makes one")]
    NoToken,
    #[error("this token is not known, or was revoked; or the session has ended")]
    UnknownToken,
    #[error("{0}")]
    SenderKey(String),
    #[error("address or password is wrong")]
    WrongPassword,
    #[error("too many failed attempts; try again in {0} s")]
    TooMany(i64),
    #[error("this key has sent what it may send a minute; there is room again in {0} s")]
    OverQuota(u64),
    #[error("the body must be JSON: send it with Content-Type: application/json")]
    NotJson,
    #[error("the body is larger than what is taken here")]
    TooLarge,
    #[error("{0}")]
    Forbidden(String),
    #[error("{0}")]
    Conflict(String),
    #[error("{0}")]
    NotFound(String),
    /// Another program did not do its part.
    #[error("{0}")]
    Gateway(String),
    #[error("{0}")]
    NoRoom(String),
    #[error("the database does not answer; try again shortly")]
    Away,
    #[error("something failed here; the log of the service has it under {0}")]
    Internal(String),
}

impl ApiError {
    fn code(&self) -> &'static str {
        match self {
            Self::BadRequest(_) => "bad_request",
            Self::Predicate { .. } => "bad_predicate",
            Self::Question { .. } => "bad_question",
            Self::NoToken => "no_token",
            Self::UnknownToken => "unknown_token",
            Self::SenderKey(_) => "no_sender_key",
            Self::WrongPassword => "wrong_password",
            Self::TooMany(_) => "too_many_attempts",
            Self::OverQuota(_) => "over_quota",
            Self::NotJson => "not_json",
            Self::TooLarge => "too_large",
            Self::Forbidden(_) => "forbidden",
            Self::Conflict(_) => "conflict",
            Self::NotFound(_) => "not_found",
            Self::Gateway(_) => "gateway",
            Self::NoRoom(_) => "no_room",
            Self::Away => "database_away",
            Self::Internal(_) => "internal",
        }
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        if let StoreError::Ambiguous(why) = error {
            return Self::Conflict(why);
        }
        if error.is_temporary() {
            tracing::warn!(%error, "a call could not be answered");
            return Self::Away;
        }
        let mut id = [0; 6];
        if getrandom::fill(&mut id).is_err() {
            tracing::debug!("no random bytes; the request id is all zeros");
        }
        let id = outcrop_core::Digest::of_bytes(&id).to_string().split_off(20);
        tracing::error!(%error, request = %id, "a call failed");
        Self::Internal(id)
    }
}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::BadRequest(_) | Self::Predicate { .. } | Self::Question { .. } => StatusCode::BAD_REQUEST,
            Self::NoToken | Self::UnknownToken | Self::SenderKey(_) | Self::WrongPassword => StatusCode::UNAUTHORIZED,
            Self::TooMany(_) | Self::OverQuota(_) => StatusCode::TOO_MANY_REQUESTS,
            Self::NotJson => StatusCode::UNSUPPORTED_MEDIA_TYPE,
            Self::TooLarge => StatusCode::PAYLOAD_TOO_LARGE,
            Self::Forbidden(_) => StatusCode::FORBIDDEN,
            Self::Conflict(_) => StatusCode::CONFLICT,
            Self::NotFound(_) => StatusCode::NOT_FOUND,
            Self::Gateway(_) => StatusCode::BAD_GATEWAY,
            Self::Away | Self::NoRoom(_) => StatusCode::SERVICE_UNAVAILABLE,
            Self::Internal(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        let status = self.status_code();
        let place = if let Self::Predicate { at, length, .. } | Self::Question { at, length, .. } = self {
            Some((*at, *length))
        } else {
            None
        };
        let mut answer = placed_problem(status, self.code(), self.to_string(), place);
        let wait = match self {
            Self::Away => Some(2),
            Self::NoRoom(_) => Some(30),
            Self::TooMany(seconds) => Some(*seconds),
            Self::OverQuota(seconds) => i64::try_from(*seconds).ok(),
            _ => None,
        };
        if let Some(seconds) = wait {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from(seconds));
        }
        // RFC 9110, 11.6.1: whoever is refused for want of a token is told how to send one.
        if matches!(self, Self::NoToken | Self::UnknownToken) {
            let scheme = HeaderValue::from_static("Bearer realm=\"outcrop\"");
            answer.headers_mut().insert(WWW_AUTHENTICATE, scheme);
        }
        answer
    }
}

/// An answer in the form of RFC 9457.
pub(crate) fn problem(status: StatusCode, code: &'static str, detail: impl Into<Cow<'static, str>>) -> HttpResponse {
    placed_problem(status, code, detail, None)
}

/// The same, with the place in a text that was sent: where, and how many characters.
fn placed_problem(
    status: StatusCode,
    code: &'static str,
    detail: impl Into<Cow<'static, str>>,
    place: Option<(u32, u32)>,
) -> HttpResponse {
    let title = status.canonical_reason().unwrap_or("Error").to_owned();
    let (at, length) = (place.map(|(at, _)| at), place.map(|(_, length)| length));
    let body = Problem {
        title,
        status: status.as_u16(),
        code: code.to_owned(),
        detail: detail.into().into_owned(),
        at,
        length,
    };
    HttpResponse::build(status)
        .content_type("application/problem+json")
        .body(serde_json::to_vec(&body).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use actix_web::body::to_bytes;
    use rstest::rstest;
    use serde_json::{Value, json};

    use super::*;

    #[rstest]
    #[case::bad(ApiError::BadRequest("no".to_owned()), 400, "bad_request", None)]
    #[case::without_a_token(ApiError::NoToken, 401, "no_token", None)]
    #[case::with_a_wrong_one(ApiError::UnknownToken, 401, "unknown_token", None)]
    #[case::without_a_key(ApiError::SenderKey("no".to_owned()), 401, "no_sender_key", None)]
    #[case::wrong_password(ApiError::WrongPassword, 401, "wrong_password", None)]
    #[case::guessing(ApiError::TooMany(9), 429, "too_many_attempts", Some("9"))]
    #[case::quota(ApiError::OverQuota(7), 429, "over_quota", Some("7"))]
    #[case::no_json(ApiError::NotJson, 415, "not_json", None)]
    #[case::too_large(ApiError::TooLarge, 413, "too_large", None)]
    #[case::forbidden(ApiError::Forbidden("no".to_owned()), 403, "forbidden", None)]
    #[case::conflict(ApiError::Conflict("no".to_owned()), 409, "conflict", None)]
    #[case::missing(ApiError::NotFound("no".to_owned()), 404, "not_found", None)]
    #[case::gateway(ApiError::Gateway("no".to_owned()), 502, "gateway", None)]
    #[case::full(ApiError::NoRoom("no".to_owned()), 503, "no_room", Some("30"))]
    #[case::away(ApiError::Away, 503, "database_away", Some("2"))]
    #[case::ours(ApiError::Internal("7".to_owned()), 500, "internal", None)]
    #[tokio::test]
    async fn each_error_has_a_status_a_code_and_says_when_to_come_again(
        #[case] error: ApiError,
        #[case] status: u16,
        #[case] code: &str,
        #[case] retry_after: Option<&str>,
    ) {
        let answer = error.error_response();
        assert_eq!(answer.status().as_u16(), status);
        assert_eq!(
            answer.headers().get("content-type").unwrap(),
            "application/problem+json"
        );
        let wait = answer
            .headers()
            .get(RETRY_AFTER)
            .map(|wait| wait.to_str().unwrap().to_owned());
        assert_eq!(wait.as_deref(), retry_after);
        let body: Value = serde_json::from_slice(&to_bytes(answer.into_body()).await.unwrap()).unwrap();
        assert_eq!((&body["code"], &body["status"]), (&json!(code), &json!(status)));
        assert_eq!(body["detail"], error.to_string());
    }

    #[tokio::test]
    async fn a_mistake_in_a_predicate_is_told_with_its_place() {
        let error = ApiError::Predicate {
            message: "no field".to_owned(),
            at: 3,
            length: 5,
        };
        let body: Value = serde_json::from_slice(&to_bytes(error.error_response().into_body()).await.unwrap()).unwrap();
        assert_eq!(
            (&body["at"], &body["length"], &body["code"]),
            (&json!(3), &json!(5), &json!("bad_predicate"))
        );
    }

    #[test]
    fn what_the_database_said_never_reaches_the_caller() {
        let secret = "the password of the database";
        let unknown = ApiError::from(StoreError::Unusable(secret.to_owned()));
        assert!(
            matches!(unknown, ApiError::Internal(_)) && !unknown.to_string().contains(secret),
            "{unknown}"
        );
        let two = ApiError::from(StoreError::Ambiguous("fares stands in two namespaces".to_owned()));
        assert_eq!(two.to_string(), "fares stands in two namespaces");
    }
}
