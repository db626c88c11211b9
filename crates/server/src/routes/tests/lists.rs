//! The list of errors in each order, and what is counted over all of its pages.

use actix_web::http::StatusCode;
use serde_json::{Value, json};

use super::reading::{fleet, get, reference};
use super::{ask, bounds, post};
use crate::state::State;

/// Errors of several types, each once more often than the one before, by as many users.
async fn more(state: &State) {
    let key = state.key("pier-4", bounds(None)).await;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let begin = crate::clock::now().0 - 200_000_000_000;
    let record = |kind: i64, number: i64| {
        json!({
            "timeUnixNano": (begin + (kind * 10 + number) * 1_000_000).to_string(), "severityNumber": 17,
            "body": {"stringValue": "failed"},
            "attributes": [
                text("exception.type", &format!("Mooring{kind}Error")),
                text("exception.message", "line parted"),
                text("user.id", &format!("u-{number}")),
            ],
        })
    };
    let records: Vec<Value> = (1..=4)
        .flat_map(|kind| (0..kind).map(move |number| record(kind, number)))
        .collect();
    let resource = super::reading::resource("moorings", "1.0.0");
    let body = json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": records}]}]});
    let (status, _, said) = super::answer(state, post("/v1/logs", &key, body.to_string())).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));
}

#[expect(clippy::cast_precision_loss, reason = "times of this century, in microseconds")]
fn numbers(items: &[Value], field: &str) -> Vec<f64> {
    let number = |value: &Value| match value {
        Value::String(at) => at.parse::<chrono::DateTime<chrono::Utc>>().unwrap().timestamp_micros() as f64 / 1e6,
        Value::Null => -1.0,
        _ => value.as_f64().unwrap(),
    };
    items.iter().map(|item| number(item.pointer(field).unwrap())).collect()
}

#[tokio::test]
async fn a_list_comes_in_the_order_that_was_asked_for_over_all_of_its_pages() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    more(&state).await;
    for (order, field) in [
        ("attention", "/attention/score"),
        ("count", "/count"),
        ("users", "/users"),
        ("request_share", "/request_share"),
        ("first_seen", "/first_seen"),
        ("last_seen", "/last_seen"),
    ] {
        for up in ["", "%20up"] {
            let whole = get(&state, &token, &format!("/api/v1/errors?order={order}{up}")).await;
            let items = whole["items"].as_array().unwrap();
            let found = numbers(items, field);
            let mut sorted = found.clone();
            sorted.sort_by(|one, other| {
                if up.is_empty() {
                    other.total_cmp(one)
                } else {
                    one.total_cmp(other)
                }
            });
            assert_eq!(found, sorted, "{order}{up}");
            let (mut joined, mut next) = (vec![], String::new());
            loop {
                let path = format!("/api/v1/errors?order={order}{up}&limit=2{next}");
                let page = get(&state, &token, &path).await;
                joined.extend(page["items"].as_array().unwrap().clone());
                match page["next"].as_str() {
                    Some(cursor) => next = format!("&cursor={cursor}"),
                    None => break,
                }
            }
            let references = |items: &[Value]| items.iter().map(|item| item["ref"].clone()).collect::<Vec<_>>();
            assert_eq!(references(&joined), references(items), "{order}{up}");
        }
    }
}

