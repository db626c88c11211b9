//! Questions, as they are asked and completed over the API.

use actix_web::http::StatusCode;
use serde_json::{Value, json};

use super::ask;
use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::state::State;

fn asked(question: &str, more: &str) -> String {
    let question = percent_encoding::utf8_percent_encode(question, percent_encoding::NON_ALPHANUMERIC);
    format!("/api/v1/ask?question={question}{more}")
}

#[tokio::test]
async fn a_question_is_answered_over_its_own_window_or_the_pages_and_each_row_leads_to_its_records() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (state, token) = (&state, &fleet(&state).await);
    let answer = async |question: &str, more: &str| get(state, token, &asked(question, more)).await;
    let by_type = answer("count, users of occurrences by type, service", "").await;
    assert_eq!(
        by_type["columns"],
        json!([
            {"name": "type", "kind": "key"}, {"name": "service", "kind": "key"},
            {"name": "count", "kind": "count"}, {"name": "users", "kind": "count"}
        ])
    );
    let row = &by_type["rows"][0];
    assert_eq!(
        (&row["keys"], &row["values"][0]),
        (&json!(["ZeroDivisionError", "fares"]), &json!(5))
    );
    // What the row leads to are the records that it counts.
    let narrowed = row["where"].as_str().unwrap();
    let within = answer(&format!("count of occurrences where {narrowed}"), "").await;
    assert_eq!(within["total"]["values"], json!([5]));
    let error = reference(state, token, "ZeroDivisionError").await;
    let by_error = answer("count of occurrences by error where type = ZeroDivisionError", "").await;
    assert_eq!(by_error["rows"][0]["keys"], json!([error]));

    let over = async |question: &str, more: &str| answer(question, more).await["total"]["values"][0].clone();
    assert_eq!(over("count of occurrences", "&service=berths").await, json!(0));
    assert_eq!(
        over("count of occurrences", "&since=1m").await,
        json!(0),
        "the page's window"
    );
    assert_ne!(
        over("count of occurrences over 24h", "&since=1m").await,
        json!(0),
        "its own"
    );
    let lines = answer("count of lines by severity, template each 1m over 30m", "").await;
    // From a whole minute on, so that the first and the last are parts.
    assert_eq!(lines["total"]["steps"].as_array().unwrap().len(), 31);
    assert!(lines["from"].as_str().unwrap().ends_with(":00Z"), "{lines}");
    assert_eq!(lines["parts"]["each"], json!("1m"));
    let against = answer("count of occurrences against before", "").await;
    assert_eq!(against["rows"][0]["before"], json!([0]), "{against}");
}

#[tokio::test]
async fn a_text_that_is_no_question_is_refused_with_its_place_and_too_many_steps_are_too() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let refused = async |question: &str, more: &str| {
        let (status, said) = ask(&state, Some(&token), &format!("GET {}", asked(question, more)), "").await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
        said
    };
    let said = refused("count of occurences by type", "").await;
    assert_eq!(
        (&said["code"], &said["at"], &said["length"]),
        (&json!("bad_question"), &json!(9), &json!(10))
    );
    let said = refused("ö", "").await;
    assert_eq!((&said["at"], &said["length"]), (&json!(0), &json!(1)), "in characters");
    let said = refused("count of occurrences each 5m", "&since=30d").await;
    assert!(
        said["detail"].as_str().unwrap().contains("such steps, and 750"),
        "{said}"
    );
    refused("count of occurrences", "&since=1h&from=2026-11-29T00:00:00Z").await;
    refused("count of occurrences", "&limit=5").await;
}

#[tokio::test]
async fn a_question_that_is_being_written_is_offered_words_fields_attributes_and_values() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (state, token) = (&state, &fleet(&state).await);
    let offers = async |text: &str| -> (Vec<String>, Value) {
        let text = percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC);
        let said = get(state, token, &format!("/api/v1/ask/complete?text={text}")).await;
        let words = said["offers"].as_array().unwrap().iter();
        (
            words.map(|word| word.as_str().unwrap().to_owned()).collect(),
            said["mistake"].clone(),
        )
    };
    assert!(offers("").await.0.contains(&"count".to_owned()));
    assert_eq!(offers("").await.1, Value::Null, "nothing is no mistake yet");
    assert_eq!(offers("count of l").await.0, ["lines"]);
    let fields = offers("count of occurrences by ").await.0;
    assert!(fields.contains(&"service".to_owned()), "{fields:?}");
    let attributes = offers("count of occurrences by http.").await.0;
    assert!(attributes.iter().any(|name| name == "http.route"), "{attributes:?}");
    let values = offers("count of occurrences where service = f").await.0;
    assert!(values.iter().any(|value| value.contains("fares")), "{values:?}");
    let (_, mistake) = offers("count of occurrences bye").await;
    assert!(
        mistake["message"].as_str().unwrap().contains("did you mean `by`?"),
        "{mistake}"
    );
}

#[tokio::test]
async fn a_question_is_saved_under_a_name_and_nobody_writes_over_it() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let purser = token_of(&state, "purser@skerry.example", "engineer", false).await;
    let mate = token_of(&state, "mate@skerry.example", "viewer", false).await;
    let path = "/api/v1/questions/Errors%20by%20type";
    let put = async |token: &str, sent: Value| ask(&state, Some(token), &format!("PUT {path}"), sent).await;
    let text = "COUNT of occurrences over 7d by type";
    let (status, saved) = put(&mate, json!({"question": text, "description": "of the week"})).await;
    assert_eq!(
        (status, &saved["question"], &saved["owner"], &saved["version"]),
        (
            StatusCode::OK,
            &json!("count of occurrences by type over 7d"),
            &json!("mate@skerry.example"),
            &json!(1)
        )
    );
    let changed = json!({"question": "count of lines", "version": 1});
    let (status, said) = put(&purser, changed.clone()).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(
        said["detail"].as_str().unwrap().contains("mate@skerry.example"),
        "{said}"
    );
    let (status, saved) = put(&mate, changed.clone()).await;
    assert_eq!((status, &saved["before"][0]["version"]), (StatusCode::OK, &json!(1)));
    assert_eq!(
        put(&mate, changed).await.0,
        StatusCode::CONFLICT,
        "as it was seen before"
    );
    for refused in [
        json!({"question": "count of nothing"}),
        json!({"question": "count of occurrences where mine"}),
        json!({"question": "count of lines", "description": "x".repeat(1_001)}),
    ] {
        assert_eq!(
            put(&mate, refused.clone()).await.0,
            StatusCode::BAD_REQUEST,
            "{refused}"
        );
    }
    let list = get(&state, &purser, "/api/v1/questions").await;
    assert_eq!(list["items"][0]["name"], "Errors by type");
    let remove = async |token: &str| ask(&state, Some(token), &format!("DELETE {path}"), "").await.0;
    assert_eq!(remove(&purser).await, StatusCode::NOT_FOUND, "another's");
    assert_eq!(remove(&mate).await, StatusCode::NO_CONTENT);
    let (status, _) = ask(&state, Some(&mate), &format!("GET {path}"), "").await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}
