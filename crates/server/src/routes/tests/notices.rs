//! Notices from what happened to what arrives, over the API and the stand-ins for a mail server and a chat.

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::StatusCode;
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::notice::{Event, EventKind};
use outcrop_demo::{Letter, Post, TRACKER_SECRET, tracker};
use outcrop_store::notices::events::{self, NewEvent};
use outcrop_store::{from_utc, ids};
use serde_json::{Value, json};
use tokio_util::sync::{CancellationToken, DropGuard};

use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::notices::Desk;
use crate::outbound::Allowed;
use crate::settings::Mail;
use crate::state::State;
use crate::supervision::Supervisor;

pub(super) async fn ask(state: &State, token: &str, route: &str, sent: Value) -> (StatusCode, Value) {
    super::ask(state, Some(token), &route.replacen(' ', " /api/v1", 1), sent).await
}

pub(super) async fn asked(state: &State, token: &str, route: &str, sent: Value) -> Value {
    let (status, said) = ask(state, token, route, sent).await;
    assert!(status.is_success(), "{route}: {said}");
    said
}

/// A service with a fleet's errors, and stand-ins that take what it sends.
pub(super) struct Office {
    pub(super) state: State,
    desk: Desk,
    pub(super) post: Post,
    /// Where chats and webhooks are posted to.
    pub(super) host: String,
    pub(super) engineer: String,
    pub(super) admin: String,
    /// The fleet's error, and what is known of it.
    error: String,
    _running: (Supervisor, crate::intake::Closing, DropGuard),
}

pub(super) const MATE: &str = "mate@skerry.example";

impl Office {
    pub(super) async fn open() -> Self {
        let (mail, receiver) = (listener(), listener());
        let (server, host) = (mail.local_addr().unwrap(), receiver.local_addr().unwrap().to_string());
        let (post, stop) = (Post::default(), CancellationToken::new());
        tokio::spawn(post.clone().take_mail(mail, stop.clone()));
        tokio::spawn(post.clone().receive(receiver, stop.clone()));
        let (state, supervisor, closing) = State::for_tests(|settings| {
            settings.public_url = Some("https://errors.skerry.example".to_owned());
            settings.outbound = Allowed {
                hosts: vec!["127.0.0.1".to_owned()],
                private: true,
            };
            settings.mail = Some(Mail {
                server: format!("smtp://{server}"),
                from: "Outcrop <outcrop@skerry.example>".to_owned(),
            });
        })
        .await;
        let reader = fleet(&state).await;
        let error = reference(&state, &reader, "ZeroDivisionError").await;
        Self {
            engineer: token_of(&state, MATE, "engineer", false).await,
            admin: token_of(&state, "master@skerry.example", "admin", false).await,
            desk: Desk::default(),
            state,
            post,
            host,
            error,
            _running: (supervisor, closing, stop.drop_guard()),
        }
    }

    /// That the error became new, or something else happened to it.
    pub(super) async fn happens(&self, kind: EventKind, key: &str, at: DateTime<Utc>) {
        let error = self.error.parse().unwrap();
        let event = NewEvent {
            key: key.to_owned(),
            service_id: None,
            environment_id: None,
            error_id: Some(ids::number(error)),
            is_late: false,
            event: Event {
                error: Some(error),
                version: "2.4.0".to_owned(),
                title: "ZeroDivisionError: division by zero".to_owned(),
                evidence: "never seen before in production".to_owned(),
                ..Event::of("fares", "production", kind, from_utc(at))
            },
        };
        assert_eq!(events::note(&self.state.database, &[event]).await.unwrap(), 1);
    }

    pub(super) async fn plan(&self, at: DateTime<Utc>) -> usize {
        self.desk
            .plan(&self.state.database, &self.state.settings, at)
            .await
            .unwrap()
    }

