//! What may send, what is refused and said so, what is dropped, whose addresses are hidden.

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

/// A log record with an exception.
pub fn failure(service: &str, environment: &str, type_name: &str, user: &str) -> String {
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
        .to_string();
    json!({"resourceLogs": [{
        "resource": {"attributes": [text("service.name", service), text("deployment.environment.name", environment)]},
        "scopeLogs": [{"logRecords": [{"timeUnixNano": now, "severityNumber": 17, "body": {"stringValue": "failed"},
            "attributes": [
            text("exception.type", type_name), text("exception.message", &format!("no ticket for \
                {user}")), text("user.id", user),
        ]}]}],
    }]})
    .to_string()
}

pub async fn send(running: &Running, key: &str, path: &str, body: String) -> (u16, String, Value) {
    let request = reqwest::Client::new()
        .post(format!("{}{path}", running.url))
        .bearer_auth(key)
        .header("content-type", "application/json");
    let answer = request
        .header("user-agent", "otel-python/1.45.1")
        .body(body)
        .send()
        .await
        .unwrap();
    let wait = answer
        .headers()
        .get("retry-after")
        .map(|value| value.to_str().unwrap().to_owned())
        .unwrap_or_default();
    (answer.status().as_u16(), wait, answer.json().await.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_is_bound_limited_rotated_and_revoked() {
    let running = service().start().await;
    let admin = |arguments: &[&str]| running.service().succeed(&[&["admin", "key"], arguments].concat(), "");
    let key = admin(&[
        "create",
        "ramp",
        "--service",
        "boarding",
        "--environment",
        "staging",
        "--per-minute",
        "600",
    ]);
    let body = |service: &str, environment: &str| failure(service, environment, "TicketError", "u-1");

    let (status, _, answer) = send(&running, &key, "/v1/logs", body("boarding", "production")).await;
    let partial = &answer["partialSuccess"];
    assert_eq!((status, &partial["rejectedLogRecords"]), (200, &json!("1")), "{answer}");
    assert_eq!(
        partial["errorMessage"],
        "this key may not write for environment production"
    );
    let (status, wait, answer) = send(&running, &key, "/v1/logs", body("boarding", "staging")).await;
    assert_eq!(status, 429, "a second body of 500 bytes is past 600 a minute: {answer}");
    assert!((1..=60).contains(&wait.parse::<u32>().unwrap()), "Retry-After: {wait}");

    let second = admin(&["create", "ramp-2", "--service", "boarding"]);
    let third = admin(&["rotate", "ramp-2", "--overlap-hours", "1"]);
    for secret in [&second, &third] {
        assert_eq!(
            send(&running, secret, "/v1/logs", body("boarding", "staging")).await.0,
            200,
            "both hold during the overlap"
        );
    }
    let (_, keys) = running.get("/api/v1/keys").await;
    let ramp = keys["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|key| key["name"] == "ramp-2")
        .unwrap()
        .clone();
    assert!(ramp["previous_until"].is_string(), "{ramp}");
    // Rotated again with no overlap, all earlier secrets are refused within two seconds.
    let fourth = admin(&["rotate", "ramp-2", "--overlap-hours", "0"]);
    tokio::time::sleep(std::time::Duration::from_millis(2_100)).await;
    let mut answers = vec![];
    for secret in [&second, &third, &fourth] {
        answers.push(send(&running, secret, "/v1/logs", body("boarding", "staging")).await.0);
    }
    assert_eq!(answers, [401, 401, 200]);
    let revoked = reqwest::Client::new()
        .delete(format!("{}/api/v1/keys/ramp-2", running.url))
        .bearer_auth(&running.token)
        .send()
        .await
        .unwrap();
    assert_eq!(revoked.status(), 204);
    tokio::time::sleep(std::time::Duration::from_millis(2_100)).await;
    assert_eq!(
        send(&running, &fourth, "/v1/logs", body("boarding", "staging")).await.0,
        401
    );
    assert_eq!(send(&running, &running.key, "/v1/trace", "{}".to_owned()).await.0, 404);
    tokio::time::sleep(std::time::Duration::from_millis(2_500)).await;

    let list = admin(&["list", "--json"]);
    let list: Value = serde_json::from_str(&list).unwrap();
    let of = |name: &str| {
        list["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|key| key["name"] == name)
            .unwrap()
            .clone()
    };
    assert_eq!(
        (of("ramp-2")["requests_24h"].clone(), of("ramp")["refused_24h"].clone()),
        (json!(3), json!(1))
    );
    assert!(of("ramp-2")["bytes_24h"].as_i64().unwrap() > 1_200 && of("ramp-2")["last_used_at"].is_string());

    let refused = running.client_json(&["refused"]);
    let reasons: Vec<String> = refused["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| format!("{} {} {} {}", item["count"], item["key"], item["path"], item["reason"]))
        .collect();
    let has = |part: &str| reasons.iter().any(|reason| reason.contains(part));
    assert!(
        has("\"ramp\" \"/v1/logs\" \"this key has sent what it may send a minute"),
        "{reasons:?}"
    );
    assert!(
        has("\"\" \"/v1/logs\" \"this sender key is not known") && has("\"/v1/trace\" \"nothing is taken at this path"),
        "{reasons:?}"
    );
    assert!(
        refused["items"][0]["sender"]
            .as_str()
            .unwrap()
            .starts_with("otel-python/1.45.1 at 127.0.0.1"),
        "{refused}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn noise_is_dropped_before_it_counts_until_the_rule_ends() {
    let running = service().start().await;
    let count = async |type_name: &str| {
        let errors = running.errors().await;
        errors
            .iter()
            .filter(|error| error["type"] == type_name)
            .map(|error| error["count"].as_i64().unwrap())
            .sum::<i64>()
    };
    let post = async |type_name: &str| {
        assert_eq!(
            send(
                &running,
                &running.key,
                "/v1/logs",
                failure("gangway", "production", type_name, "u-1")
            )
            .await
            .0,
            200
        );
    };
    post("ClientGone").await;
    post("TicketError").await;
    let refused = running.client(&["drops", "add", "--where", "count > 5"]);
    assert!(
        !refused.status.success()
            && String::from_utf8_lossy(&refused.stderr).contains("`count` is a number of a whole error")
    );
    let by_predicate = running.client_json(&[
        "drops",
        "add",
        "--where",
        "type = ClientGone and service = gangway",
        "--note",
        "tabs are closed",
    ]);
    let errors = running.errors().await;
    let ticket = errors.iter().find(|error| error["type"] == "TicketError").unwrap()["ref"]
        .as_str()
        .unwrap()
        .to_owned();
    let by_error = running.client_json(&["drops", "add", "--error", &ticket]);
    for type_name in ["ClientGone", "ClientGone", "TicketError", "BerthError"] {
        post(type_name).await;
    }
    assert_eq!(
        (
            count("ClientGone").await,
            count("TicketError").await,
            count("BerthError").await
        ),
        (1, 1, 1)
    );
    let drops = running.client_json(&["drops"]);
    let dropped = |id: &Value| {
        drops["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|rule| rule["id"] == *id)
            .unwrap()["dropped_24h"]
            .clone()
    };
    assert_eq!(
        (dropped(&by_predicate["id"]), dropped(&by_error["id"])),
        (json!(2), json!(1)),
        "{drops}"
    );

    let ended = running.client(&["drops", "end", &by_predicate["id"].to_string()]);
    assert!(ended.status.success());
    post("ClientGone").await;
    assert_eq!(count("ClientGone").await, 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn addresses_are_hidden_unless_kept_by_choice_and_users_are_found_by_them() {
    let running = service().start().await;
    let address = "purser@skerry.example";
    for _ in 0..2 {
        assert_eq!(
            send(
                &running,
                &running.key,
                "/v1/logs",
                failure("gangway", "production", "TicketError", address)
            )
            .await
            .0,
            200
        );
    }
    let tables = running.service().all_text().await;
    assert!(tables.contains("@address-hidden.invalid"));
    // The member who asks signs in by an address of the same domain; this one is no member's.
    assert!(!tables.contains(address), "the address was kept");
    let (_, found) = running
        .get(&format!("/api/v1/errors?where=user%20%3D%20%22{address}%22"))
        .await;
    assert_eq!(
        (&found["items"][0]["count"], &found["items"][0]["users"]),
        (&json!(2), &json!(1)),
        "{found}"
    );
    assert_eq!(found["items"][0]["title"], "TicketError: no ticket for {email}");
    let anything = running.client_json(&["find", address]);
    assert!(anything.to_string().contains("user.id"), "{anything}");

    assert!(
        running
            .client(&["services", "set", "gangway", "--keep-addresses", "true"])
            .status
            .success()
    );
    assert_eq!(
        send(
            &running,
            &running.key,
            "/v1/logs",
            failure("gangway", "production", "TicketError", address)
        )
        .await
        .0,
        200
    );
    assert!(running.service().all_text().await.contains(address));
    let (_, found) = running
        .get(&format!("/api/v1/errors?where=user%20%3D%20%22{address}%22"))
        .await;
    assert_eq!(
        found["items"][0]["count"], 3,
        "asked for by the address, both are found: {found}"
    );

    // Users are folded within a second of the commit.
    tokio::time::sleep(std::time::Duration::from_millis(2_500)).await;
    let (_, services) = running.get("/api/v1/services").await;
    assert_eq!(
        services["items"][0]["missing"],
        json!([
            "no version: no deploy answers",
            "no requests: no share of requests, no traffic",
            "no metrics: no memory or processor beside its failures"
        ])
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_of_scrubbing_hold_for_their_service_until_they_end() {
    let running = service().start().await;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let body = |service: &str| {
        let now = std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos()
            .to_string();
        json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", service)]},
            "scopeLogs": [{"logRecords": [{
            "timeUnixNano": now, "severityNumber": 17, "body": {"stringValue": "no berth for SK-20260001 from \
             203.0.113.24"},
            "attributes": [text("exception.type", "BerthError"), text("skerry.passportNumber", "X1234567"),
                text("client.address", "203.0.113.24"),
                text("form", "passport_number=X1234567&pier=7"), text("skerry.session.kind", "day")],
        }]}]}]})
        .to_string()
    };
    let latest = async |service: &str| {
        assert_eq!(send(&running, &running.key, "/v1/logs", body(service)).await.0, 200);
        let errors = running.errors().await;
        let reference = errors.iter().find(|error| error["service"] == service).unwrap()["ref"]
            .as_str()
            .unwrap()
            .to_owned();
        let newest = running.client_json(&["occurrences", &reference])["items"][0]["id"]
            .as_str()
            .unwrap()
            .to_owned();
        running.client_json(&["occurrence", &newest])["attributes"].clone()
    };
    let rule = |arguments: &[&str]| running.client_json(&[&["scrubbing"], arguments].concat());
    let before = latest("boarding").await;
    assert_eq!(before["client.address"], "[removed: client address]");
    assert_eq!(
        (&before["log.body"], &before["skerry.passportNumber"]),
        (
            &json!("no berth for SK-20260001 from [removed: client address]"),
            &json!("X1234567")
        )
    );

    let refused = running.client(&["scrubbing", "shape", "SK-["]);
    assert!(!refused.status.success() && String::from_utf8_lossy(&refused.stderr).contains("no regular expression"));
    let everywhere = running.client(&["scrubbing", "shape", "x*"]);
    assert!(String::from_utf8_lossy(&everywhere.stderr).contains("it would put a mark everywhere"));
    let (_, tried) = {
        let asked = json!({"service": "boarding", "text": "no berth for \
            SK-20260001", "rule": {"verb": "shape", "what": "SK-[0-9]{8}"}});
        let answer = reqwest::Client::new()
            .post(format!("{}/api/v1/scrubbing/try", running.url))
            .bearer_auth(&running.token)
            .json(&asked);
        let answer = answer.send().await.unwrap();
        (answer.status(), answer.json::<Value>().await.unwrap())
    };
    assert_eq!(tried["text"], "no berth for [removed: a shape that people named]");
    assert_eq!(
        latest("boarding").await["log.body"],
        before["log.body"],
        "what was only tried holds for nothing"
    );

    let passport = rule(&["remove", "passport number", "--service", "boarding"]);
    rule(&["shape", "SK-[0-9]{8}", "--reason", "booking code"]);
    rule(&["keep", "client.address", "--service", "gangway"]);
    let (boarding, gangway) = (latest("boarding").await, latest("gangway").await);
    assert_eq!(boarding["skerry.passportNumber"], "[removed: passport number]");
    assert_eq!(boarding["form"], "passport_number=[removed: passport number]&pier=7");
    assert_eq!(
        boarding["log.body"],
        "no berth for [removed: booking code] from [removed: client address]"
    );
    assert_eq!(
        (&gangway["skerry.passportNumber"], &gangway["client.address"]),
        (&json!("X1234567"), &json!("203.0.113.24"))
    );
    assert_eq!(
        gangway["log.body"],
        "no berth for [removed: booking code] from 203.0.113.24"
    );

    assert!(
        running
            .client(&["scrubbing", "end", &passport["id"].to_string()])
            .status
            .success()
    );
    assert_eq!(latest("boarding").await["skerry.passportNumber"], "X1234567");
    let list = rule(&[]);
    let states: Vec<(&Value, bool)> = list["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| (&item["verb"], item["ended_at"].is_null()))
        .collect();
    assert_eq!(
        states,
        [
            (&json!("keep"), true),
            (&json!("shape"), true),
            (&json!("remove"), false)
        ]
    );
}