#[tokio::test]
async fn parts_and_flags_are_counted_over_the_whole_list_and_what_is_handled_stays_last() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    more(&state).await;
    let most = reference(&state, &token, "Mooring4Error").await;
    let tomorrow = chrono::Utc::now() + chrono::TimeDelta::days(1);
    let quiet = json!({"errors": [most], "action": {"verb": "quiet", "until": tomorrow}});
    let (status, said) = ask(&state, Some(&token), "POST /api/v1/handling", quiet.to_string()).await;
    assert_eq!(status, StatusCode::OK, "{said}");
    for order in ["attention", "count", "users%20up"] {
        let page = get(
            &state,
            &token,
            &format!("/api/v1/errors?by_part=true&limit=2&order={order}"),
        )
        .await;
        let whole = get(&state, &token, &format!("/api/v1/errors?order={order}")).await;
        let items = whole["items"].as_array().unwrap();
        assert_eq!(items.last().unwrap()["ref"], most, "{order}");
        let of = |part: &str| items.iter().filter(|item| item["part"] == part).count();
        let parts: Value = ["from_deploy", "rising", "known", "handled"]
            .into_iter()
            .map(|part| (part.to_owned(), json!(of(part))))
            .collect::<serde_json::Map<_, _>>()
            .into();
        assert_eq!((&page["parts"], &page["handled"]), (&parts, &json!(1)), "{order}");
        assert_eq!(page["flagged"], json!({"new": 0, "surging": 0, "returned": 0}));
    }
}

#[tokio::test]
async fn an_unknown_order_and_a_cursor_of_another_order_are_refused() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let page = get(&state, &token, "/api/v1/errors?limit=1&order=count").await;
    let cursor = page["next"].as_str().unwrap();
    for (query, part) in [
        ("order=age".to_owned(), "order must be one of attention, count"),
        (
            format!("order=users&cursor={cursor}"),
            "the cursor is none of this list",
        ),
        (format!("cursor={cursor}"), "the cursor is none of this list"),
    ] {
        let call = format!("GET /api/v1/errors?{query}");
        let (status, said) = ask(&state, Some(&token), &call, String::new()).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{query}: {said}");
        assert!(said.to_string().contains(part), "{query}: {said}");
    }
}

#[tokio::test]
async fn occurrences_are_counted_in_their_window_and_show_what_is_asked_of_each() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    more(&state).await;
    let error = reference(&state, &token, "Mooring4Error").await;
    let path = format!("/api/v1/errors/{error}/occurrences");
    let page = get(
        &state,
        &token,
        &format!("{path}?limit=2&since=1h&columns=user,service.name,type"),
    )
    .await;
    assert_eq!(
        (&page["total"], page["items"].as_array().unwrap().len()),
        (&json!(4), 2)
    );
    assert_eq!(page["items"][0]["instance"], "moorings-a");
    assert_eq!(page["items"][0]["values"], json!(["u-3", "moorings", "Mooring4Error"]));
    let narrowed = get(&state, &token, &format!("{path}?where=user%20%3D%20u-1")).await;
    assert_eq!(
        (&narrowed["total"], &narrowed["items"][0]["user"]),
        (&json!(1), &json!("u-1"))
    );
    for (query, part) in [
        ("columns=attention", "an occurrence has no `attention`"),
        ("columns=a,b,c,d,e,f,g,h,i", "columns: 8 at most"),
        ("since=1h&from=2026-11-30T00:00:00Z", "give since or from, not both"),
    ] {
        let call = format!("GET {path}?{query}");
        let (status, said) = ask(&state, Some(&token), &call, String::new()).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{query}: {said}");
        assert!(said.to_string().contains(part), "{query}: {said}");
    }
}

#[tokio::test]
async fn records_are_taken_out_as_json_lines_and_only_by_what_they_have() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    more(&state).await;
    let taken = async |call: &str| {
        let request = actix_web::test::TestRequest::get()
            .uri(&format!("/api/v1/export/{call}"))
            .insert_header((actix_web::http::header::AUTHORIZATION, format!("Bearer {token}")));
        super::text(&state, request).await
    };
    let (status, text) = taken("occurrences?since=1h&where=type%20like%20%22Mooring*%22").await;
    assert_eq!((status, text.lines().count()), (StatusCode::OK, 10), "{text}");
    let last: Value = serde_json::from_str(text.lines().last().unwrap()).unwrap();
    let (_, rest) = taken(&format!("occurrences?since=1h&after={}", last["id"].as_str().unwrap())).await;
    assert!(!rest.contains("Mooring4Error"), "{rest}");
    let (_, lines) = taken("lines?since=1h&where=severity%20%3E%3D%20error").await;
    assert!(lines.contains("no tariff for season high"), "{lines}");
    for (call, status, part) in [
        ("spans", StatusCode::NOT_FOUND, "occurrences, requests and lines"),
        (
            "lines?where=uncaught",
            StatusCode::BAD_REQUEST,
            "lines have no `uncaught`",
        ),
        ("lines?after=7", StatusCode::BAD_REQUEST, "32 hex digits"),
    ] {
        let (found, said) = taken(call).await;
        assert_eq!(found, status, "{call}: {said}");
        assert!(said.contains(part), "{call}: {said}");
    }
}

