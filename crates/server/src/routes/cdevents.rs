//! CDEvents over CloudEvents' HTTP binding (version 1.0.2): binary, structured and batched.

use actix_web::http::header::{CONTENT_TYPE, HeaderMap};
use actix_web::{HttpRequest, post, web};
use chrono::{DateTime, Utc};
use cloudevents::{AttributesReader, Data, Event, EventBuilder, EventBuilderV10};
use outcrop_api::{EventsTaken, NewDeploy, Problem};
use outcrop_core::deploy::{BadCdEvent, announced};

use super::deploys::record;
use super::viewer::{Pipeline, Seen};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// The longest body, in bytes: an event is some kilobytes, a batch some hundreds of them.
pub(super) const MAX_BODY: usize = 1 << 20;

/// Takes `service.deployed`, `service.upgraded` and `service.rolledback` as deploys; other events
/// are taken and told of nothing.
#[utoipa::path(operation_id = "take_events", tag = "deploys", request_body(content = serde_json::Value,
    content_type = "application/cloudevents+json"), responses(
    (status = 200, body = EventsTaken),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[post("/cdevents")]
pub(super) async fn take_events(
    Pipeline(viewer): Pipeline,
    request: HttpRequest,
    body: Result<web::Bytes, actix_web::Error>,
    state: Seen,
) -> Result<web::Json<EventsTaken>, ApiError> {
    viewer.must_engineer()?;
    let body = body.map_err(|error| {
        bad(format!(
            "the events cannot be read, or are larger than 1 MiB; send fewer at once: {error}"
        ))
    })?;
    let mut deploys = vec![];
    let mut taken = EventsTaken {
        recorded: 0,
        other: vec![],
    };
    for event in read(request.headers(), &body)? {
        match deploy_of(&event) {
            Ok(deploy) => deploys.push(deploy),
            Err(BadCdEvent::NoDeploy(kind)) => taken.other.push(kind),
            Err(error) => return Err(bad(format!("event {}: {error}", event.id()))),
        }
    }
    // All are read before the first is recorded: a batch with a mistake changes nothing.
    for deploy in deploys {
        record(deploy, viewer.email.clone(), &state).await?;
        taken.recorded += 1;
    }
    Ok(web::Json(taken))
}

/// The events of a request, by the mode that its content type tells.
fn read(headers: &HeaderMap, body: &[u8]) -> Result<Vec<Event>, ApiError> {
    let header = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    let kind = header(CONTENT_TYPE.as_str())
        .unwrap_or_default()
        .split(';')
        .next()
        .unwrap_or_default()
        .trim()
        .to_ascii_lowercase();
    let unreadable = |error: serde_json::Error| bad(format!("the event cannot be read: {error}"));
    match kind.as_str() {
        "application/cloudevents-batch+json" => serde_json::from_slice(body).map_err(unreadable),
        "application/cloudevents+json" => Ok(vec![serde_json::from_slice(body).map_err(unreadable)?]),
        _ => {
            let of = |name: &str| {
                header(name).ok_or_else(|| bad(format!("this is no CloudEvent: the header {name} is missing")))
            };
            let mut event = EventBuilderV10::new()
                .id(of("ce-id")?)
                .ty(of("ce-type")?)
                .source(of("ce-source")?);
            if let Some(time) = header("ce-time") {
                event = event.time(time);
            }
            let data: serde_json::Value = serde_json::from_slice(body).map_err(unreadable)?;
            let event = event
                .data("application/json", data)
                .build()
                .map_err(|error| bad(format!("the event cannot be read: {error}")))?;
            Ok(vec![event])
        }
    }
}

fn deploy_of(event: &Event) -> Result<NewDeploy, BadCdEvent> {
    let told = match event.data() {
        Some(Data::Json(value)) => value.clone(),
        Some(Data::String(text)) => serde_json::from_str(text).unwrap_or_default(),
        Some(Data::Binary(bytes)) => serde_json::from_slice(bytes).unwrap_or_default(),
        None => serde_json::Value::Null,
    };
    let deploy = announced(&told)?;
    let at = told
        .pointer("/context/timestamp")
        .and_then(serde_json::Value::as_str)
        .and_then(|text| DateTime::parse_from_rfc3339(text).ok());
    let link = told
        .pointer("/context/source")
        .and_then(serde_json::Value::as_str)
        .filter(|source| source.starts_with("https://"));
    Ok(NewDeploy {
        service: deploy.service,
        version: deploy.version,
        environment: deploy.environment,
        at: at.map(|at| at.with_timezone(&Utc)).or_else(|| event.time().copied()),
        ended_at: None,
        share: None,
        instance_group: None,
        revision: String::new(),
        link: link.unwrap_or_default().to_owned(),
        changes: None,
        settles: vec![],
    })
}
