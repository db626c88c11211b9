//! Sheets, as they are saved, shown and made over the API.

use actix_web::http::StatusCode;
use serde_json::{Value, json};

use super::ask;
use super::reading::get;
use super::strangers::token_of;
use crate::state::State;

#[tokio::test]
async fn a_sheet_is_saved_shown_with_what_its_questions_are_now_and_changed_by_its_owner() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let purser = token_of(&state, "purser@skerry.example", "engineer", false).await;
    let mate = token_of(&state, "mate@skerry.example", "viewer", false).await;
    let call = async |token: &str, call: &str, sent: Value| ask(&state, Some(token), call, sent).await;
    let put = async |token: &str, sent: Value| call(token, "PUT /api/v1/sheets/Night%20watch", sent).await;
    call(
        &mate,
        "PUT /api/v1/questions/by%20type",
        json!({"question": "count of occurrences by type"}),
    )
    .await;
    let parts = json!([
        {"title": "What to do", "text": "Ask the harbour first.", "width": "whole"},
        {"question": "COUNT of lines by severity"},
        {"saved": "by type", "width": "third"},
        {"saved": "no such"},
    ]);
    let document = json!({"about": "for the night", "service": "fares", "over": "7d", "parts": parts});
    let (status, saved) = put(&mate, json!({"document": document})).await;
    assert_eq!(
        (status, &saved["owner"]),
        (StatusCode::OK, &json!("mate@skerry.example")),
        "{saved}"
    );
    let questions = json!([null, "count of lines by severity", "count of occurrences by type", null]);
    assert_eq!(saved["questions"], questions);
    assert_eq!(get(&state, &purser, "/api/v1/sheets/Night%20watch").await, saved);
    // What is shown is what can be saved again, under another name.
    let (status, copy) = call(
        &purser,
        "PUT /api/v1/sheets/copy",
        json!({"document": saved["document"]}),
    )
    .await;
    assert_eq!((status, &copy["document"]), (StatusCode::OK, &saved["document"]));
    let list = get(&state, &purser, "/api/v1/sheets").await;
    assert_eq!(
        (
            &list["items"][1]["name"],
            &list["items"][1]["parts"],
            &list["items"][1]["about"]
        ),
        (&json!("Night watch"), &json!(4), &json!("for the night"))
    );
    let empty = |version: i32| json!({"document": {"parts": []}, "version": version});
    assert_eq!(put(&purser, empty(1)).await.0, StatusCode::CONFLICT, "another's");
    assert_eq!(put(&mate, empty(1)).await.0, StatusCode::OK);
    assert_eq!(
        put(&mate, empty(1)).await.0,
        StatusCode::CONFLICT,
        "as it was seen before"
    );
    for (wrong, said) in [
        (
            json!({"parts": [{"question": "count of occurences"}]}),
            "did you mean `occurrences`",
        ),
        (
            json!({"parts": [{"question": "count of lines", "text": "a"}]}),
            "part 1",
        ),
        (json!({"parts": [], "over": "a week"}), "since is `a week`"),
        (json!({"parts": [], "colour": "red"}), "colour"),
    ] {
        let (status, answer) = put(&mate, json!({"document": wrong, "version": 2})).await;
        let detail = answer["detail"].as_str().unwrap_or_default();
        assert!(status == StatusCode::BAD_REQUEST && detail.contains(said), "{answer}");
    }
    let remove = async |token: &str| {
        ask(&state, Some(token), "DELETE /api/v1/sheets/Night%20watch", "")
            .await
            .0
    };
    assert_eq!(remove(&purser).await, StatusCode::NOT_FOUND, "another's");
    assert_eq!(remove(&mate).await, StatusCode::NO_CONTENT);
}

#[tokio::test]
async fn each_service_and_each_deploy_has_a_sheet_whose_questions_are_answered() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = super::reading::fleet(&state).await;
    for path in [
        "/api/v1/made-sheet?service=fares",
        "/api/v1/made-sheet?service=fares&version=2.4.0",
    ] {
        let sheet = get(&state, &token, path).await;
        assert_eq!(
            (&sheet["document"]["service"], &sheet["version"]),
            (&json!("fares"), &json!(0))
        );
        for question in sheet["questions"].as_array().unwrap() {
            let text = question.as_str().unwrap();
            let text = percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC);
            get(&state, &token, &format!("/api/v1/ask?service=fares&question={text}")).await;
        }
    }
    let (status, _) = ask(&state, Some(&token), "GET /api/v1/made-sheet?service=", "").await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
}