#[tokio::test]
async fn views_are_shared_and_changed_by_their_owner_or_removed_by_an_admin() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let purser = super::strangers::token_of(&state, "purser@skerry.example", "viewer", false).await;
    let mate = super::strangers::token_of(&state, "mate@skerry.example", "engineer", false).await;
    let admin = super::strangers::token_of(&state, "harbour@skerry.example", "admin", false).await;
    let put = async |token: &str, address: &str| {
        let sent = json!({ "address": address }).to_string();
        ask(&state, Some(token), "PUT /api/v1/views/night%20watch", sent)
            .await
            .0
    };
    assert_eq!(put(&purser, "/errors?where=mine").await, StatusCode::NO_CONTENT);
    assert_eq!(put(&purser, "/errors?order=users").await, StatusCode::NO_CONTENT);
    assert_eq!(put(&mate, "/now").await, StatusCode::CONFLICT);
    assert_eq!(put(&mate, "https://elsewhere.example/").await, StatusCode::BAD_REQUEST);
    let list = get(&state, &mate, "/api/v1/views").await;
    assert_eq!(list["items"][0]["address"], "/errors?order=users");
    let remove = async |token: &str| {
        let call = "DELETE /api/v1/views/night%20watch";
        ask(&state, Some(token), call, String::new()).await.0
    };
    assert_eq!(remove(&mate).await, StatusCode::NOT_FOUND);
    assert_eq!(remove(&admin).await, StatusCode::NO_CONTENT);
    assert_eq!(get(&state, &mate, "/api/v1/views").await, json!({"items": []}));
}

#[tokio::test]
async fn what_lines_share_is_told_with_a_predicate_and_without_what_was_asked() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let key = state.key("pier-5", bounds(None)).await;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let begin = crate::clock::now().0 - 100_000_000_000;
    let records: Vec<Value> = (0..12)
        .map(|number: i64| {
            json!({
                "timeUnixNano": (begin + number * 1_000_000).to_string(), "severityNumber": 13,
                "body": {"stringValue": format!("gate {number} is shut")},
                "attributes": [text("berth", "7"), text("season", "winter")],
            })
        })
        .collect();
    let resource = super::reading::resource("fares", "2.4.0");
    let body = json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": records}]}]});
    assert_eq!(
        super::answer(&state, post("/v1/logs", &key, body.to_string())).await.0,
        StatusCode::OK
    );
    let shared = get(&state, &token, "/api/v1/logs/stands-out?text=SHUT").await;
    assert_eq!(shared["lines"], 12);
    let first = &shared["stands_out"][0];
    assert!(first["sentence"].as_str().unwrap().starts_with("all with "), "{shared}");
    assert!(first["where"].as_str().unwrap().contains(" = "), "{shared}");
    let asked = get(&state, &token, "/api/v1/logs/stands-out?where=berth%20%3D%207").await;
    assert!(!asked["stands_out"].to_string().contains("berth"), "{asked}");
    for query in ["severity=loud", "limit=5", "against=7d"] {
        let call = format!("GET /api/v1/logs/stands-out?{query}");
        let (status, said) = ask(&state, Some(&token), &call, String::new()).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{query}: {said}");
    }
}
