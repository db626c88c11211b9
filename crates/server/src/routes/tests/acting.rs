//! What people do over the API, and what is there afterwards.

use actix_web::http::header::AUTHORIZATION;
use actix_web::http::{Method, StatusCode};
use actix_web::test::TestRequest;
use serde_json::{Value, json};

use super::answer;
use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::state::State;

async fn send(state: &State, token: &str, method: Method, path: &str, body: &Value) -> (StatusCode, Value) {
    super::ask(state, Some(token), &format!("{method} {path}"), body).await
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
    let deploy = json!({"service": "fares", "version": "2.5.0", "environment": "production",
        "at": chrono::Utc::now() - chrono::TimeDelta::hours(1)});
    send(&state, &token, Method::POST, "/api/v1/deploys", &deploy).await;
    let history = get(
        &state,
        &token,
        &format!("{}?limit=2", path.replace("/handling", "/history")),
    )
    .await;
    assert_eq!(history["items"].as_array().unwrap().len(), 2, "{history}");
    assert_eq!(history["items"][0]["by"], "purser@skerry.example", "{history}");
    let older = format!(
        "{}?before={}",
        path.replace("/handling", "/history"),
        history["next"].as_str().unwrap()
    );
    let older = get(&state, &token, &older).await;
    let kinds: Vec<_> = older["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| &entry["kind"])
        .collect();
    assert!(kinds.contains(&&json!("deploy")) && older["next"].is_null(), "{older}");
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
async fn an_error_is_settled_by_a_commit_from_now_on_or_by_the_deploy_that_names_it() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let list = get(&state, &token, "/api/v1/errors?where=service%20%3D%20fares").await;
    let error = list["items"][0]["ref"].as_str().unwrap().to_owned();
    let path = format!("/api/v1/errors/{error}/handling");
    let act = async |asked: Value| send(&state, &token, Method::POST, &path, &asked).await;

    for refused in [
        json!({"verb": "settle"}),
        json!({"verb": "settle", "version": "2.5.0", "now": true}),
        json!({"verb": "settle", "commit": "winter"}),
        json!({"verb": "settle", "commit": "3f2a1"}),
    ] {
        let (status, said) = act(refused).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
    }
    let (_, now) = act(json!({"verb": "settle", "now": true})).await;
    assert!(now["settled_from"].is_string() && now["settled_in"].is_null(), "{now}");
    let (_, waiting) = act(json!({"verb": "settle", "commit": " 3F2A1C9 "})).await;
    assert_eq!(
        (&waiting["settled_by"], &waiting["open"]),
        (&json!("3f2a1c9"), &json!(false))
    );
    assert!(
        waiting["settled_in"].is_null() && waiting["settled_from"].is_null(),
        "{waiting}"
    );
    let handled = get(&state, &token, "/api/v1/errors?where=settled").await;
    assert_eq!(handled["items"][0]["settled_by"], "3f2a1c9", "{handled}");

    let deploy = |version: &str, more: Value| {
        let mut deploy = json!({"service": "fares", "version": version, "environment": "production"});
        deploy
            .as_object_mut()
            .unwrap()
            .extend(more.as_object().unwrap().clone());
        deploy
    };
    let record = async |deploy: Value| send(&state, &token, Method::POST, "/api/v1/deploys", &deploy).await;
    let (status, said) = record(deploy("2.5.0", json!({"revision": "3f2a1c9e5b7d"}))).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    assert_eq!(get(&state, &token, &path).await["settled_in"], "2.5.0");

    let of = "service=fares&version=2.5.0&environment=production";
    let check = get(&state, &token, &format!("/api/v1/deploys/check?{of}")).await;
    assert_eq!(check["settled"][0]["ref"], error.as_str(), "{check}");
    assert!(check["settled"][0]["verdict"]["sentence"].is_string(), "{check}");

    let (status, said) = record(deploy("2.6.0", json!({"settles": [error]}))).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    assert_eq!(get(&state, &token, &path).await["settled_in"], "2.6.0");
    let elsewhere = json!({"service": "ledger", "version": "1", "environment": "production", "settles": [error]});
    let (status, said) = record(elsewhere).await;
    assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
    assert!(
        said["detail"]
            .as_str()
            .unwrap()
            .contains("is an error of fares, not of ledger"),
        "{said}"
    );
    let listed = get(&state, &token, "/api/v1/deploys?service=ledger").await;
    assert!(
        listed["items"]
            .as_array()
            .unwrap()
            .iter()
            .all(|item| item["announced"] == false),
        "{listed}"
    );
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

#[tokio::test]
async fn what_is_settled_or_quiet_comes_last_leads_nothing_and_is_not_of_now() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let before = get(&state, &token, "/api/v1/errors").await;
    assert_eq!(before["items"][0]["ref"], error.as_str());
    assert_eq!(
        (&before["handled"], &before["items"][0]["part"]),
        (&json!(0), &json!("known"))
    );
    let of_now = async || {
        let now = get(&state, &token, "/api/v1/now").await;
        let items = now["items"].as_array().unwrap().clone();
        items.iter().any(|item| item["ref"] == error.as_str())
    };
    assert!(of_now().await, "it is busy");
    let tomorrow = (chrono::Utc::now() + chrono::TimeDelta::days(1)).to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    for (body, said) in [
        (
            json!({"verb": "settle", "version": "2.4.1"}),
            "settled in 2.4.1".to_owned(),
        ),
        (
            json!({"verb": "quiet", "until": &tomorrow}),
            format!("quiet until {tomorrow}"),
        ),
    ] {
        let path = format!("/api/v1/errors/{error}/handling");
        let (status, _) = send(&state, &token, Method::POST, &path, &body).await;
        assert_eq!(status, StatusCode::OK);
        let page = get(&state, &token, "/api/v1/errors").await;
        let last = page["items"].as_array().unwrap().last().unwrap();
        assert_eq!(
            (&last["ref"], &last["part"]),
            (&json!(error), &json!("handled")),
            "{page}"
        );
        assert_eq!(last["attention"]["reasons"][0], said.as_str());
        assert_eq!(page["handled"], 1);
        assert!(
            !page["headline"]["text"].as_str().unwrap().contains("ZeroDivision"),
            "{page}"
        );
        assert!(!of_now().await, "{said}");
        send(&state, &token, Method::POST, &path, &json!({"verb": "reopen"})).await;
    }
    let after = get(&state, &token, "/api/v1/errors").await;
    assert_eq!(after["items"][0]["ref"], error.as_str());
    assert!(of_now().await);
}

#[tokio::test]
async fn mine_is_what_whoever_asks_has_taken_and_no_rule_says_it() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let mate = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let handling = format!("/api/v1/errors/{error}/handling");
    let (status, _) = send(&state, &token, Method::POST, &handling, &json!({"verb": "take"})).await;
    assert_eq!(status, StatusCode::OK);
    for (who, asked, total) in [
        (&token, "mine", 1),
        (&mate, "mine", 0),
        (&mate, "not%20mine%20and%20taken", 1),
        (&token, "uncaught%20and%20(mine%20or%20quiet)", 1),
    ] {
        let page = get(&state, who, &format!("/api/v1/errors?where={asked}")).await;
        assert_eq!(page["total"], total, "{asked}");
    }
    for (method, path, body) in [
        (
            Method::POST,
            handling.as_str(),
            json!({"verb": "quiet", "where": "mine"}),
        ),
        (
            Method::PUT,
            "/api/v1/slices/ours",
            json!({"where": "uncaught and mine"}),
        ),
    ] {
        let (status, said) = send(&state, &token, method, path, &body).await;
        assert_eq!(status, StatusCode::BAD_REQUEST);
        assert!(
            said["detail"].as_str().unwrap().contains("`mine` is of whoever asks"),
            "{said}"
        );
    }
}

