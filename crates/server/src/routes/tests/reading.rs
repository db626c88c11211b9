//! What is read of a small fixed fleet: two services, one deploy, three errors, by the routes that people's pages and
//! commands ask.

use actix_web::http::StatusCode;
use actix_web::http::header::AUTHORIZATION;
use actix_web::test::TestRequest;
use serde_json::{Value, json};

use super::strangers::token_of;
use super::{answer, bounds, post};
use crate::answers::deploy_answers;
use crate::clock::now;
use crate::state::State;

/// Requests of fares and what they call, all some minutes ago.
const REQUESTS: u64 = 40;
/// One in so many fails.
const FAILING: u64 = 8;

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

fn whole(key: &str, value: u64) -> Value {
    json!({"key": key, "value": {"intValue": value.to_string()}})
}

fn trace_id(number: u64) -> String {
    format!("{:032x}", number + 1)
}

/// The resource of a service.
pub(super) fn resource(service: &str, version: &str) -> Value {
    json!({"attributes": [
        text("service.name", service),
        text("service.version", version),
        text("deployment.environment.name", "production"),
        text("service.instance.id", &format!("{service}-a")),
        text("host.name", "pier-3"),
    ]})
}

/// One request of fares: its entry span, a statement, a call of berths; each eighth ends in an exception.
pub(super) fn request(number: u64, begin: u64) -> (Vec<Value>, Value) {
    let at = |millis: u64| (begin + millis * 1_000_000).to_string();
    let id = |place: u64| format!("{:016x}", (number + 1) * 16 + place);
    let fails = number.is_multiple_of(FAILING);
    let thrown = json!([{"name": "exception", "timeUnixNano": at(19), "attributes": [
        text("exception.type", "ZeroDivisionError"),
        text("exception.message", &format!("sailing {number} has no free metres")),
        text(
            "exception.stacktrace",
            "Traceback (most recent call last):\n  File \"/srv/fares/app/tariff.py\", line 92, in quote\n    \
             rate / metres\nZeroDivisionError: division by zero",
        ),
    ]}]);
    let entry = json!({
        "traceId": trace_id(number), "spanId": id(0), "kind": 2, "name": "POST /v1/quotes",
        "startTimeUnixNano": at(0), "endTimeUnixNano": at(if fails { 1_200 } else { 20 }),
        "attributes": [
            text("http.request.method", "POST"), text("http.route", "/v1/quotes"),
            whole("http.response.status_code", if fails { 500 } else { 200 }),
            text("user.id", &format!("u-{}", number % 3)),
            text("skerry.season", if fails { "winter" } else { "summer" }),
        ],
        "events": if fails { thrown } else { json!([]) },
        "status": if fails { json!({"code": 2}) } else { json!({}) },
    });
    let statement = json!({
        "traceId": trace_id(number), "spanId": id(1), "parentSpanId": id(0), "kind": 3, "name": "SELECT fare",
        "startTimeUnixNano": at(1), "endTimeUnixNano": at(9),
        "attributes": [
            text("db.system.name", "postgresql"),
            text("db.query.text", "SELECT fare FROM tariff WHERE id = 7"),
        ],
    });
    let call = json!({
        "traceId": trace_id(number), "spanId": id(2), "parentSpanId": id(0), "kind": 3, "name": "GET",
        "startTimeUnixNano": at(10), "endTimeUnixNano": at(15),
        "attributes": [text("http.request.method", "GET"), text("server.address", "berths.skerry.example")],
    });
    let answered = json!({
        "traceId": trace_id(number), "spanId": id(3), "parentSpanId": id(2), "kind": 2, "name": "GET /v1/berths",
        "startTimeUnixNano": at(11), "endTimeUnixNano": at(14),
        "attributes": [
            text("http.request.method", "GET"), text("http.route", "/v1/berths"),
            whole("http.response.status_code", 200),
        ],
    });
    (vec![entry, statement, call], answered)
}

