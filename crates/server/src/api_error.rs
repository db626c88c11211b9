//! One error type for the API, in the form of RFC 9457.

use std::borrow::Cow;

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, RETRY_AFTER};
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
            Self::BadRequest(_) | Self::Predicate { .. } => StatusCode::BAD_REQUEST,
            Self::NoToken | Self::UnknownToken | Self::SenderKey(_) | Self::WrongPassword => StatusCode::UNAUTHORIZED,
            Self::TooMany(_) | Self::OverQuota(_) => StatusCode::TOO_MANY_REQUESTS,
            Self::NotJson => StatusCode::UNSUPPORTED_MEDIA_TYPE,
            Self::TooLarge => StatusCode::PAYLOAD_TOO_LARGE,
            Self::Forbidden(_) => StatusCode::FORBIDDEN,
            Self::Conflict(_) => StatusCode::CONFLICT,
            Self::NotFound(_) => StatusCode::NOT_FOUND,
            Self::Away | Self::NoRoom(_) => StatusCode::SERVICE_UNAVAILABLE,
            Self::Internal(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        let status = self.status_code();
        let place = if let Self::Predicate { at, length, .. } = self {
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
