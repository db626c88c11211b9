//! Notice rules, ways and wishes over the API.

use actix_web::http::StatusCode;
use chrono::{TimeDelta, Utc};
use outcrop_core::notice::EventKind;
use rstest::rstest;
use serde_json::{Value, json};

use super::notices::{MATE, Office, ask, asked};
use super::reading::{fleet, get, resource};
use super::{answer, bounds, post};
use crate::state::State;

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

#[tokio::test]
async fn a_threshold_that_is_passed_is_told_once_and_what_has_not_run_by_its_time() {
    let office = Office::open().await.without_rules().await;
    let database = &office.state.database;
    // The fleet's last minutes are whole by then.
    let now = Utc::now() + TimeDelta::minutes(3);
    let threshold = |of: &str, above: f64| json!({"of": of, "above": above, "minutes": 60});
    let over = |name: &str, of, above| {
        let threshold = threshold(of, above);
        json!({"name": name, "when": ["over"], "where": "service = fares", "threshold": threshold})
    };
    office.rule(over("Many", "occurrences", 1.0)).await;
    office.rule(over("Too many", "occurrences", 1e6)).await;
    office.rule(over("A share", "share", 0.1)).await;
    let by = (now - TimeDelta::minutes(4)).format("%H:%M").to_string();
    let run = |name: &str, service: &str| {
        let expected = json!({"service": service, "by": by});
        json!({"name": name, "when": ["silent"], "expected": expected})
    };
    office.rule(run("Nightly", "ledger")).await;
    office.rule(run("Fares runs", "fares")).await;
    crate::notices::watch(database, now, now).await.unwrap();
    crate::notices::watch(database, now, now + TimeDelta::seconds(30))
        .await
        .unwrap();
    office.plan(now + TimeDelta::minutes(2)).await;
    let record = get(&office.state, &office.engineer, "/api/v1/notices").await;
    let mut subjects: Vec<String> = (record["items"].as_array().unwrap().iter())
        .map(|item| {
            item["subject"]
                .as_str()
                .unwrap()
                .split(" within")
                .next()
                .unwrap()
                .to_owned()
        })
        .collect();
    subjects.sort();
    assert_eq!(subjects.len(), 3, "{record}");
    assert!(
        subjects[0].starts_with("A share: ") && subjects[0].contains("requests failed"),
        "{subjects:?}"
    );
    assert!(
        subjects[1].starts_with("Many: ") && subjects[1].ends_with("occurrences"),
        "{subjects:?}"
    );
    assert_eq!(subjects[2], "Silent: ledger has not run");
    // Tried on the past, the same rules come to the same.
    let tried = json!({"rule": over("Many", "occurrences", 1.0)});
    let mut tried = tried;
    tried["rule"]["by"] = json!(["mail"]);
    tried["rule"]["tell"] = json!([MATE]);
    let result = asked(&office.state, &office.engineer, "POST /notice-rules/try", tried).await;
    assert!(result["count"].as_u64().unwrap() <= 1, "{result}");
}

#[tokio::test]
async fn a_metric_above_its_threshold_is_told_with_what_it_stands_at() {
    let office = Office::open().await.without_rules().await;
    let key = office.state.key("pier-9", bounds(None)).await;
    let now = Utc::now();
    let points: Vec<Value> = (1..=20)
        .map(|ago| {
            let at = (now - TimeDelta::minutes(ago)).timestamp() * 1_000_000_000;
            json!({"timeUnixNano": at.to_string(), "asInt": "57"})
        })
        .collect();
    let metrics = json!([{"name": "queue.length", "unit": "{ship}", "gauge": {"dataPoints": points}}]);
    let sent = json!({"resourceMetrics": [
        {"resource": resource("fares", "2.4.0"), "scopeMetrics": [{"metrics": metrics}]},
    ]});
    let (status, _, said) = answer(&office.state, post("/v1/metrics", &key, sent.to_string())).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));
    let rule = |name: &str, above: u32, service: &str| {
        let threshold = json!({"of": "metric", "metric": "queue.length", "above": above, "minutes": 5});
        json!({"name": name, "when": ["over"], "environment": "production", "where": format!("service = {service}"),
            "threshold": threshold})
    };
    let made = office.rule(rule("Long queues", 40, "fares")).await;
    assert!(
        made["sentence"]
            .as_str()
            .unwrap()
            .starts_with("When queue.length is above 40 over 5 min"),
        "{made}"
    );
    office.rule(rule("Longer queues", 60, "fares")).await;
    office.rule(rule("Queues elsewhere", 40, "berths")).await;
    let at = now + TimeDelta::minutes(1);
    crate::notices::watch(&office.state.database, at, at).await.unwrap();
    office.plan(at + TimeDelta::minutes(2)).await;
    let record = get(&office.state, &office.engineer, "/api/v1/notices").await;
    let subjects: Vec<&str> = (record["items"].as_array().unwrap().iter())
        .filter_map(|item| item["subject"].as_str())
        .filter(|subject| subject.contains("ueues"))
        .collect();
    assert_eq!(subjects.len(), 1, "{record}");
    assert!(
        subjects[0].contains("Long queues: queue.length: 57 in the mean of 5 min; the threshold is 40"),
        "{subjects:?}"
    );
    let mut tried = json!({"rule": rule("Long queues", 40, "fares")});
    tried["rule"]["by"] = json!(["mail"]);
    tried["rule"]["tell"] = json!([MATE]);
    let result = asked(&office.state, &office.engineer, "POST /notice-rules/try", tried).await;
    assert_eq!(result["count"], json!(1), "{result}");
}

#[tokio::test]
async fn counts_of_a_closed_service_are_told_to_those_who_may_read_it_alone() {
    let office = Office::open().await.without_rules().await;
    asked_for_limit(&office).await;
    let threshold = json!({"of": "occurrences", "above": 1, "minutes": 60});
    let rule = json!({"when": ["over"], "threshold": threshold, "tell": [MATE, "master@skerry.example"]});
    office.rule(rule).await;
    let now = Utc::now() + TimeDelta::minutes(3);
    crate::notices::watch(&office.state.database, now, now).await.unwrap();
    assert_eq!(office.plan(now).await, 1);
    let of_admin = get(&office.state, &office.admin, "/api/v1/notices").await;
    assert_eq!(of_admin["items"][0]["to"], "master@skerry.example", "{of_admin}");
    let of_mate = get(&office.state, &office.engineer, "/api/v1/notices").await;
    assert_eq!(of_mate["items"], json!([]), "and the record shows it to nobody else");
}
