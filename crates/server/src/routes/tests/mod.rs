//! What senders and proxies are answered, by handlers on a real database, without a process of their own.

mod acting;
mod asking;
mod close_ups;
mod closed;
mod console;
mod docs;
mod installation;
mod lists;
mod mcp;
mod metrics;
mod notice_rules;
mod notices;
mod now;
mod oauth;
mod people;
mod reading;
mod roles;
mod sheets;
mod strangers;
mod tickets;
mod watched;

use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE};
use actix_web::test::{TestRequest, call_service, init_service, read_body};
use actix_web::{App, web};
use outcrop_store::people::keys::Bounds;
use serde_json::{Value, json};

use crate::state::State;
use crate::supervision::Kind;

fn bounds(bytes_per_minute: Option<i64>) -> Bounds {
    Bounds {
        services: vec![],
        environments: vec![],
        bytes_per_minute,
    }
}

fn logs(message: &str) -> Value {
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", "fares")]}, "scopeLogs": [{"logRecords": [
        {"severityNumber": 17, "attributes": [text("exception.type", "TariffMissing"), text("exception.message",
            message)]}]}]}]})
}

/// What is answered to a JSON body sent to a route such as `POST /api/v1/markers`, with a token or by nobody.
async fn ask(state: &State, token: Option<&str>, route: &str, sent: impl ToString) -> (StatusCode, Value) {
    let (method, path) = route.split_once(' ').unwrap();
    let mut request = TestRequest::default()
        .method(method.parse().unwrap())
        .uri(path)
        .insert_header((CONTENT_TYPE, "application/json"))
        .set_payload(sent.to_string());
    if let Some(token) = token {
        request = request.insert_header((AUTHORIZATION, format!("Bearer {token}")));
    }
    let (status, _, said) = answer(state, request).await;
    (status, said)
}

fn post(path: &str, key: &str, body: impl Into<web::Bytes>) -> TestRequest {
    TestRequest::post()
        .uri(path)
        .insert_header((AUTHORIZATION, format!("Bearer {key}")))
        .insert_header((CONTENT_TYPE, "application/json"))
        .set_payload(body)
}

/// Answers a request as the service with this state does.
async fn answer(state: &State, request: TestRequest) -> (StatusCode, Option<String>, Value) {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let answer = call_service(&app, request.to_request()).await;
    let retry_after = answer
        .headers()
        .get("retry-after")
        .and_then(|value| value.to_str().ok())
        .map(str::to_owned);
    let status = answer.status();
    let body = read_body(answer).await;
    (status, retry_after, serde_json::from_slice(&body).unwrap_or_default())
}

/// The status and the text of an answer that is no JSON document.
async fn text(state: &State, request: TestRequest) -> (StatusCode, String) {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let answer = call_service(&app, request.to_request()).await;
    let status = answer.status();
    (status, String::from_utf8(read_body(answer).await.to_vec()).unwrap())
}

#[tokio::test]
async fn what_is_taken_refused_and_too_much_is_answered_in_the_protocols_form() {
    let (state, _supervisor, _closing) = State::for_tests(|settings| settings.max_body_bytes = 4_096).await;
    let key = state.key("pier-3", bounds(None)).await;
    let (status, _, said) = answer(&state, post("/v1/logs", &key, logs("no tariff").to_string())).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));
    let (status, _, said) = answer(&state, post("/v1/logs", "of-nobody", logs("no tariff").to_string())).await;
    assert_eq!((status, said["code"].as_i64()), (StatusCode::UNAUTHORIZED, Some(16)));
    let (status, retry_after, _) = answer(&state, post("/v1/logs", &key, "x".repeat(5_000))).await;
    assert_eq!((status, retry_after), (StatusCode::PAYLOAD_TOO_LARGE, None));
    let (status, _, said) = answer(&state, post("/v1/logs", &key, "{\"resourceLogs\": 7}")).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    assert!(
        said["message"].as_str().unwrap().contains("resourceLogs is no list"),
        "{said}"
    );
}

