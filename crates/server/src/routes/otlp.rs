//! OTLP/HTTP, to the letter of its specification (opentelemetry-proto 1.9, "OTLP/HTTP Response").

use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, RETRY_AFTER};
use actix_web::{HttpRequest, HttpResponse, web};
use outcrop_otlp::{Encoding, Signal, export_answer, status_body};

use crate::access::bearer;
use crate::intake::{self, BodyError, Coding, RETRY_AFTER_SECS, Refusal, read};
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
    match store(signal, encoding, request, payload, state).await {
        Ok((encoding, refused)) => HttpResponse::Ok().content_type(encoding.content_type()).body(export_answer(signal, encoding, &refused)),
        Err(refusal) => {
            tracing::debug!(%refusal, signal = signal.name(), "a request was refused");
            answer(&refusal, encoding)
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
    let sender = intake::authenticate(state, bearer(request.headers().get(AUTHORIZATION))).await?;
    let encoding = encoding.ok_or(Refusal::ContentType)?;
    let coded = header(CONTENT_ENCODING);
    let coding = Coding::of_header(coded)
        .ok_or_else(|| Refusal::ContentEncoding(outcrop_core::text::prefix(coded.unwrap_or_default(), 40).to_owned()))?;
    let announced = header(CONTENT_LENGTH).and_then(|length| length.parse().ok());
    let (body, held) = read(&mut payload, announced, state.settings.max_body_bytes, &state.intake.budget, sender.key).await?;
    let refused = intake::take(signal, encoding, coding, body, held, sender, state).await?;
    Ok((encoding, refused))
}

/// The answer, in the request's encoding; JSON where the request has none that is known.
fn answer(refusal: &Refusal, encoding: Option<Encoding>) -> HttpResponse {
    let encoding = encoding.unwrap_or(Encoding::Json);
    let status = match refusal {
        Refusal::NoKey | Refusal::UnknownKey => StatusCode::UNAUTHORIZED,
        Refusal::ContentType | Refusal::ContentEncoding(_) => StatusCode::UNSUPPORTED_MEDIA_TYPE,
        Refusal::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_)) => StatusCode::PAYLOAD_TOO_LARGE,
        refusal if refusal.is_for_now() => StatusCode::SERVICE_UNAVAILABLE,
        _ => StatusCode::BAD_REQUEST,
    };
    let mut answer = HttpResponse::build(status);
    answer.content_type(encoding.content_type());
    if refusal.is_for_now() {
        answer.insert_header((RETRY_AFTER, RETRY_AFTER_SECS.to_string()));
    }
    answer.body(status_body(encoding, refusal.rpc_code(), &refusal.to_string()))
}
