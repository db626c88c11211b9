//! What people do over the API, and what is there afterwards.

use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE};
use actix_web::http::{Method, StatusCode};
use actix_web::test::TestRequest;
use serde_json::{Value, json};

use super::answer;
use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::state::State;

async fn send(state: &State, token: &str, method: Method, path: &str, body: &Value) -> (StatusCode, Value) {
    let request = TestRequest::default()
        .method(method)
        .uri(path)
        .insert_header((AUTHORIZATION, format!("Bearer {token}")))
        .insert_header((CONTENT_TYPE, "application/json"))
        .set_payload(body.to_string());
    let (status, _, said) = answer(state, request).await;
    (status, said)
}

#[tokio::test]
async fn an_error_is_taken_settled_quiet_reopened_and_its_history_says_by_whom() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let path = format!("/api/v1/errors/{error}/handling");
    // What is done, where in the answer, and what stands there.
    let table = [
        (json!({"verb": "take"}), "/taken_by", json!("purser@skerry.example")),
        (
            json!({"verb": "take", "by": "deck team"}),
            "/taken_by",
            json!("deck team"),
        ),
        (
            json!({"verb": "settle", "version": "2.4.1"}),
            "/settled_in",
            json!("2.4.1"),
        ),
        (json!({"verb": "quiet", "where": "count > 100"}), "/open", json!(false)),
        (json!({"verb": "reopen"}), "/settled_in", Value::Null),
        (
            json!({"verb": "note", "text": "winter only"}),
            "/taken_by",
            json!("deck team"),
        ),
    ];
    for (action, pointer, expected) in &table {
        let (status, said) = send(&state, &token, Method::POST, &path, action).await;
        assert_eq!(status, StatusCode::OK, "{action}: {said}");
        assert_eq!(
            said.pointer(pointer).unwrap_or(&Value::Null),
            expected,
            "{action}: {said}"
        );
    }
    let handling = get(&state, &token, &path).await;
    let history = handling["history"].as_array().unwrap();
    assert_eq!(history.len(), table.len(), "{handling}");
    assert!(
        history.iter().all(|change| change["by"] == "purser@skerry.example"),
        "{handling}"
    );
    let (status, said) = send(&state, &token, Method::POST, &path, &json!({"verb": "forget"})).await;
    assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
    let misspelt = json!({"verb": "take", "who": "deck team"});
    let (status, said) = send(&state, &token, Method::POST, &path, &misspelt).await;
    assert_eq!(
        status,
        StatusCode::BAD_REQUEST,
        "an unknown field is not passed over: {said}"
    );
}

#[tokio::test]
async fn a_deploy_is_recorded_listed_and_checked() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let deploy = json!({"service": "fares", "version": "2.5.0", "environment": "production"});
    let (status, said) = send(&state, &token, Method::POST, "/api/v1/deploys", &deploy).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    let listed = get(&state, &token, "/api/v1/deploys?service=fares").await;
    let versions: Vec<&Value> = listed["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| &item["version"])
        .collect();
    assert_eq!(versions, ["2.5.0"], "{listed}");
    let of = "service=fares&version=2.5.0&environment=production";
    let check = get(&state, &token, &format!("/api/v1/deploys/check?{of}")).await;
    assert_eq!(check["outcome"], "too early", "{check}");
    assert!(
        check["sentence"]
            .as_str()
            .unwrap()
            .starts_with("fares 2.5.0 in production: "),
        "{check}"
    );
    let page = get(&state, &token, &format!("/api/v1/deploys/one?{of}")).await;
    assert_eq!(page["deploy"]["announced"], true, "{page}");
}

