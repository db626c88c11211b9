//! What lasts, from telemetry to notices: endpoints that fail, senders that fall silent and report again.

use actix_web::http::StatusCode;
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::notice::{Event, EventKind};
use outcrop_store::notices::events;
use serde_json::{Value, json};

use super::strangers::token_of;
use super::{answer, bounds, post};
use crate::notices;
use crate::state::State;

/// Requests of a service at a time: so many, of which the first ones failed.
fn requests(service: &str, at: DateTime<Utc>, count: i64, failed: i64) -> Value {
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let nanos = |more: i64| (at.timestamp_micros() * 1_000 + more).to_string();
    let spans: Vec<Value> = (0..count)
        .map(|number| {
            let id = at.timestamp_millis() * 1_000 + number;
            let status = if number < failed { json!({"code": 2}) } else { json!({}) };
            json!({
                "traceId": format!("{id:032x}"), "spanId": format!("{id:016x}"), "kind": 2, "name": "GET /v1/quotes",
                "startTimeUnixNano": nanos(number * 1_000_000), "endTimeUnixNano": nanos(number * 1_000_000 + 500_000),
                "attributes": [text("http.route", "/v1/quotes"), text("http.request.method", "GET")], "status": status,
            })
        })
        .collect();
    let resource = json!({"attributes": [text("service.name", service), text("service.version", "2.4.0"),
        text("deployment.environment.name", "production")]});
    json!({"resource": resource, "scopeSpans": [{"spans": spans}]})
}

async fn send(state: &State, key: &str, requests: Vec<Value>) {
    let body = json!({"resourceSpans": requests}).to_string();
    let (status, _, said) = answer(state, post("/v1/traces", key, body)).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));
}

/// What was noted of a kind.
async fn noted(state: &State, kind: EventKind) -> Vec<Event> {
    let now = Utc::now();
    let all = events::between(&state.database, now - TimeDelta::days(1), now + TimeDelta::days(1))
        .await
        .unwrap();
    all.into_iter().filter(|event| event.kind == kind).collect()
}

#[tokio::test]
async fn an_endpoint_that_fails_is_noted_once_and_again_when_it_is_well() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let now = Utc::now();
    let ago = |minutes: i64| now - TimeDelta::minutes(minutes);
    let past = (2..8).map(|hours| requests("fares", ago(hours * 60), 100, 0)).collect();
    send(&state, &key, past).await;
    send(&state, &key, vec![requests("fares", ago(3), 50, 40)]).await;
    let watch = async |at| notices::watch(&state.database, now, at).await.unwrap();
    watch(now).await;
    watch(now + TimeDelta::minutes(1)).await;
    let failing = noted(&state, EventKind::EndpointFailing).await;
    assert_eq!(failing.len(), 1, "{failing:?}");
    let event = &failing[0];
    assert_eq!(
        (event.service.as_str(), event.environment.as_str()),
        ("fares", "production")
    );
    assert!(event.endpoint.contains("/v1/quotes"), "{event:?}");
    assert!(
        event
            .evidence
            .starts_with("40 of 50 requests failed in the last 15 minutes (80 %)"),
        "{event:?}"
    );
    watch(now + TimeDelta::minutes(40)).await;
    let well = noted(&state, EventKind::BackToNormal).await;
    assert_eq!((well.len(), well[0].of), (1, Some(event.id)));
}

#[tokio::test]
async fn who_owns_a_namespace_owns_its_failing_endpoints() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let purser = token_of(&state, "purser@skerry.example", "admin", false).await;
    let rule = json!({"owner": "purser@skerry.example", "namespace": "harbour"});
    let made = super::ask(&state, Some(&purser), "POST /api/v1/owners", &rule).await;
    assert!(made.0.is_success(), "{made:?}");
    let now = Utc::now();
    let of = |namespace: &str, service: &str| {
        let mut sent = requests(service, now - TimeDelta::minutes(3), 50, 40);
        let named = json!({"key": "service.namespace", "value": {"stringValue": namespace}});
        sent["resource"]["attributes"].as_array_mut().unwrap().push(named);
        sent
    };
    send(&state, &key, vec![of("harbour", "fares"), of("deck", "gangway")]).await;
    notices::watch(&state.database, now, now).await.unwrap();
    let mut owners: Vec<(String, Option<String>)> = noted(&state, EventKind::EndpointFailing)
        .await
        .into_iter()
        .map(|event| (event.service, event.owner))
        .collect();
    owners.sort();
    let expected = [("fares", Some("purser@skerry.example")), ("gangway", None)];
    assert_eq!(
        owners,
        expected.map(|(service, owner)| (service.to_owned(), owner.map(str::to_owned)))
    );
}

#[tokio::test]
async fn a_service_that_falls_silent_is_noted_without_its_endpoints_and_again_when_it_reports() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let now = Utc::now();
    let ago = |minutes: i64| now - TimeDelta::minutes(minutes);
    for service in ["fares", "gangway"] {
        let course = (3..6 * 24)
            .map(|hours| requests(service, ago(hours * 60), 40, 0))
            .collect();
        send(&state, &key, course).await;
    }
    send(
        &state,
        &key,
        vec![requests("fares", ago(170), 20, 0), requests("gangway", ago(1), 20, 0)],
    )
    .await;
    notices::watch(&state.database, ago(400), now).await.unwrap();
    let silent = noted(&state, EventKind::Silent).await;
    let titles: Vec<&str> = silent.iter().map(|event| event.title.as_str()).collect();
    assert_eq!(titles, ["fares reports nothing"]);
    assert!(silent[0].evidence.starts_with("nothing for 1"), "{silent:?}");
    send(&state, &key, vec![requests("fares", now, 5, 0)]).await;
    notices::watch(&state.database, ago(400), now + TimeDelta::minutes(4))
        .await
        .unwrap();
    let back = noted(&state, EventKind::Reporting).await;
    assert_eq!((back.len(), back[0].of), (1, Some(silent[0].id)));
    assert_eq!(noted(&state, EventKind::Silent).await.len(), 1);
}
