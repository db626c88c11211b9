//! A failure reported by hand: plain JSON that any HTTP client can send, turned into the same occurrence as by OTLP.

use std::collections::BTreeMap;
use std::time::Instant;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{HttpRequest, HttpResponse, post, web};
use chrono::{DateTime, Utc};
use outcrop_api::{Problem, Report, Reported, Severity};
use outcrop_core::grouping::Described;
use outcrop_otlp::{Encoding, Signal};
use outcrop_store::ids;
use outcrop_store::upkeep::reported;
use serde_json::{Value, json};

use crate::access::bearer;
use crate::api_error::ApiError;
use crate::intake::{BodyError, Coding, read};
use crate::receive;
use crate::receive::{Came, Refusal};
use crate::routes::parameters::bad;
use crate::state::State;

/// Reports a failure. Authenticate with a sender key, as for OTLP.
#[utoipa::path(operation_id = "report_failure", tag = "intake", request_body = Report, responses(
    (status = 200, description = "It is stored", body = Reported),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
#[post("/report")]
pub(super) async fn report_failure(
    request: HttpRequest,
    mut payload: web::Payload,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    let sender = receive::authenticate(&state, bearer(request.headers().get(AUTHORIZATION))).await;
    let mut came = Came {
        signal: "report",
        is_grpc: false,
        bytes: 0,
        since: Instant::now(),
    };
    let origin = crate::routes::origin::origin(&request, &state);
    if sender.is_err() {
        receive::note(&state, &origin, None, &came, &sender);
    }
    let sender = sender.map_err(refused)?;
    let (body, held) = read(
        &mut payload,
        None,
        state.settings.max_body_bytes,
        &state.intake.budget,
        sender.digest,
    )
    .await
    .map_err(|error| refused(error.into()))?;
    let of_key = sender.clone();
    came.bytes = body.len();
    let report: Report =
        serde_json::from_slice(&body).map_err(|error| bad(format!("the report cannot be read: {error}")))?;
    if report.service.trim().is_empty() {
        return Err(bad("the report names no service"));
    }
    if report.message.trim().is_empty() && report.type_name.trim().is_empty() && report.stacktrace.trim().is_empty() {
        return Err(bad("the report says nothing: give a message, a type or a stacktrace"));
    }
    let service = report.service.trim().to_owned();
    let at = report.time.unwrap_or_else(Utc::now);
    let record = as_otlp(&report, at).to_string().into_bytes();
    let body = receive::Body {
        signal: Signal::Logs,
        encoding: Encoding::Json,
        coding: Coding::Identity,
        bytes: record.into(),
        held,
    };
    let taken = receive::take(body, sender, &state).await;
    receive::note(&state, &origin, Some(&of_key), &came, &taken);
    let refused_records = taken.map_err(refused)?;
    if refused_records.count > 0 {
        return Err(bad(refused_records.reason));
    }
    let (database, of_service) = (state.database.clone(), service.clone());
    let error = state
        .on_main(async move {
            let error = outcrop_store::find::reported(&database, &of_service, at).await?;
            if let Some(error) = error.filter(|_| report.test) {
                reported::note_test(&database, ids::number(error), at).await?;
            }
            Ok(error)
        })
        .await?;
    let page = state
        .settings
        .public_url
        .as_deref()
        .unwrap_or_default()
        .trim_end_matches('/');
    let link = error.map(|error| format!("{page}/errors/{error}"));
    Ok(HttpResponse::Ok().json(Reported {
        service,
        reference: error.map(|error| error.to_string()),
        link,
    }))
}

fn refused(refusal: Refusal) -> ApiError {
    match refusal {
        Refusal::NoKey | Refusal::UnknownKey => ApiError::SenderKey(refusal.to_string()),
        Refusal::Quota(seconds) => ApiError::OverQuota(seconds),
        Refusal::NoRoom(why) => ApiError::NoRoom(why),
        Refusal::Away | Refusal::Body(BodyError::OverBudget | BodyError::TooSlow(_)) => ApiError::Away,
        Refusal::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_) | BodyError::TooHeavy) => {
            ApiError::TooLarge
        }
        refusal => bad(refusal.to_string()),
    }
}

/// The report as a log record with an exception: of what the stack says itself, with what was said of it beside.
fn as_otlp(report: &Report, at: DateTime<Utc>) -> Value {
    let of_stack = Described::new("", "", &report.stacktrace).stated_message().to_owned();
    let message = if of_stack.is_empty() {
        &report.message
    } else {
        &of_stack
    };
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let set = |key: &str, value: &Option<String>| {
        value
            .as_deref()
            .filter(|value| !value.is_empty())
            .map(|value| text(key, value))
    };
    let mut resource = vec![text("service.name", report.service.trim())];
    resource.extend(set("service.namespace", &report.namespace));
    resource.extend(set("deployment.environment.name", &report.environment));
    resource.extend(set("service.version", &report.version));
    resource.extend(set("host.name", &report.host));
    let mut attributes = vec![];
    for (name, value) in [
        ("exception.type", &report.type_name),
        ("exception.message", message),
        ("exception.stacktrace", &report.stacktrace),
    ] {
        if !value.is_empty() {
            attributes.push(text(name, value));
        }
    }
    attributes.extend(set("user.id", &report.user));
    if report.test {
        attributes.push(json!({"key": "outcrop.test", "value": {"boolValue": true}}));
    }
    attributes.extend(
        report
            .data
            .iter()
            .map(|(key, value)| json!({"key": key, "value": any_value(value)})),
    );
    let nanos = |at: DateTime<Utc>| at.timestamp_nanos_opt().unwrap_or_default().to_string();
    let severity = report.severity.unwrap_or(Severity::Error).word();
    let number = outcrop_core::severity::number(severity).unwrap_or_default();
    json!({"resourceLogs": [{"resource": {"attributes": resource}, "scopeLogs": [{"scope": {"name": "report"},
        "logRecords": [{
        "timeUnixNano": nanos(at), "observedTimeUnixNano": nanos(Utc::now()), "severityNumber": number,
            "severityText": severity.to_uppercase(),
        "body": {"stringValue": report.message}, "attributes": attributes}]}]}]})
}

/// A JSON value as OTLP has it.
fn any_value(value: &Value) -> Value {
    match value {
        Value::Null => json!({}),
        Value::Bool(truth) => json!({"boolValue": truth}),
        Value::Number(number) if number.is_i64() => json!({"intValue": number.to_string()}),
        Value::Number(number) => json!({"doubleValue": number}),
        Value::String(text) => json!({"stringValue": text}),
        Value::Array(items) => json!({"arrayValue": {"values": items.iter().map(any_value).collect::<Vec<_>>()}}),
        Value::Object(fields) => {
            let fields: BTreeMap<&String, Value> = fields.iter().map(|(key, value)| (key, any_value(value))).collect();
            json!({"kvlistValue": {"values": fields.into_iter().map(|(key, value)| json!({"key": key,
                "value": value})).collect::<Vec<_>>()}})
        }
    }
}
