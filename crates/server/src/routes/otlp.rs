//! OTLP/HTTP, to the letter of its specification (opentelemetry-proto 1.9, "OTLP/HTTP Response").

use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, RETRY_AFTER};
use actix_web::{HttpRequest, HttpResponse, web};
use outcrop_otlp::{DecodeError, Encoding, Signal, StatusCode as RpcCode, export_answer, status_body};
use outcrop_store::intake::{Outcome, Submission};

use crate::access::{bearer, digest_of};
use crate::intake::{BodyError, KeyCheck, inflate, read, submission};
use crate::state::{State, now};

pub(crate) async fn traces(request: HttpRequest, payload: web::Payload, state: web::Data<State>) -> HttpResponse {
    take(Signal::Traces, &request, payload, &state).await
}

pub(crate) async fn logs(request: HttpRequest, payload: web::Payload, state: web::Data<State>) -> HttpResponse {
    take(Signal::Logs, &request, payload, &state).await
}

/// Why a request is not taken.
#[derive(Debug, thiserror::Error)]
enum Refusal {
    #[error("send a sender key: Authorization: Bearer …; `outcrop admin key create NAME` makes one")]
    NoKey,
    #[error("this sender key is not known, or was revoked")]
    UnknownKey,
    #[error("Content-Type must be application/x-protobuf or application/json")]
    ContentType,
    #[error("Content-Encoding `{0}` is not known; send gzip or none")]
    ContentEncoding(String),
    #[error(transparent)]
    Body(#[from] BodyError),
    #[error(transparent)]
    Decode(#[from] DecodeError),
    #[error("{0}")]
    Unusable(String),
    #[error("not stored: the database does not answer; send it again")]
    Away,
}

/// What the sender is told to wait before it tries again, in seconds.
const RETRY_AFTER_SECS: &str = "2";

impl Refusal {
    const fn codes(&self) -> (StatusCode, RpcCode) {
        match self {
            Self::NoKey | Self::UnknownKey => (StatusCode::UNAUTHORIZED, RpcCode::Unauthenticated),
            Self::ContentType | Self::ContentEncoding(_) => (StatusCode::UNSUPPORTED_MEDIA_TYPE, RpcCode::InvalidArgument),
            Self::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_)) => {
                (StatusCode::PAYLOAD_TOO_LARGE, RpcCode::ResourceExhausted)
            }
            Self::Body(BodyError::OverBudget) | Self::Away => (StatusCode::SERVICE_UNAVAILABLE, RpcCode::Unavailable),
            Self::Body(_) | Self::Decode(_) | Self::Unusable(_) => (StatusCode::BAD_REQUEST, RpcCode::InvalidArgument),
        }
    }

    /// The answer, in the request's encoding; JSON where the request has none that is known.
    fn answer(&self, encoding: Option<Encoding>) -> HttpResponse {
        let encoding = encoding.unwrap_or(Encoding::Json);
        let (status, code) = self.codes();
        let mut answer = HttpResponse::build(status);
        answer.content_type(encoding.content_type());
        if status == StatusCode::SERVICE_UNAVAILABLE {
            answer.insert_header((RETRY_AFTER, RETRY_AFTER_SECS));
        }
        answer.body(status_body(encoding, code, &self.to_string()))
    }
}

async fn take(signal: Signal, request: &HttpRequest, payload: web::Payload, state: &State) -> HttpResponse {
    let header = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let encoding = header(CONTENT_TYPE).and_then(Encoding::of_content_type);
    match store(signal, encoding, request, payload, state).await {
        Ok((encoding, refused)) => HttpResponse::Ok().content_type(encoding.content_type()).body(export_answer(signal, encoding, &refused)),
        Err(refusal) => {
            tracing::debug!(%refusal, signal = signal.name(), "a request was refused");
            refusal.answer(encoding)
        }
    }
}

async fn store(
    signal: Signal,
    encoding: Option<Encoding>,
    request: &HttpRequest,
    mut payload: web::Payload,
    state: &State,
) -> Result<(Encoding, outcrop_core::failure::Refused), Refusal> {
    let header = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let digest = bearer(request.headers().get(AUTHORIZATION)).map(digest_of).ok_or(Refusal::NoKey)?;
    let (keys, database) = (state.intake.keys.clone(), state.database.clone());
    let key = state.on_main(async move { keys.check(&database, digest).await }).await.map_err(|error| away(&error))?;
    let KeyCheck::Known { digest, services } = key else { return Err(Refusal::UnknownKey) };
    let encoding = encoding.ok_or(Refusal::ContentType)?;
    let is_gzip = match header(CONTENT_ENCODING).map(str::trim) {
        None | Some("" | "identity") => false,
        Some(coding) if coding.eq_ignore_ascii_case("gzip") => true,
        Some(other) => return Err(Refusal::ContentEncoding(outcrop_core::text::prefix(other, 40).to_owned())),
    };
    let announced = header(CONTENT_LENGTH).and_then(|length| length.parse().ok());
    let settings = &state.settings;
    let (body, mut held) = read(&mut payload, announced, settings.max_body_bytes, &state.intake.budget, digest).await?;
    let max_inflated = settings.max_inflated_bytes;
    let received = now();
    let rules = state.intake.rules();
    let core = state.intake.cores.acquire().await.ok().ok_or(Refusal::Away)?;
    let work = move || -> Result<(Submission, usize), Refusal> {
        if is_gzip {
            let inflated = inflate(&body, max_inflated)?;
            Ok((submission(signal, encoding, &inflated, &services, received, &rules)?, inflated.len()))
        } else {
            Ok((submission(signal, encoding, &body, &services, received, &rules)?, 0))
        }
    };
    let (submission, inflated) =
        tokio::task::spawn_blocking(work).await.ok().ok_or_else(|| Refusal::Unusable("the body cannot be read".to_owned()))??;
    drop(core);
    if inflated > 0 {
        held.join(state.intake.budget.take(digest, inflated).await?);
    }
    match state.intake.store(submission, held).await {
        Some(Ok(Outcome::Stored(refused))) => Ok((encoding, refused)),
        Some(Ok(Outcome::Unusable(reason))) => Err(Refusal::Unusable(reason)),
        Some(Err(_)) | None => Err(Refusal::Away),
    }
}

fn away(error: &outcrop_store::StoreError) -> Refusal {
    tracing::warn!(%error, "a sender key could not be checked");
    Refusal::Away
}
