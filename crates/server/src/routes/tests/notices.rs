//! Notices from what happened to what arrives, over the API and the stand-ins for a mail server and a chat.

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::StatusCode;
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::notice::{Event, EventKind};
use outcrop_demo::{Letter, Post};
use outcrop_store::notices::events::{self, NewEvent};
use outcrop_store::{from_utc, ids};
use rstest::rstest;
use serde_json::{Value, json};
use tokio_util::sync::{CancellationToken, DropGuard};

use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::notices::Desk;
use crate::outbound::Allowed;
use crate::settings::Mail;
use crate::state::State;
use crate::supervision::Supervisor;

async fn ask(state: &State, token: &str, route: &str, sent: Value) -> (StatusCode, Value) {
    super::ask(state, Some(token), &route.replacen(' ', " /api/v1", 1), sent).await
}

async fn asked(state: &State, token: &str, route: &str, sent: Value) -> Value {
    let (status, said) = ask(state, token, route, sent).await;
    assert!(status.is_success(), "{route}: {said}");
    said
}

/// A service with a fleet's errors, and stand-ins that take what it sends.
struct Office {
    state: State,
    desk: Desk,
    post: Post,
    /// Where chats and webhooks are posted to.
    host: String,
    engineer: String,
    admin: String,
    /// The fleet's error, and what is known of it.
    error: String,
    _running: (Supervisor, crate::intake::Closing, DropGuard),
}

const MATE: &str = "mate@skerry.example";