    /// Sends what is due, and waits for what comes of it.
    pub(super) async fn send(&self) -> Value {
        let settings = Arc::new(self.state.settings.clone());
        self.desk
            .send(&self.state.database, &settings, Utc::now())
            .await
            .unwrap();
        for _ in 0..200 {
            let all = get(&self.state, &self.engineer, "/api/v1/notices").await;
            let is_done =
                |notice: &Value| notice["state"] != "waiting" || notice["answer"] != "" || notice["way"] == "browser";
            if all["items"].as_array().unwrap().iter().all(is_done) {
                return all;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("notices are on their way for ever");
    }

    pub(super) async fn rule(&self, parts: Value) -> Value {
        let mut rule = json!({"name": "Fares", "when": ["new"], "tell": [MATE], "by": ["mail"], "is_on": true});
        for (name, part) in parts.as_object().unwrap() {
            rule[name] = part.clone();
        }
        asked(&self.state, &self.engineer, "POST /notice-rules", rule).await
    }

    /// The rules that an installation begins with are taken away: a test makes its own.
    pub(super) async fn without_rules(self) -> Self {
        let list = get(&self.state, &self.engineer, "/api/v1/notice-rules").await;
        for rule in list["items"].as_array().unwrap() {
            let remove = format!("DELETE /notice-rules/{}", rule["id"]);
            assert_eq!(
                ask(&self.state, &self.engineer, &remove, json!({})).await.0,
                StatusCode::NO_CONTENT
            );
        }
        self
    }
}

fn listener() -> std::net::TcpListener {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap()
}

/// The secret behind a link's `#`, of a letter.
fn link(letter: &Letter, label: &str) -> String {
    let line = letter.text.lines().find(|line| line.starts_with(label)).unwrap();
    line.rsplit_once('#').unwrap().1.trim().to_owned()
}

#[tokio::test]
async fn a_new_error_is_mailed_once_and_taken_by_the_mails_link() {
    let office = Office::open().await.without_rules().await;
    let Office { state, engineer, .. } = &office;
    let made = office
        .rule(json!({"text": "Look at the tariffs.", "where": "service = fares"}))
        .await;
    assert_eq!(
        made["sentence"],
        "When an error becomes new where service = fares, tell mate@skerry.example by mail."
    );
    assert_eq!(made["troubles"], json!([]));
    let at = Utc::now();
    office.happens(EventKind::New, "flag 1", at).await;
    assert_eq!((office.plan(at).await, office.plan(at).await), (1, 0));
    let record = office.send().await;
    let sent = &record["items"][0];
    assert_eq!(
        (
            sent["state"].as_str(),
            sent["to"].as_str(),
            sent["references"][0].as_str()
        ),
        (Some("sent"), Some(MATE), Some(office.error.as_str()))
    );
    assert!(sent["answer"].as_str().unwrap().starts_with("250"), "{sent}");
    let letters = office.post.letters();
    assert_eq!((letters.len(), letters[0].to.as_slice()), (1, &[MATE.to_owned()][..]));
    assert_eq!(
        letters[0].subject,
        "New in fares 2.4.0, production: ZeroDivisionError: division by zero"
    );
    assert!(letters[0].text.contains("Look at the tariffs."), "{}", letters[0].text);

    let take = json!({"link": link(&letters[0], "Take:")});
    let would = super::ask(state, None, "POST /api/v1/notice-link", &take).await;
    assert_eq!(
        would.1["sentence"],
        format!("{MATE} takes {}.", office.error),
        "{}",
        would.1
    );
    assert_eq!(would.1["handling"], "open, not taken");
    let handling = format!("/api/v1/errors/{}/handling", office.error);
    assert_eq!(
        get(state, engineer, &handling).await["taken_by"],
        Value::Null,
        "it only says what it would do"
    );
    assert_eq!(
        super::ask(state, None, "POST /api/v1/notice-link/act", &take).await.0,
        StatusCode::OK
    );
    assert_eq!(get(state, engineer, &handling).await["taken_by"], MATE);
    let quiet = json!({"link": link(&letters[0], "Quiet for 24 h:")});
    assert_eq!(
        super::ask(state, None, "POST /api/v1/notice-link/act", &quiet).await.0,
        StatusCode::OK
    );
    assert!(get(state, engineer, &handling).await["quiet_until"].is_string());
    // A link that was changed, and one of somebody who is gone.
    let forged = json!({"link": format!("{}x", take["link"].as_str().unwrap())});
    assert_eq!(
        super::ask(state, None, "POST /api/v1/notice-link/act", &forged).await.0,
        StatusCode::NOT_FOUND
    );
    let remove = format!("DELETE /members/{MATE}");
    assert_eq!(
        ask(state, &office.admin, &remove, json!({})).await.0,
        StatusCode::NO_CONTENT
    );
    let gone = super::ask(state, None, "POST /api/v1/notice-link", &take).await;
    assert_eq!(gone.0, StatusCode::NOT_FOUND);
    assert!(
        gone.1["detail"].as_str().unwrap().contains("may do nothing"),
        "{}",
        gone.1
    );
}

#[tokio::test]
async fn a_flag_that_is_taken_back_is_told_to_whoever_was_told() {
    let office = Office::open().await.without_rules().await;
    let way = json!({"kind": "chat", "address": format!("http://{}/rooms/ops", office.host)});
    assert_eq!(
        ask(&office.state, &office.admin, "PUT /notice-ways/ops-room", way)
            .await
            .0,
        StatusCode::NO_CONTENT
    );
    office.rule(json!({"by": ["ops-room"], "tell": []})).await;
    let at = Utc::now() - TimeDelta::minutes(10);
    office.happens(EventKind::New, "flag 1", at).await;
    assert_eq!(office.plan(at).await, 1);
    let id = events::of_keys(&office.state.database, &["flag 1".to_owned()])
        .await
        .unwrap()["flag 1"];
    let later = at + TimeDelta::minutes(5);
    let back = NewEvent {
        key: "flag 1 taken-back".to_owned(),
        service_id: None,
        environment_id: None,
        error_id: None,
        is_late: false,
        event: Event {
            of: Some(id),
            title: "ZeroDivisionError".to_owned(),
            ..Event::of("fares", "production", EventKind::TakenBack, from_utc(later))
        },
    };
    events::note(&office.state.database, &[back]).await.unwrap();
    assert_eq!(office.plan(later).await, 1);
    office.send().await;
    let mut subjects: Vec<String> = office.post.letters().into_iter().map(|letter| letter.subject).collect();
    subjects.sort();
    assert_eq!(
        subjects,
        [
            "New in fares 2.4.0, production: ZeroDivisionError: division by zero",
            "Taken back in fares, production: ZeroDivisionError"
        ]
    );
}

#[tokio::test]
async fn what_a_trial_says_is_what_is_then_sent() {
    let office = Office::open().await.without_rules().await;
    let rule = json!({"name": "Fares", "when": ["new", "surging"], "tell": [MATE], "by": ["mail"],
        "at_most_every_minutes": 30});
    let start = Utc::now() - TimeDelta::minutes(200);
    let at = |minutes: i64| start + TimeDelta::minutes(minutes);
    for (number, (kind, minutes)) in [
        (EventKind::New, 0),
        (EventKind::Surging, 10),
        (EventKind::Surging, 50),
        (EventKind::Returned, 60),
        (EventKind::New, 150),
    ]
    .into_iter()
    .enumerate()
    {
        office.happens(kind, &format!("flag {number}"), at(minutes)).await;
    }
    let tried = asked(
        &office.state,
        &office.engineer,
        "POST /notice-rules/try",
        json!({"rule": rule}),
    )
    .await;
    assert_eq!(tried["events"], 5);
    office
        .rule(json!({"when": ["new", "surging"], "at_most_every_minutes": 30}))
        .await;
    office.plan(Utc::now()).await;
    let record = office.send().await;
    let told = |list: &Value| -> Vec<(String, String)> {
        let items = list["items"].as_array().unwrap().iter();
        items
            .map(|item| (item["subject"].to_string(), item["to"].to_string()))
            .collect()
    };
    assert_eq!(told(&tried), told(&record));
    assert_eq!(tried["count"], 3, "{tried}");
    assert!(
        tried["answer"]
            .as_str()
            .unwrap()
            .starts_with("Would have sent 3 notices since 20"),
        "{tried}"
    );
    let mut wishes = get(&office.state, &office.engineer, "/api/v1/notice-wishes").await;
    wishes["pace"] = json!("daily");
    asked(&office.state, &office.engineer, "PUT /notice-wishes", wishes).await;
    let route = "POST /notice-rules/try";
    let daily = asked(&office.state, &office.engineer, route, json!({"rule": rule})).await;
    let answer = daily["answer"].as_str().unwrap();
    assert!(
        answer.starts_with("Would have sent nothing") && answer.ends_with("who chose a digest, or nothing."),
        "{answer}"
    );
    let days = json!({"rule": rule, "days": 8});
    assert_eq!(
        ask(&office.state, &office.engineer, "POST /notice-rules/try", days)
            .await
            .0,
        StatusCode::BAD_REQUEST
    );
}

#[tokio::test]
async fn a_receiver_that_fails_is_tried_again_and_one_that_wants_nothing_more_is_not() {
    let office = Office::open().await.without_rules().await;
    let Office {
        state, engineer, admin, ..
    } = &office;
    let failing = answering("HTTP/1.1 503 Service Unavailable\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").await;
    let gone = answering("HTTP/1.1 410 Gone\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").await;
    for (name, host) in [
        ("failing", failing),
        ("gone", gone),
        ("nobody", "127.0.0.1:9".to_owned()),
    ] {
        let way = json!({"kind": "chat", "address": format!("http://{host}/rooms/ops")});
        assert_eq!(
            ask(state, admin, &format!("PUT /notice-ways/{name}"), way).await.0,
            StatusCode::NO_CONTENT
        );
    }
    office
        .rule(json!({"by": ["failing", "gone", "nobody"], "tell": []}))
        .await;
    let at = Utc::now();
    office.happens(EventKind::New, "flag 1", at).await;
    assert_eq!(office.plan(at).await, 3);
    let record = office.send().await;
    let of = |way: &str| {
        record["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["way"] == way)
            .unwrap()
            .clone()
    };
    assert_eq!(
        (of("failing")["state"].as_str(), of("failing")["answer"].as_str()),
        (Some("waiting"), Some("127.0.0.1 answered 503"))
    );
    assert!(of("failing")["next_at"].is_string());
    assert_eq!(of("gone")["state"], "failed");
    assert!(
        of("nobody")["answer"].as_str().unwrap().contains("did not answer"),
        "{record}"
    );
    let again = format!("POST /notices/{}/again", of("gone")["id"]);
    assert_eq!(ask(state, engineer, &again, json!({})).await.0, StatusCode::NO_CONTENT);
    assert_eq!(
        ask(state, engineer, &again, json!({})).await.0,
        StatusCode::CONFLICT,
        "it waits already"
    );
    assert_eq!(
        ask(state, engineer, "POST /notices/99/again", json!({})).await.0,
        StatusCode::NOT_FOUND
    );
    let failed = get(state, engineer, "/api/v1/notices?state=waiting").await;
    assert_eq!(failed["items"].as_array().unwrap().len(), 3);
    let of_error = get(state, engineer, &format!("/api/v1/notices?ref={}", office.error)).await;
    assert_eq!(of_error["items"].as_array().unwrap().len(), 3);
}

#[tokio::test]
async fn a_receiver_that_answers_twice_has_its_notice_once() {
    let office = Office::open().await.without_rules().await;
    let ok = "HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok";
    let twice: &'static str = Box::leak(format!("{ok}{ok}").into_boxed_str());
    let host = answering(twice).await;
    let way = json!({"kind": "chat", "address": format!("http://{host}/rooms/ops")});
    let (status, said) = ask(&office.state, &office.admin, "PUT /notice-ways/twice", way).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    office.rule(json!({"by": ["twice"], "tell": []})).await;
    let at = Utc::now();
    office.happens(EventKind::New, "flag 1", at).await;
    assert_eq!(office.plan(at).await, 1);
    let sent = office.send().await;
    let item = &sent["items"][0];
    assert_eq!(
        (item["state"].as_str(), item["attempts"].as_i64()),
        (Some("sent"), Some(1)),
        "{sent}"
    );
    office.send().await;
    let again = get(&office.state, &office.engineer, "/api/v1/notices").await;
    assert_eq!(again["items"][0]["attempts"], 1);
}

#[tokio::test]
async fn a_rule_makes_a_ticket_once() {
    let office = Office::open().await.without_rules().await;
    let listener = listener();
    let host = listener.local_addr().unwrap().to_string();
    let stop = CancellationToken::new();
    tokio::spawn(tracker(listener, stop.clone()));
    let _stop = stop.drop_guard();
    let setting = json!({
        "address": format!("http://{host}/tickets"),
        "headers": [{"name": "authorization", "value": format!("Bearer {TRACKER_SECRET}")}],
        "body": {"title": "{title}"},
        "id": "/id",
        "link": "/url",
    });
    let (status, said) = ask(&office.state, &office.admin, "PUT /tracker", setting).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    office.rule(json!({"by": ["ticket"], "tell": []})).await;
    let at = Utc::now() - TimeDelta::hours(3);
    for (number, hours) in [(1, 0), (2, 2)] {
        let at = at + TimeDelta::hours(hours);
        office.happens(EventKind::New, &format!("flag {number}"), at).await;
        assert_eq!(office.plan(at).await, 1);
        office.send().await;
    }
    let record = get(&office.state, &office.engineer, "/api/v1/notices").await;
    let answers: Vec<&str> = record["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|item| item["answer"].as_str())
        .collect();
    assert_eq!(
        answers,
        ["there are tickets already", &format!("http://{host}/tickets/1")]
    );
}

/// Answers every request with the same; returns its host and port.
async fn answering(answer: &'static str) -> String {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = listener.local_addr().unwrap().to_string();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            drop(stream.read(&mut [0; 16_384]).await);
            drop(stream.write_all(answer.as_bytes()).await);
        }
    });
    host
}