#[tokio::test]
async fn many_are_handled_at_once_the_last_change_is_undone_and_two_do_not_overwrite_each_other() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let one = reference(&state, &token, "ZeroDivisionError").await;
    let other = reference(&state, &token, "no tariff").await;
    let take = json!({"errors": [one, other], "action": {"verb": "take", "by": "deck team"}});
    let (status, done) = send(&state, &token, Method::POST, "/api/v1/handling", &take).await;
    assert_eq!(status, StatusCode::OK, "{done}");
    let last = done["items"][1]["last_change"].clone();
    assert_eq!(
        (&done["items"][0]["ref"], &done["items"][1]["taken_by"]),
        (&json!(one), &json!("deck team"))
    );
    let path = format!("/api/v1/errors/{other}/handling");
    // Both have seen the same; the second is told.
    let settle = json!({"verb": "settle", "version": "2.4.1"});
    let seen = format!("{path}?after={last}");
    assert_eq!(
        send(&state, &token, Method::POST, &seen, &settle).await.0,
        StatusCode::OK
    );
    let (status, said) = send(&state, &token, Method::POST, &seen, &json!({"verb": "hand_back"})).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(
        said["detail"]
            .as_str()
            .unwrap()
            .contains("purser@skerry.example did something about"),
        "{said}"
    );
    let now = get(&state, &token, &path).await;
    assert_eq!(
        (&now["settled_in"], &now["taken_by"]),
        (&json!("2.4.1"), &json!("deck team"))
    );
    // Undone, it is as before; what came before that is not the last any more.
    let undo = format!("{path}/undo");
    let (status, _) = send(&state, &token, Method::POST, &undo, &json!({"change": last})).await;
    assert_eq!(status, StatusCode::CONFLICT);
    let (status, done) = send(
        &state,
        &token,
        Method::POST,
        &undo,
        &json!({"change": now["last_change"]}),
    )
    .await;
    assert_eq!(
        (status, &done["open"], &done["taken_by"]),
        (StatusCode::OK, &json!(true), &json!("deck team"))
    );
    // About all, or about none.
    let some = json!({"errors": [one, "kobal-tirun"], "action": {"verb": "hand_back"}});
    assert_eq!(
        send(&state, &token, Method::POST, "/api/v1/handling", &some).await.0,
        StatusCode::NOT_FOUND
    );
    for errors in [json!([]), json!(vec![one.as_str(); 501])] {
        let asked = json!({"errors": errors, "action": {"verb": "hand_back"}});
        assert_eq!(
            send(&state, &token, Method::POST, "/api/v1/handling", &asked).await.0,
            StatusCode::BAD_REQUEST
        );
    }
    assert_eq!(
        get(&state, &token, &format!("/api/v1/errors/{one}/handling")).await["taken_by"],
        "deck team"
    );
}
