//! Tickets over the API, made in the demo's stand-in for a tracker.

use actix_web::http::StatusCode;
use chrono::{TimeDelta, Utc};
use outcrop_demo::{TRACKER_SECRET, tracker};
use serde_json::{Value, json};
use tokio_util::sync::CancellationToken;

use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::answers::tickets;
use crate::outbound::Allowed;
use crate::state::State;

async fn ask(state: &State, token: &str, route: &str, sent: Value) -> (StatusCode, Value) {
    super::ask(state, Some(token), &route.replacen(' ', " /api/v1", 1), sent).await
}

/// A tracker of its own, and how tickets are made there.
fn stand_in() -> (String, Value, tokio_util::sync::DropGuard) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let host = listener.local_addr().unwrap().to_string();
    let stop = CancellationToken::new();
    tokio::spawn(tracker(listener, stop.clone()));
    let setting = json!({
        "address": format!("http://{host}/tickets"),
        "headers": [{"name": "authorization", "value": format!("Bearer {TRACKER_SECRET}")}],
        "body": {"title": "{title} in {service}", "text": "{sentence}\n{frames}\n{evidence}\n{counts}\n{link}"},
        "id": "/id",
        "link": "/url",
        "state_address": format!("http://{host}/tickets/{{id}}"),
        "state": "/state",
    });
    (host, setting, stop.drop_guard())
}

#[tokio::test]
async fn a_ticket_is_tried_made_once_and_its_state_read_again() {
    let (host, setting, _stop) = stand_in();
    let (state, _supervisor, _closing) = State::for_tests(|settings| {
        settings.public_url = Some("https://errors.skerry.example".to_owned());
        settings.outbound = Allowed {
            hosts: vec![host.clone()],
            private: true,
        };
    })
    .await;
    let engineer = fleet(&state).await;
    let admin = token_of(&state, "master@skerry.example", "admin", false).await;
    let error = reference(&state, &engineer, "ZeroDivisionError").await;
    let make = format!("POST /errors/{error}/ticket");
    let (status, said) = ask(&state, &engineer, &make, json!({})).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    assert!(
        said["detail"].as_str().unwrap().contains("nobody has said how"),
        "{said}"
    );

    let trial = json!({"tracker": setting, "ref": error});
    let (status, tried) = ask(&state, &admin, "POST /tracker/try", trial).await;
    assert_eq!(status, StatusCode::OK, "{tried}");
    let text = tried["body"]["text"].as_str().unwrap();
    for part in [
        "12 % of its requests fail, since fares 2.4.0: ZeroDivisionError",
        "app/tariff.py:92",
        "5 occurrences of 3 users",
        &format!("https://errors.skerry.example/errors/{error}"),
    ] {
        assert!(text.contains(part), "{part} stands in {text}");
    }
    let (status, said) = ask(&state, &admin, "PUT /tracker", setting).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    let shown = get(&state, &engineer, "/api/v1/tracker").await;
    assert_eq!(
        (&shown["is_set"], &shown["tracker"]),
        (&json!(true), &Value::Null),
        "headers are for admins"
    );

    let tries = (0..4).map(|_| ask(&state, &engineer, &make, json!({})));
    let answers = futures_util::future::join_all(tries).await;
    let made: Vec<_> = answers.iter().filter(|(status, _)| *status == StatusCode::OK).collect();
    assert_eq!(made.len(), 1, "{answers:?}");
    let link = made[0].1["link"].as_str().unwrap();
    assert_eq!(link, format!("http://{host}/tickets/1"));
    let handling = format!("/api/v1/errors/{error}/handling");
    assert_eq!(get(&state, &engineer, &handling).await["ticket"]["state"], Value::Null);
    let later = Utc::now() + TimeDelta::minutes(6);
    assert_eq!(tickets::look(&state.database, &state.settings, later).await.unwrap(), 1);
    assert_eq!(get(&state, &engineer, &handling).await["ticket"]["state"], "waiting");
    assert_eq!(ask(&state, &engineer, &make, json!({})).await.0, StatusCode::CONFLICT);

    let link = format!("PUT /errors/{error}/ticket");
    let (status, _) = ask(&state, &engineer, &link, json!({"link": "javascript:alert(1)"})).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    let (_, linked) = ask(
        &state,
        &engineer,
        &link,
        json!({"link": "https://wiki.skerry.example/7"}),
    )
    .await;
    assert_eq!(
        (&linked["id"], &linked["by"]),
        (&json!(""), &json!("purser@skerry.example"))
    );
    let leave = format!("DELETE /errors/{error}/ticket");
    assert_eq!(
        ask(&state, &engineer, &leave, json!({})).await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(ask(&state, &engineer, &leave, json!({})).await.0, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn a_tracker_that_refuses_or_is_elsewhere_leaves_no_ticket_and_says_why() {
    let (host, setting, _stop) = stand_in();
    let (state, _supervisor, _closing) = State::for_tests(|settings| {
        settings.outbound = Allowed {
            hosts: vec![host.clone(), "127.0.0.1:9".to_owned()],
            private: true,
        };
    })
    .await;
    let engineer = fleet(&state).await;
    let admin = token_of(&state, "master@skerry.example", "admin", false).await;
    let error = reference(&state, &engineer, "ZeroDivisionError").await;
    let with = |name: &str, value: Value| {
        let mut setting = setting.clone();
        setting[name] = value;
        setting
    };
    for (name, value) in [
        ("address", json!("http://169.254.169.254/latest/meta-data")),
        ("address", json!("http://localhost:5432/")),
        ("state_address", json!("http://{id}/")),
        ("body", json!({"title": "{tilte}"})),
    ] {
        let (status, said) = ask(&state, &admin, "PUT /tracker", with(name, value)).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{said}");
    }
    for (expected, name, value, why) in [
        (
            StatusCode::BAD_GATEWAY,
            "headers",
            json!([]),
            "answered 401: the secret is wrong",
        ),
        (
            StatusCode::BAD_GATEWAY,
            "address",
            json!("http://127.0.0.1:9/tickets"),
            "127.0.0.1 did not answer",
        ),
        (
            StatusCode::BAD_GATEWAY,
            "id",
            json!("/key"),
            "the answer holds nothing at /key",
        ),
        (
            StatusCode::BAD_REQUEST,
            "headers",
            json!([{"name": "authorization", "value": "x\r\ny: z"}]),
            "the header `authorization` cannot be sent",
        ),
    ] {
        let (status, said) = ask(&state, &admin, "PUT /tracker", with(name, value)).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
        let (status, said) = ask(&state, &engineer, &format!("POST /errors/{error}/ticket"), json!({})).await;
        assert_eq!(status, expected, "{said}");
        assert!(said["detail"].as_str().unwrap().contains(why), "{said}");
        let handling = get(&state, &engineer, &format!("/api/v1/errors/{error}/handling")).await;
        assert_eq!(handling["ticket"], Value::Null);
    }
}