#[tokio::test]
async fn slices_settings_markers_and_rules_are_kept_found_again_and_end() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let engineer = fleet(&state).await;
    let admin = token_of(&state, "harbour@skerry.example", "admin", false).await;
    let put = |path, body| {
        let (state, token) = (&state, &engineer);
        async move { send(state, token, Method::PUT, path, &body).await }
    };
    let (status, said) = put("/api/v1/slices/winter", json!({"where": "skerry.season = winter"})).await;
    assert!(status.is_success(), "{said}");
    let narrowed = get(&state, &engineer, "/api/v1/errors?where=slice%20%3D%20winter").await;
    assert_eq!(narrowed["items"].as_array().unwrap().len(), 1, "{narrowed}");
    let (status, said) = put("/api/v1/slices/broken", json!({"where": "skerry.season ="})).await;
    assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
    let marker = json!({"title": "winter tariff", "service": "fares"});
    let (status, said) = send(&state, &engineer, Method::POST, "/api/v1/markers", &marker).await;
    assert!(status.is_success(), "{said}");
    let markers = get(&state, &engineer, "/api/v1/markers").await;
    assert_eq!(markers["items"][0]["title"], "winter tariff", "{markers}");
    let rule = json!({"where": "type = ZeroDivisionError", "note": "known"});
    let (status, said) = send(&state, &engineer, Method::POST, "/api/v1/drops", &rule).await;
    assert_eq!(status, StatusCode::FORBIDDEN, "{said}");
    let (status, said) = send(&state, &admin, Method::POST, "/api/v1/drops", &rule).await;
    assert!(status.is_success(), "{said}");
    let id = get(&state, &engineer, "/api/v1/drops").await["items"][0]["id"].clone();
    let (status, said) = send(
        &state,
        &admin,
        Method::DELETE,
        &format!("/api/v1/drops/{id}"),
        &json!({}),
    )
    .await;
    assert!(status.is_success(), "{said}");
    let audit = get(&state, &admin, "/api/v1/audit").await;
    assert!(audit["items"].as_array().unwrap().len() >= 2, "{audit}");
}

#[tokio::test]
async fn errors_are_joined_after_a_trial_and_put_apart_again() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let into = reference(&state, &token, "ZeroDivisionError").await;
    let other = reference(&state, &token, "no tariff").await;
    let count = async || {
        get(&state, &token, "/api/v1/errors").await["items"]
            .as_array()
            .unwrap()
            .len()
    };
    let before = count().await;
    let change = json!({"kind": "join_errors", "error": into, "with": [other]});
    let (status, said) = send(
        &state,
        &token,
        Method::POST,
        "/api/v1/grouping/changes?dry_run=true",
        &change,
    )
    .await;
    assert_eq!(status, StatusCode::OK, "{said}");
    assert_eq!(count().await, before, "a trial changes nothing: {said}");
    let (status, said) = send(&state, &token, Method::POST, "/api/v1/grouping/changes", &change).await;
    assert_eq!(status, StatusCode::CREATED, "{said}");
    assert_eq!(count().await, before - 1, "{said}");
    let made = get(&state, &token, "/api/v1/grouping/changes").await;
    let id = made["items"][0]["id"].clone();
    let undo = format!("/api/v1/grouping/changes/{id}/undo");
    let (status, said) = send(&state, &token, Method::POST, &undo, &json!({})).await;
    assert_eq!(status, StatusCode::OK, "{said}");
    assert_eq!(count().await, before, "{said}");
}

#[tokio::test]
async fn a_member_has_pages_as_they_want_them_on_whatever_machine() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let path = "/api/v1/session/preferences";
    let built_in = json!({"times": "utc", "theme": "system"});
    assert_eq!(get(&state, &token, path).await, built_in);
    let put = |body: Value| {
        TestRequest::put()
            .uri(path)
            .insert_header((AUTHORIZATION, format!("Bearer {token}")))
            .set_json(body)
    };
    let wanted = json!({"times": "local", "theme": "dark"});
    let (status, _, said) = answer(&state, put(wanted.clone())).await;
    assert_eq!((status, &said), (StatusCode::OK, &wanted));
    assert_eq!(get(&state, &token, path).await, wanted);
    for wrong in [json!({"theme": "sepia"}), json!({"colour": "dark"}), json!(7)] {
        assert_eq!(
            answer(&state, put(wrong.clone())).await.0,
            StatusCode::BAD_REQUEST,
            "{wrong}"
        );
    }
    assert_eq!(get(&state, &token, path).await, wanted);
    let (status, _, _) = answer(&state, put(json!({}))).await;
    assert_eq!(status, StatusCode::OK);
    assert_eq!(get(&state, &token, path).await, built_in);
}
