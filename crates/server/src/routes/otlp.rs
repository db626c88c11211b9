//! OTLP/HTTP, to the letter of its specification (opentelemetry-proto 1.9, "OTLP/HTTP Response").

use std::time::Instant;

use actix_web::http::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, RETRY_AFTER};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse, web};
use outcrop_otlp::{Encoding, Signal, export_answer, status_body};

use crate::access::bearer;
use crate::intake::{BodyError, Coding, read};
use crate::receive;
use crate::receive::{Came, Refusal, Sender};
use crate::routes::origin::origin;
use crate::state::State;

pub(crate) async fn traces(request: HttpRequest, payload: web::Payload, state: web::Data<State>) -> HttpResponse {
    take(Signal::Traces, &request, payload, &state).await
}

pub(crate) async fn logs(request: HttpRequest, payload: web::Payload, state: web::Data<State>) -> HttpResponse {
    take(Signal::Logs, &request, payload, &state).await
}

pub(crate) async fn metrics(request: HttpRequest, payload: web::Payload, state: web::Data<State>) -> HttpResponse {
    take(Signal::Metrics, &request, payload, &state).await
}

async fn take(signal: Signal, request: &HttpRequest, payload: web::Payload, state: &State) -> HttpResponse {
    let header = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let encoding = header(CONTENT_TYPE).and_then(Encoding::of_content_type);
    let mut came = Came {
        signal: signal.name(),
        is_grpc: false,
        bytes: 0,
        since: Instant::now(),
    };
    let sender = receive::authenticate(state, bearer(request.headers().get(AUTHORIZATION))).await;
    let of_key = sender.as_ref().ok().cloned();
    let stored = match sender {
        Ok(sender) => store((signal, encoding), (request, payload), sender, &mut came.bytes, state).await,
        Err(refusal) => Err(refusal),
    };
    receive::note(state, &origin(request, state), of_key.as_ref(), &came, &stored);
    match stored {
        Ok((encoding, refused)) => HttpResponse::Ok()
            .content_type(encoding.content_type())
            .body(export_answer(signal, encoding, &refused)),
        Err(refusal) => {
            tracing::debug!(%refusal, signal = signal.name(), "a request was refused");
            answer(&refusal, encoding)
        }
    }
}

async fn store(
    (signal, encoding): (Signal, Option<Encoding>),
    (request, mut payload): (&HttpRequest, web::Payload),
    sender: Sender,
    bytes: &mut usize,
    state: &State,
) -> Result<(Encoding, outcrop_core::failure::Refused), Refusal> {
    let header = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let encoding = encoding.ok_or(Refusal::ContentType)?;
    let coded = header(CONTENT_ENCODING);
    let coding = Coding::of_header(coded).ok_or_else(|| {
        Refusal::ContentEncoding(outcrop_core::text::prefix(coded.unwrap_or_default(), 40).to_owned())
    })?;
    let announced = header(CONTENT_LENGTH).and_then(|length| length.parse().ok());
    let (body, held) = read(
        &mut payload,
        announced,
        state.settings.max_body_bytes,
        &state.intake.budget,
        sender.digest,
    )
    .await?;
    *bytes = body.len();
    let refused = receive::take(
        receive::Body {
            signal,
            encoding,
            coding,
            bytes: body,
            held,
        },
        sender,
        state,
    )
    .await?;
    Ok((encoding, refused))
}

/// Telemetry sent to a path where none is taken: noted, since the sender's own log is the last place people look.
pub(super) async fn elsewhere(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    if request.method() == Method::POST {
        let reason = "nothing is taken at this path: OTLP goes to /v1/traces, /v1/logs and /v1/metrics";
        state
            .intake
            .notes
            .refused(None, &origin(&request, &state), reason, chrono::Utc::now());
    }
    super::nothing_here().await
}

/// The answer, in the request's encoding; JSON where the request has none that is known.
fn answer(refusal: &Refusal, encoding: Option<Encoding>) -> HttpResponse {
    let encoding = encoding.unwrap_or(Encoding::Json);
    let status = match refusal {
        Refusal::NoKey | Refusal::UnknownKey => StatusCode::UNAUTHORIZED,
        Refusal::ContentType | Refusal::ContentEncoding(_) => StatusCode::UNSUPPORTED_MEDIA_TYPE,
        Refusal::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_) | BodyError::TooHeavy) => {
            StatusCode::PAYLOAD_TOO_LARGE
        }
        Refusal::Quota(_) => StatusCode::TOO_MANY_REQUESTS,
        refusal if refusal.retry_after().is_some() => StatusCode::SERVICE_UNAVAILABLE,
        _ => StatusCode::BAD_REQUEST,
    };
    let mut answer = HttpResponse::build(status);
    answer.content_type(encoding.content_type());
    if let Some(seconds) = refusal.retry_after() {
        answer.insert_header((RETRY_AFTER, seconds.to_string()));
    }
    answer.body(status_body(encoding, refusal.rpc_code(), &refusal.to_string()))
}
