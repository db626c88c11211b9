//! Close-ups are asked for within bounds, are told, and are nobody's business where a service is closed.

use actix_web::http::StatusCode;
use chrono::{TimeDelta, Utc};
use outcrop_store::close_ups;
use rstest::rstest;
use serde_json::json;

use super::strangers::token_of;
use super::{answer, ask, bounds, logs, post};
use crate::notices;
use crate::state::State;

/// Sends a failure of `fares` and finds its error.
async fn failed(state: &State, token: &str, key: &str, berth: u8) -> String {
    let (status, _, _) = answer(
        state,
        post("/v1/logs", key, logs(&format!("berth {berth} is taken")).to_string()),
    )
    .await;
    assert_eq!(status, StatusCode::OK);
    let (_, list) = ask(state, Some(token), "GET /api/v1/errors", "").await;
    list["items"][0]["ref"].as_str().unwrap().to_owned()
}

#[tokio::test]
async fn the_next_occurrences_are_kept_and_who_asked_is_told() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let token = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let key = state.key("pier-9", bounds(None)).await;
    let error = failed(&state, &token, &key, 1).await;
    let new = json!({"error": error, "count": 1, "tell": true});
    let (status, begun) = ask(&state, Some(&token), "POST /api/v1/close-ups", new).await;
    assert_eq!((status, &begun["state"]), (StatusCode::OK, &json!("open")), "{begun}");
    assert!(
        begun["said"]
            .as_str()
            .unwrap()
            .starts_with("0 of 1 kept; 1 left, until ")
    );
    failed(&state, &token, &key, 2).await;
    let later = Utc::now() + TimeDelta::seconds(5);
    assert_eq!(close_ups::look(&state.database, later).await.unwrap(), 1);
    let path = format!("GET /api/v1/close-ups/{}", begun["id"]);
    let (_, shown) = ask(&state, Some(&token), &path, "").await;
    assert_eq!((&shown["said"], &shown["taken"]), (&json!("1 of 1 kept"), &json!(1)));
    assert_eq!(
        (&shown["occurrences"][0]["error"], &shown["occurrences"][0]["message"]),
        (&json!(error), &json!("berth 2 is taken"))
    );
    for told in [1, 0] {
        let count = notices::tell_of_close_ups(&state.database, &state.settings, Utc::now())
            .await
            .unwrap();
        assert_eq!(count, told, "once");
    }
    let (_, notices) = ask(&state, Some(&token), "POST /api/v1/notices/shown", "{}").await;
    let notice = &notices["items"][0];
    assert!(
        notice["subject"].as_str().unwrap().ends_with(": 1 of 1 kept"),
        "{notices}"
    );
    assert_eq!(notice["page"], json!(format!("/errors/{error}#close-ups")));
    let end = format!("DELETE /api/v1/close-ups/{}", begun["id"]);
    assert_eq!(ask(&state, Some(&token), &end, "").await.0, StatusCode::CONFLICT);
    let (_, list) = ask(
        &state,
        Some(&token),
        &format!("GET /api/v1/close-ups?error={error}"),
        "",
    )
    .await;
    assert_eq!(list["items"].as_array().unwrap().len(), 1);
}

#[rstest]
#[case(json!({}), "give either error or where")]
#[case(json!({"error": "kobal-tirun", "where": "uncaught"}), "give either error or where")]
#[case(json!({"where": "uncaught", "count": 0}), "count is 0")]
#[case(json!({"where": "uncaught", "count": 101}), "count is 101")]
#[case(json!({"where": "uncaught", "until": "2020-01-01T00:00:00Z"}), "until must be a time to come")]
#[case(json!({"where": "uncaught", "until": "2199-01-01T00:00:00Z"}), "within 7 days")]
#[case(json!({"where": "mine"}), "`mine` is of whoever asks")]
#[case(json!({"where": "message contains"}), "")]
#[case(json!({"error": "kobal-tirun"}), "there is no error")]
#[tokio::test]
async fn what_cannot_be_looked_for_is_refused(#[case] new: serde_json::Value, #[case] why: &str) {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let token = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let (status, said) = ask(&state, Some(&token), "POST /api/v1/close-ups", new).await;
    assert!(status.is_client_error(), "{said}");
    assert!(said["detail"].as_str().unwrap().contains(why), "{said}");
    let (status, _) = ask(&state, Some(&token), "DELETE /api/v1/close-ups/7", "").await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}