/// The fleet's telemetry, stored; and a token of an engineer.
pub(super) async fn fleet(state: &State) -> String {
    let key = state.key("pier-3", bounds(None)).await;
    let start = u64::try_from(now().0).unwrap() - 300_000_000_000;
    let (mut of_fares, mut of_berths) = (vec![], vec![]);
    for number in 0..REQUESTS {
        let (fares, berths) = request(number, start + number * 1_000_000_000);
        of_fares.extend(fares);
        of_berths.push(berths);
    }
    let spans = json!({"resourceSpans": [
        {"resource": resource("fares", "2.4.0"), "scopeSpans": [{"spans": of_fares}]},
        {"resource": resource("berths", "1.7.0"), "scopeSpans": [{"spans": of_berths}]},
    ]});
    let line = |number: u64, severity: u64, message: &str| {
        json!({
            "timeUnixNano": (start + number * 1_000_000_000 + 5_000_000).to_string(), "severityNumber": severity,
            "body": {"stringValue": message}, "traceId": trace_id(number), "spanId": format!("{:016x}",
                (number + 1) * 16),
        })
    };
    let lines: Vec<Value> = (0..REQUESTS)
        .map(|number| line(number, 9, &format!("quoting sailing {number}")))
        .chain([line(1, 17, "no tariff for season high"), line(2, 13, "tariff 7 is old")])
        .collect();
    let logs =
        json!({"resourceLogs": [{"resource": resource("fares", "2.4.0"), "scopeLogs": [{"logRecords": lines}]}]});
    for (path, body) in [("/v1/traces", spans), ("/v1/logs", logs)] {
        let (status, _, said) = answer(state, post(path, &key, body.to_string())).await;
        assert_eq!((status, said), (StatusCode::OK, json!({})), "{path}");
    }
    token_of(state, "purser@skerry.example", "engineer", false).await
}

pub(super) async fn get(state: &State, token: &str, path: &str) -> Value {
    let request = TestRequest::get()
        .uri(path)
        .insert_header((AUTHORIZATION, format!("Bearer {token}")));
    let (status, _, body) = answer(state, request).await;
    assert_eq!(status, StatusCode::OK, "{path}: {body}");
    body
}

/// The reference of the error of a type, or with a message.
pub(super) async fn reference(state: &State, token: &str, title: &str) -> String {
    let page = get(state, token, "/api/v1/errors").await;
    let items = page["items"].as_array().unwrap();
    let found = items
        .iter()
        .find(|item| item["title"].as_str().unwrap().contains(title));
    found.unwrap_or_else(|| panic!("{title} is in {page}"))["ref"]
        .as_str()
        .unwrap()
        .to_owned()
}