#[tokio::test]
async fn what_an_outage_refuses_is_not_taken_from_what_a_key_may_send() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let body = logs("no tariff").to_string();
    let key = state
        .key("pier-3", bounds(Some(i64::try_from(body.len()).unwrap() * 2)))
        .await;
    assert_eq!(
        answer(&state, post("/v1/logs", &key, body.clone())).await.0,
        StatusCode::OK
    );
    state.database.close().await;
    for _ in 0..5 {
        let (status, retry_after, _) = answer(&state, post("/v1/logs", &key, logs("another").to_string())).await;
        assert_eq!(
            (status, retry_after.as_deref()),
            (StatusCode::SERVICE_UNAVAILABLE, Some("2")),
            "not 429: nothing of it was stored"
        );
    }
}

#[tokio::test]
async fn without_room_senders_are_told_why_and_when_to_come_again_and_the_service_stays_ready() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    state
        .intake
        .close(Some("the database's disk has 7 MiB free".to_owned()));
    let (status, retry_after, said) = answer(&state, post("/v1/logs", &key, logs("no tariff").to_string())).await;
    assert_eq!(
        (status, retry_after.as_deref()),
        (StatusCode::SERVICE_UNAVAILABLE, Some("30"))
    );
    assert!(said["message"].as_str().unwrap().contains("7 MiB free"), "{said}");
    let (status, retry_after, said) = answer(
        &state,
        post("/api/v1/report", &key, r#"{"service": "fares", "message": "x"}"#),
    )
    .await;
    assert_eq!(
        (status, retry_after.as_deref(), said["code"].as_str()),
        (StatusCode::SERVICE_UNAVAILABLE, Some("30"), Some("no_room"))
    );
    assert_eq!(
        answer(&state, TestRequest::get().uri("/readyz")).await.0,
        StatusCode::OK
    );
    state.intake.close(None);
    assert_eq!(
        answer(&state, post("/v1/logs", &key, logs("no tariff").to_string()))
            .await
            .0,
        StatusCode::OK
    );
}

#[tokio::test]
async fn readiness_covers_the_writers_and_names_jobs_without_failing_for_them() {
    let (state, supervisor, _closing) = State::for_tests(|_| {}).await;
    let ready = async || answer(&state, TestRequest::get().uri("/readyz")).await;
    assert_eq!(
        ready().await,
        (StatusCode::OK, None, json!({"ready": true, "troubles": []}))
    );
    supervisor.run("flags", std::time::Duration::from_mins(1), || async {
        Err(outcrop_store::StoreError::Unusable("secret cause".to_owned()))
    });
    while state.health.troubles(crate::clock::now()).is_empty() {
        tokio::task::yield_now().await;
    }
    let (status, _, said) = ready().await;
    assert_eq!(
        (status, said["troubles"][0]["name"].as_str()),
        (StatusCode::OK, Some("flags"))
    );
    assert!(
        !said.to_string().contains("secret cause"),
        "the cause is for the log: {said}"
    );
    supervisor.keep("writer 3", Kind::Writer, std::future::pending);
    for _ in 0..3 {
        state.health.failed("writer 3", "it panicked");
    }
    let (status, _, said) = ready().await;
    assert_eq!(
        (status, said["code"].as_str()),
        (StatusCode::SERVICE_UNAVAILABLE, Some("writer_down"))
    );
    assert!(
        said["detail"].as_str().unwrap().starts_with("writer 3 is down"),
        "{said}"
    );
    state.health.done("writer 3");
    state.database.close().await;
    let (status, _, said) = ready().await;
    assert_eq!(
        (status, said["code"].as_str()),
        (StatusCode::SERVICE_UNAVAILABLE, Some("database_away"))
    );
}

#[tokio::test]
async fn a_key_that_is_known_is_trusted_while_the_database_is_away_and_a_guess_is_not() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let digest = crate::access::digest_of(&key);
    assert!(
        state
            .intake
            .keys
            .check(&state.database, digest)
            .await
            .unwrap()
            .is_some()
    );
    let nobody = crate::access::digest_of("guess");
    assert!(
        state
            .intake
            .keys
            .check(&state.database, nobody)
            .await
            .unwrap()
            .is_none()
    );
    state.database.close().await;
    assert!(
        state
            .intake
            .keys
            .check(&state.database, digest)
            .await
            .unwrap()
            .is_some()
    );
    tokio::time::sleep(std::time::Duration::from_millis(2_100)).await;
    assert!(
        state
            .intake
            .keys
            .check(&state.database, digest)
            .await
            .unwrap()
            .is_some(),
        "trusted on"
    );
    assert!(
        state.intake.keys.check(&state.database, nobody).await.is_err(),
        "nobody knows whether it is a key by now"
    );
}