impl Office {
    async fn open() -> Self {
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
    async fn happens(&self, kind: EventKind, key: &str, at: DateTime<Utc>) {
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

    async fn plan(&self, at: DateTime<Utc>) -> usize {
        self.desk
            .plan(&self.state.database, &self.state.settings, at)
            .await
            .unwrap()
    }

    /// Sends what is due, and waits for what comes of it.
    async fn send(&self) -> Value {
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

    async fn rule(&self, parts: Value) -> Value {
        let mut rule = json!({"name": "Fares", "when": ["new"], "tell": [MATE], "by": ["mail"], "is_on": true});
        for (name, part) in parts.as_object().unwrap() {
            rule[name] = part.clone();
        }
        asked(&self.state, &self.engineer, "POST /notice-rules", rule).await
    }

    /// The rules that an installation begins with are taken away: a test makes its own.
    async fn without_rules(self) -> Self {
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
    let rule = json!({"name": "Fares", "when": ["new", "surging"], "tell": [MATE], "by": ["mail"], "at_most_every_minutes": 30});
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

#[tokio::test]
async fn rules_are_made_changed_tested_and_removed_and_that_is_on_record() {
    let office = Office::open().await;
    let Office {
        state, engineer, admin, ..
    } = &office;
    let list = get(state, engineer, "/api/v1/notice-rules").await;
    assert_eq!(
        (
            list["items"].as_array().unwrap().len(),
            &list["has_mail"],
            &list["has_tickets"]
        ),
        (2, &json!(true), &json!(false))
    );
    let made = office
        .rule(json!({"by": ["mail", "browser", "ticket", "ops-room"], "otherwise": "deck team"}))
        .await;
    assert_eq!(
        made["troubles"],
        json!([
            "Tickets are not set up: an admin does, with `outcrop ticket set`.",
            "There is no way `ops-room`: make it, or name another.",
            "No member or team is called `deck team`."
        ])
    );
    let mut rule = made["rule"].clone();
    let path = format!("/notice-rules/{}", made["id"]);
    let (status, same) = ask(state, engineer, "POST /notice-rules", rule.clone()).await;
    assert_eq!(status, StatusCode::CONFLICT, "{same}");
    rule["by"] = json!(["mail", "browser"]);
    rule["is_on"] = json!(false);
    let changed = asked(state, engineer, &format!("PUT {path}"), rule.clone()).await;
    assert_eq!(
        (&changed["rule"]["is_on"], &changed["rule"]["by"]),
        (&json!(false), &json!(["mail", "browser"]))
    );
    // Nobody is told by a rule that is off.
    let at = Utc::now();
    office.happens(EventKind::New, "flag 1", at).await;
    let before = office.plan(at).await;
    assert_eq!(before, 2, "the first rule tells the admins, by mail and browser");
    let test = asked(state, engineer, &format!("POST {path}/test"), json!({})).await;
    assert_eq!(test["items"].as_array().unwrap().len(), 2);
    office.send().await;
    let letters = office.post.letters();
    let test = letters
        .iter()
        .find(|letter| letter.subject == "A test of the rule “Fares”")
        .unwrap();
    assert!(test.to == [MATE] && test.text.contains("nothing happened"), "{test:?}");
    let shown = asked(state, engineer, "POST /notices/shown", json!({})).await;
    assert_eq!(
        (
            shown["items"].as_array().unwrap().len(),
            shown["items"][0]["page"].as_str()
        ),
        (1, Some("/notices"))
    );
    assert_eq!(
        asked(state, engineer, "POST /notices/shown", json!({})).await["items"],
        json!([]),
        "to one page only"
    );
    assert_eq!(
        ask(state, engineer, &format!("DELETE {path}"), json!({})).await.0,
        StatusCode::NO_CONTENT
    );
    for route in [format!("DELETE {path}"), format!("POST {path}/test")] {
        assert_eq!(ask(state, engineer, &route, json!({})).await.0, StatusCode::NOT_FOUND);
    }
    assert_eq!(
        ask(state, engineer, &format!("PUT {path}"), rule).await.0,
        StatusCode::NOT_FOUND
    );
    let record = get(state, admin, "/api/v1/audit").await;
    let did: Vec<&str> = record["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|entry| entry["did"].as_str())
        .collect();
    for done in ["made notice rule", "changed notice rule", "removed notice rule"] {
        assert!(did.contains(&done), "{record}");
    }
}

#[rstest]
#[case::an_unknown_field(json!({"who": "me"}), "unknown field")]
#[case::a_predicate_of_nothing(json!({"where": "tariff = x"}), "tariff")]
#[case::nobody(json!({"tell": []}), "need somebody to tell")]
#[case::a_long_name(json!({"name": "x".repeat(101)}), "1 to 100 characters")]
#[tokio::test]
async fn a_rule_that_is_wrong_is_refused_with_its_place(#[case] parts: Value, #[case] said: &str) {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let engineer = fleet(&state).await;
    let mut rule = json!({"name": "Fares", "when": ["new"], "tell": ["owner"], "by": ["mail"]});
    for (name, part) in parts.as_object().unwrap() {
        rule[name] = part.clone();
    }
    let (status, refused) = ask(&state, &engineer, "POST /notice-rules", rule).await;
    assert_eq!(status, StatusCode::BAD_REQUEST, "{refused}");
    assert!(refused["detail"].as_str().unwrap().contains(said), "{refused}");
}

#[tokio::test]
async fn members_are_told_as_they_wish_and_not_of_what_is_closed_to_them() {
    let office = Office::open().await.without_rules().await;
    let Office {
        state, engineer, admin, ..
    } = &office;
    office.rule(json!({"tell": [MATE, "master@skerry.example"]})).await;
    let mut wishes = get(state, engineer, "/api/v1/notice-wishes").await;
    assert_eq!(wishes["pace"], "at-once");
    wishes["services"] = json!([{"name": "fares", "pace": "nothing"}]);
    assert_eq!(
        asked(state, engineer, "PUT /notice-wishes", wishes.clone()).await,
        wishes
    );
    let at = Utc::now();
    office.happens(EventKind::New, "flag 1", at).await;
    assert_eq!(office.plan(at).await, 1, "the master alone");
    wishes["services"] = json!([]);
    asked(state, engineer, "PUT /notice-wishes", wishes.clone()).await;
    asked_for_limit(&office).await;
    let later = at + TimeDelta::minutes(90);
    office.happens(EventKind::New, "flag 2", later).await;
    assert_eq!(office.plan(later).await, 1, "fares is closed to the mate");
    wishes["zone"] = json!("Skerry");
    let (status, refused) = ask(state, engineer, "PUT /notice-wishes", wishes).await;
    assert_eq!(
        (status, refused["detail"].as_str().unwrap().starts_with("zone: ")),
        (StatusCode::BAD_REQUEST, true)
    );
    let whole = get(state, admin, "/api/v1/notices").await;
    assert_eq!(whole["items"].as_array().unwrap().len(), 2);
}

async fn asked_for_limit(office: &Office) {
    let (status, said) = ask(
        &office.state,
        &office.admin,
        "PUT /services/fares/limit",
        json!({"limited": true}),
    )
    .await;
    assert!(status.is_success(), "{said}");
}

#[tokio::test]
async fn a_chats_address_is_shown_to_admins_alone() {
    let office = Office::open().await;
    let Office {
        state,
        engineer,
        admin,
        host,
        ..
    } = &office;
    let address = format!("http://{host}/rooms/ops");
    let way = json!({"kind": "chat", "address": address});
    assert_eq!(
        ask(state, admin, "PUT /notice-ways/ops-room", way.clone()).await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(
        get(state, admin, "/api/v1/notice-ways").await["items"][0]["way"]["address"],
        address
    );
    assert_eq!(
        get(state, engineer, "/api/v1/notice-ways").await["items"][0]["way"]["address"],
        "…"
    );
    let elsewhere = json!({"kind": "chat", "address": "https://elsewhere.example/"});
    let (status, refused) = ask(state, admin, "PUT /notice-ways/away", elsewhere).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    assert!(
        refused["detail"].as_str().unwrap().contains("--outbound-host"),
        "{refused}"
    );
    asked(state, admin, "POST /notice-ways/ops-room/test", json!({})).await;
    let record = office.send().await;
    assert_eq!(record["items"][0]["answer"], "127.0.0.1 answered 200");
    assert!(
        office.post.letters()[0]
            .text
            .contains("This is a test by master@skerry.example")
    );
    assert_eq!(
        ask(state, admin, "DELETE /notice-ways/ops-room", json!({})).await.0,
        StatusCode::NO_CONTENT
    );
    for route in ["DELETE /notice-ways/ops-room", "POST /notice-ways/ops-room/test"] {
        assert_eq!(ask(state, admin, route, json!({})).await.0, StatusCode::NOT_FOUND);
    }
}