#[tokio::test]
async fn lists_count_what_was_sent() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let failed = REQUESTS / FAILING;
    // Path, where in the answer, and what stands there.
    let table = [
        (
            "/api/v1/errors?where=uncaught",
            "/items/0/type",
            json!("ZeroDivisionError"),
        ),
        ("/api/v1/errors?where=uncaught", "/items/0/count", json!(failed)),
        ("/api/v1/errors?where=uncaught", "/items/0/users", json!(3)),
        ("/api/v1/errors?where=uncaught", "/items/0/request_share", json!(0.125)),
        (
            "/api/v1/errors?where=uncaught",
            "/items/0/own_frame",
            json!("tariff.quote app/tariff.py:92"),
        ),
        ("/api/v1/errors?service=berths", "/items", json!([])),
        (
            "/api/v1/endpoints?service=fares",
            "/items/0/endpoint",
            json!("POST /v1/quotes"),
        ),
        ("/api/v1/endpoints?service=fares", "/items/0/count", json!(REQUESTS)),
        ("/api/v1/endpoints?service=fares", "/items/0/failed", json!(failed)),
        ("/api/v1/endpoints?service=berths", "/items/0/failed", json!(0)),
        (
            "/api/v1/requests?only=failed&service=fares&limit=3",
            "/items/2/status",
            json!(500),
        ),
        ("/api/v1/calls?service=fares", "/items/0/count", json!(REQUESTS)),
        ("/api/v1/statements?service=fares", "/items/0/service", json!("fares")),
        (
            "/api/v1/instances?service=berths",
            "/items/0/instance",
            json!("berths-a"),
        ),
        (
            "/api/v1/logs?severity=error",
            "/items/0/message",
            json!("no tariff for season high"),
        ),
        (
            "/api/v1/logs/templates?service=fares",
            "/items/0/text",
            json!("quoting sailing {n}"),
        ),
        (
            "/api/v1/logs/templates?service=fares",
            "/items/0/count",
            json!(REQUESTS),
        ),
        ("/api/v1/parts?by=service", "/items/0/value", json!("fares")),
        ("/api/v1/deploys", "/items", json!([])),
        ("/api/v1/find?text=u-1", "/items/0/by", json!("attribute")),
    ];
    let mut wrong = vec![];
    for (path, pointer, expected) in table {
        let body = get(&state, &token, path).await;
        if body.pointer(pointer) != Some(&expected) {
            wrong.push(format!("{pointer} of {path} is not {expected}: {body}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test]
async fn an_error_leads_to_its_occurrences_their_traces_and_what_led_to_them() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let of = |rest: &str| format!("/api/v1/errors/{error}{rest}");
    let detail = get(&state, &token, &of("")).await;
    assert_eq!(detail["sightings"][0]["version"], "2.4.0", "{detail}");
    let page = get(&state, &token, &of("/occurrences?limit=2")).await;
    assert_eq!(page["items"].as_array().unwrap().len(), 2);
    let rest = get(
        &state,
        &token,
        &of(&format!(
            "/occurrences?limit=9&cursor={}",
            page["next"].as_str().unwrap()
        )),
    )
    .await;
    assert_eq!(rest["items"].as_array().unwrap().len(), 3, "{rest}");
    assert_eq!(rest["next"], Value::Null);
    let id = page["items"][0]["id"].as_str().unwrap();
    let one = get(&state, &token, &format!("/api/v1/occurrences/{id}")).await;
    assert_eq!(one["attributes"]["skerry.season"], "winter", "{one}");
    let lead_up = get(&state, &token, &format!("/api/v1/occurrences/{id}/lead-up")).await;
    let steps: Vec<&str> = lead_up["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|step| step["what"].as_str())
        .collect();
    assert!(steps.iter().any(|step| step.contains("quoting sailing")), "{steps:?}");
    let trace = get(
        &state,
        &token,
        &format!("/api/v1/traces/{}", one["trace_id"].as_str().unwrap()),
    )
    .await;
    assert_eq!(trace["services"], json!(["fares", "berths"]), "{trace}");
    assert_eq!(trace["spans"].as_array().unwrap().len(), 4);
    let chart = get(&state, &token, &of("/timeline?since=1h&steps=6")).await;
    let counted: i64 = chart["layers"][0]["occurrences"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(Value::as_i64)
        .sum();
    assert_eq!(counted, 5, "{chart}");
    let users = get(&state, &token, &of("/users")).await;
    assert_eq!(users["items"].as_array().unwrap().len(), 3, "{users}");
    let explained = get(&state, &token, &of("/explanation")).await;
    assert!(
        explained["counted"].as_array().is_some_and(|parts| !parts.is_empty()),
        "{explained}"
    );
    let why = get(&state, &token, &of("/why")).await;
    assert!(
        why["sentences"].as_array().is_some_and(|said| !said.is_empty()),
        "{why}"
    );
}

#[tokio::test]
async fn a_question_that_is_wrong_is_told_what_is_wrong_and_where() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = token_of(&state, "purser@skerry.example", "viewer", false).await;
    // Path, status, and a part of what is said.
    let table = [
        (
            "/api/v1/errors?where=service%20%3D",
            StatusCode::BAD_REQUEST,
            "a value for `service`",
        ),
        (
            "/api/v1/errors?where=servise%20%3D%20fares%20and%20or",
            StatusCode::BAD_REQUEST,
            "`or` alone says nothing",
        ),
        ("/api/v1/errors?limit=0", StatusCode::BAD_REQUEST, "limit is 0"),
        ("/api/v1/errors?since=soon", StatusCode::BAD_REQUEST, "soon"),
        ("/api/v1/errors?cursor=nowhere", StatusCode::BAD_REQUEST, "cursor"),
        ("/api/v1/errors?nonsense=1", StatusCode::BAD_REQUEST, "nonsense"),
        (
            "/api/v1/errors/kobal-tirun",
            StatusCode::NOT_FOUND,
            "there is no error kobal-tirun",
        ),
        ("/api/v1/errors/not-one", StatusCode::BAD_REQUEST, "not-one"),
        (
            "/api/v1/traces/00000000000000000000000000000009",
            StatusCode::NOT_FOUND,
            "trace",
        ),
        ("/api/v1/occurrences/5", StatusCode::BAD_REQUEST, "32 hex digits"),
        (
            "/api/v1/deploys/check?service=fares&version=2.4.0&environment=production",
            StatusCode::NOT_FOUND,
            "2.4.0",
        ),
    ];
    let mut wrong = vec![];
    for (path, expected, said) in table {
        let request = TestRequest::get()
            .uri(path)
            .insert_header((AUTHORIZATION, format!("Bearer {token}")));
        let (status, _, body) = answer(&state, request).await;
        if status != expected || !body["detail"].as_str().is_some_and(|detail| detail.contains(said)) {
            wrong.push(format!("{path} is not {expected} with {said}: {status} {body}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test]
async fn the_list_is_narrowed_by_words_over_all_pages_and_leads_with_what_fails_most() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let all = get(&state, &token, "/api/v1/errors?strip=12").await;
    let total = all["total"].as_u64().unwrap();
    assert!(total > 1, "{all}");
    let headline = &all["headline"];
    assert_eq!(headline["lead"], "12 % of the requests to fares fail");
    assert!(
        headline["text"]
            .as_str()
            .unwrap()
            .starts_with(" with ZeroDivisionError, first seen in fares 2.4.0")
    );
    assert!(headline["since"].is_string());
    // Words are looked for in the whole list, however small a page is; the headline and the total stay of all.
    for (words, found) in [
        ("TARIFF for", 1),
        ("fares 2.4.0", total),
        ("tariff.py", 1),
        ("kirkwall", 0),
    ] {
        let words = words.replace(' ', "%20");
        let page = get(&state, &token, &format!("/api/v1/errors?limit=1&words={words}")).await;
        assert_eq!(page["total"].as_u64(), Some(found), "{words}: {page}");
        assert_eq!(page["total_without_words"].as_u64(), Some(total));
        assert_eq!(page["headline"]["lead"], headline["lead"]);
        assert_eq!(page["next"].is_string(), found > 1);
    }
    let mut seen = vec![];
    let mut cursor = String::new();
    loop {
        let page = get(&state, &token, &format!("/api/v1/errors?by_part=true&limit=1{cursor}")).await;
        seen.push(page["items"][0]["ref"].clone());
        let Some(next) = page["next"].as_str() else { break };
        cursor = format!("&cursor={next}");
    }
    let listed: Vec<Value> = all["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| item["ref"].clone())
        .collect();
    assert_eq!(seen, listed, "without flags the parts change nothing");
}

#[tokio::test]
async fn an_occurrence_is_chosen_by_its_id_and_by_a_time_and_two_choices_are_refused() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let choose = async |asked: &str| get(&state, &token, &format!("/api/v1/errors/{error}/choose?{asked}")).await;
    let latest = choose("choice=latest").await;
    assert_eq!(choose(&format!("at={}", latest["id"].as_str().unwrap())).await, latest);
    let first = choose("from=2026-01-01T00:00:00Z").await;
    assert_eq!(first, choose("choice=first").await);
    assert!(choose("from=2100-01-01T00:00:00Z").await["id"].is_null());
    for asked in ["choice=first&version=2.4.0", "choice=best", "from=1200-01-01T00:00:00Z"] {
        let request = TestRequest::get()
            .uri(&format!("/api/v1/errors/{error}/choose?{asked}"))
            .insert_header((AUTHORIZATION, format!("Bearer {token}")));
        assert_eq!(answer(&state, request).await.0, StatusCode::BAD_REQUEST, "{asked}");
    }
}

#[tokio::test]
async fn a_list_from_the_board_says_what_a_counted_one_says() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (state, token) = (&state, &fleet(&state).await);
    let ask = async |rest: &str| get(state, token, &format!("/api/v1/errors?strip=24&{rest}")).await;
    let asked = [
        "since=24h",
        "since=7d&by_part=true",
        "since=3h&environment=production",
        "since=24h&where=service%20%3D%20fares",
        "since=24h&service=berths",
        "since=30m&environment=nowhere",
    ];
    let mut counted = vec![];
    for rest in asked {
        counted.push(ask(rest).await);
    }
    let database = &state.database;
    while outcrop_store::errors::reach::fold(database).await.unwrap() {}
    while outcrop_store::board::refresh(database, chrono::Utc::now())
        .await
        .unwrap()
    {}
    for (rest, mut counted) in asked.into_iter().zip(counted) {
        let mut kept = ask(rest).await;
        for page in [&mut counted, &mut kept] {
            // Instances are told apart in whole hours alone, once they are folded; steps begin a moment later.
            for item in page["items"].as_array_mut().into_iter().flatten() {
                item["attention"] = Value::Null;
                item["strip"] = Value::Null;
            }
        }
        assert_eq!(kept, counted, "{rest}");
    }
    // What people do is there at once: it is read beside the board.
    let first = ask("since=24h").await["items"][0]["ref"].as_str().unwrap().to_owned();
    let settle = json!({"verb": "settle", "version": "9.9.0"}).to_string();
    let path = format!("POST /api/v1/errors/{first}/handling");
    let settled = super::ask(state, Some(token), &path, &settle).await;
    assert!(settled.0.is_success(), "{settled:?}");
    let after = ask("since=24h").await;
    assert_eq!(after["handled"], 1);
    let last = after["items"].as_array().unwrap().last().unwrap();
    assert_eq!((&last["ref"], &last["part"]), (&json!(first), &json!("handled")));
}

#[tokio::test]
async fn a_list_of_deploys_shows_what_was_answered_last_until_a_flag_changes() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (state, token) = (&state, &fleet(&state).await);
    let at = chrono::Utc::now() - chrono::TimeDelta::minutes(6);
    let deploy = json!({"service": "fares", "version": "2.4.0", "environment": "production", "at": at}).to_string();
    let (status, said) = super::ask(state, Some(token), "POST /api/v1/deploys", deploy).await;
    assert!(status.is_success(), "{said}");
    let listed = async || get(state, token, "/api/v1/deploys?since=24h").await["items"][0]["check"].clone();
    let made = listed().await;
    let database = &state.database;
    let now = chrono::Utc::now();
    let round = async || deploy_answers::begin(database, now).await.unwrap().unwrap();
    let (begun, mut checks) = round().await;
    assert_eq!(
        (&made["outcome"], &made["before"]["requests"]),
        (&json!(checks[0].outcome), &json!(checks[0].before.requests))
    );
    checks[0].sentence = "As it was answered last.".to_owned();
    assert!(!deploy_answers::keep(begun, &checks).await.unwrap());
    assert_eq!(listed().await["sentence"], "As it was answered last.");
    let (begun, checks) = round().await;
    assert!(checks.is_empty(), "{checks:?}");
    assert!(!deploy_answers::keep(begun, &checks).await.unwrap());
    let later = json!({"service": "fares", "version": "2.4.0", "environment": "production", "at": at,
        "link": "https://ci.skerry.example/7"});
    let (status, said) = super::ask(state, Some(token), "POST /api/v1/deploys", later).await;
    assert!(status.is_success(), "{said}");
    assert_eq!(listed().await["outcome"], made["outcome"]);
    assert_ne!(listed().await["sentence"], "As it was answered last.");
}
