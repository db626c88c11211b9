//! Deploys: recorded and seen, flagged, checked by a pipeline; and the same without a server.

use crate::backtests::chrono_text;
use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

/// Requests of one minute, so many minutes ago: of them the first few fail with a type.
pub fn minute(ago: u64, version: &str, requests: u64, failing: &[(&str, u64)]) -> Value {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs();
    let start = (now / 60 - ago) * 60_000_000_000;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let thrown: Vec<&str> = failing
        .iter()
        .flat_map(|(name, count)| std::iter::repeat_n(*name, usize::try_from(*count).unwrap()))
        .collect();
    let spans: Vec<Value> = (0..requests)
        .map(|number| {
            let begin = start + number * 100_000_000;
            let failure = thrown.get(usize::try_from(number).unwrap());
            let events: Vec<Value> = failure
                .map(|name| {
                    json!({"name": "exception", "timeUnixNano": (begin + 5_000_000).to_string(),
                    "attributes": [text("exception.type", name), text("exception.message", "no fare")]})
                })
                .into_iter()
                .collect();
            json!({"traceId": format!("{:032x}", u128::from(start) << 32 | u128::from(number + 1)),
                "spanId": format!("{:016x}", start ^ (number + 1)), "name": "POST /v1/quotes", "kind": 2,
                "startTimeUnixNano": begin.to_string(), "endTimeUnixNano": (begin + 9_000_000).to_string(),
                    "attributes": [text("http.route", "/v1/quotes")],
                "events": events, "status": if failure.is_some() { json!({"code": 2}) } else { json!({}) }})
        })
        .collect();
    let resource = json!({"attributes": [text("service.name", "fares"), text("service.version", version),
        text("deployment.environment.name", "production")]});
    json!({"resource": resource, "scopeSpans": [{"spans": spans}]})
}

pub async fn send(running: &Running, minutes: Vec<Value>) {
    for chunk in minutes.chunks(40) {
        let body = json!({"resourceSpans": chunk}).to_string();
        let answer = running
            .post("/v1/traces")
            .header("content-type", "application/json")
            .body(body)
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 200);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deploy_that_brings_an_error_is_flagged_and_one_that_does_not_is_clear() {
    let running = service().start().await;
    let check = |version: &str| {
        let output = running.client(&[
            "deploy",
            "check",
            &format!("fares@{version}"),
            "--environment",
            "production",
            "--json",
        ]);
        (
            output.status.code(),
            serde_json::from_slice::<Value>(&output.stdout).unwrap_or_default(),
        )
    };
    assert_eq!(check("2.3.9").0, Some(4), "no such deploy");
    // 2.3.8, then 2.3.9 with the failures that were there before, then 2.4.0 with one of its own.
    let mut minutes: Vec<Value> = (80..150)
        .map(|ago| minute(ago, "2.3.8", 100, &[("Timeout", ago % 2)]))
        .collect();
    minutes.extend((20..80).map(|ago| minute(ago, "2.3.9", 100, &[("Timeout", ago % 2)])));
    minutes.extend((3..20).map(|ago| minute(ago, "2.4.0", 100, &[("Timeout", ago % 2), ("DivisionByZero", 1)])));
    send(&running, minutes).await;
    let recorded = running.client(&[
        "deploy",
        "record",
        "fares@2.4.0",
        "--environment",
        "production",
        "--link",
        "https://ci.skerry.example/4110",
        "--revision",
        "9f3ac2e",
    ]);
    assert!(
        recorded.status.success(),
        "{}",
        String::from_utf8_lossy(&recorded.stderr)
    );

    let until = std::time::Instant::now() + std::time::Duration::from_secs(90);
    let flagged = loop {
        let answer = check("2.4.0");
        if answer.1["flags"].as_array().is_some_and(|flags| !flags.is_empty()) || std::time::Instant::now() > until {
            break answer;
        }
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    };
    assert_eq!(flagged.0, Some(1), "{flagged:?}");
    let flags = flagged.1["flags"].as_array().unwrap();
    assert_eq!(
        (flags.len(), &flags[0]["flag"], &flags[0]["title"]),
        (1, &json!("new"), &json!("DivisionByZero: no fare")),
        "{flags:?}"
    );
    assert_eq!(
        flags[0]["evidence"],
        "never seen before in production; first in fares 2.4.0"
    );
    // Why is worked out as the flag rises, and stays with it.
    let until = std::time::Instant::now() + std::time::Duration::from_secs(40);
    let explained = loop {
        let answer = check("2.4.0").1["flags"][0]["why"].clone();
        if answer.as_array().is_some_and(|why| !why.is_empty()) || std::time::Instant::now() > until {
            break answer;
        }
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    };
    assert!(
        explained[0]
            .as_str()
            .unwrap()
            .starts_with("It began with fares 2.4.0: never seen in production before"),
        "{explained}"
    );
    let printed = running.client(&["deploy", "check", "fares@2.4.0", "--environment", "production"]);
    assert!(
        String::from_utf8(printed.stdout)
            .unwrap()
            .contains("why: It began with fares 2.4.0")
    );
    assert_eq!(flagged.1["outcome"], "flagged");

    let (code, answer) = check("2.3.9");
    assert_eq!(
        (code, &answer["outcome"], &answer["flags"]),
        (Some(0), &json!("clear"), &json!([])),
        "{answer}"
    );
    assert!(
        answer["sentence"]
            .as_str()
            .unwrap()
            .contains("of 6,000 requests failed"),
        "{answer}"
    );
    let quiet = running.client(&[
        "deploy",
        "check",
        "fares@2.4.0",
        "--environment",
        "production",
        "--fail-on",
        "returned",
    ]);
    assert_eq!(
        quiet.status.code(),
        Some(3),
        "only what was asked for counts, and for that there were too few requests"
    );
    assert!(
        running
            .client(&["deploy", "record", "fares@2.5.0", "--environment", "production"])
            .status
            .success()
    );
    assert_eq!(
        check("2.5.0").0,
        Some(3),
        "nothing can be said of what was deployed just now"
    );

    let listed = running.client_json(&["deploys", "--service", "fares"]);
    let told: Vec<String> = listed["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| {
            format!(
                "{} {} {}",
                item["version"].as_str().unwrap(),
                item["announced"],
                item["check"]["outcome"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(
        told,
        ["2.5.0 true too early", "2.4.0 true flagged", "2.3.9 false clear"],
        "announced and seen are one; the first version is none"
    );
    let errors = running.errors().await;
    let of = |name: &str| errors.iter().find(|error| error["type"] == name).unwrap();
    assert_eq!(
        (&of("DivisionByZero")["flags"], &of("Timeout")["flags"]),
        (&json!(["new"]), &json!([]))
    );
    // In the console: the list, by a click the deploy, by a click its error, and what the hour before had.
    let browser = crate::console::signed_in(&running, 1280, 800, "light").await;
    browser.named("link", "Deploys").await.click().await.unwrap();
    browser.sees("never seen before in production").await;
    browser.named("link", "fares 2.4.0").await.click().await.unwrap();
    browser.sees("flagged: fares 2.4.0 in production").await;
    browser.sees("New, surging or back since this deploy").await;
    assert!(browser.overflow().await <= 0);
    browser
        .named("link", "DivisionByZero: no fare")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("It began with fares 2.4.0").await;
    browser
        .open(&format!("{}/errors?since=60m&against=before", running.url))
        .await;
    browser.sees("Against the time before").await;
    browser.sees("▲ 0 then").await;
    // The last hour against the hour before: what came is more, what was there is neither.
    let page = running.client_json(&["errors", "--since", "60m", "--against", "before"]);
    let of = |name: &str| {
        page["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|error| error["type"] == name)
            .unwrap()["against"]
            .clone()
    };
    assert_eq!(
        (&of("DivisionByZero")["count"], &of("DivisionByZero")["change"]),
        (&json!(0), &json!("more")),
        "{page}"
    );
    assert!(
        of("Timeout")["count"].as_i64().unwrap() > 20 && of("Timeout")["change"].is_null(),
        "{page}"
    );
    assert_eq!(
        (&page["against"]["errors"], &page["against"]["gone"]),
        (&json!(1), &json!(0)),
        "{page}"
    );
    let endpoints = running.client_json(&["endpoints", "--since", "60m", "--against", "60m"]);
    assert!(
        endpoints["items"][0]["against"]["count"].as_i64().unwrap() > 900,
        "{endpoints}"
    );
    let wrong = running.client(&["errors", "--against", "yesterday"]);
    assert!(
        String::from_utf8_lossy(&wrong.stderr).contains("write before, 1d or 7d"),
        "{}",
        String::from_utf8_lossy(&wrong.stderr)
    );
    let usage = running.client(&["deploy", "record", "fares", "--environment", "production"]);
    assert_eq!(usage.status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deploy_to_one_instance_group_is_held_against_the_others_in_the_same_minutes() {
    let running = service().start().await;
    assert!(
        running
            .client(&["services", "set", "all", "--instance-group", "cloud.region"])
            .status
            .success()
    );
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_millis(),
    )
    .unwrap();
    // Half an hour of two regions; only the south, where the deploy went, fails and is slow.
    for (region, from, fails, took) in [("north", 1_000, 0, 20), ("south", 5_000, 30, 90)] {
        let spans: Vec<Value> = (0..300_u64)
            .map(|number| {
                let (id, end) = (from + number, (now - number * 6_000) * 1_000_000);
                let code = if number < fails { "500" } else { "200" };
                json!({"traceId": format!("{id:032x}"), "spanId": format!("{id:016x}"), "kind": 2, "name": "GET",
                    "startTimeUnixNano": (end - took * 1_000_000).to_string(),
                    "endTimeUnixNano": end.to_string(), "attributes": [text("http.request.method", "GET"),
                        text("http.route", "/v1/piers"),
                        {"key": "http.response.status_code", "value": {"intValue": code}}]})
            })
            .collect();
        let resource = json!({"attributes": [text("service.name", "berths"), text("service.version", "1.7.0"),
            text("deployment.environment.name", "production"), text("cloud.region", region)]});
        // In three parts: what is counted of one minute comes in several batches.
        for part in spans.chunks(100) {
            let body = json!({"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": part}]}]});
            let sent = running
                .post("/v1/traces")
                .header("content-type", "application/json")
                .body(body.to_string())
                .send()
                .await
                .unwrap();
            assert_eq!(sent.status(), 200);
        }
    }
    let began = chrono_text(now - 31 * 60_000);
    let recorded = running.client(&[
        "deploy",
        "record",
        "berths@1.7.0",
        "--environment",
        "production",
        "--group",
        "south",
        "--at",
        &began,
    ]);
    assert!(
        recorded.status.success(),
        "{}",
        String::from_utf8_lossy(&recorded.stderr)
    );
    let groups = running.client_json(&["endpoints", "--by-group", "--service", "berths"]);
    let of = |group: &str| {
        groups["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["group"] == group)
            .unwrap()
            .clone()
    };
    let (south, north) = (of("south"), of("north"));
    assert_eq!(
        (
            &groups["attribute"],
            &south["count"],
            &south["failed"],
            &south["statuses"][4]
        ),
        (&json!("cloud.region"), &json!(300), &json!(30), &json!(30)),
        "{groups}"
    );
    assert_eq!(
        (&south["changes"], &north["changes"]),
        (&json!(["fails more", "slower"]), &json!(["fails less", "faster"]))
    );
    assert!((south["p95_ms"].as_f64().unwrap() / 90.0 - 1.0).abs() < 0.02);
    let shown = running.client_json(&["deploy", "show", "berths@1.7.0", "--environment", "production"]);
    let beside = &shown["beside"][0];
    assert_eq!(
        (&beside["requests"], &beside["requests_before"], &beside["changes"]),
        (&json!(300), &json!(300), &json!(["fails more", "slower"])),
        "{shown}"
    );
    assert!(
        shown["beside_what"]
            .as_str()
            .unwrap()
            .starts_with("the instances of group south")
    );

    // The job that puts a minute's rows together, once it is ripe, changes nothing of what is said.
    let apart = "SELECT count(*)::text FROM (SELECT FROM group_part WHERE minute > now() - interval '17 minutes' AND \
        minute < now() - interval '4 minutes' \
                 GROUP BY minute, group_name HAVING count(*) > 1) apart";
    let until = std::time::Instant::now() + std::time::Duration::from_secs(100);
    while running.service().row(apart).await != [Some("0".to_owned())] {
        assert!(
            std::time::Instant::now() < until,
            "the rows are put together: {:?} minutes are not",
            running.service().row(apart).await
        );
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    assert_eq!(
        running.client_json(&["endpoints", "--by-group", "--service", "berths"]),
        groups
    );

    let browser = crate::console::signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/traffic?service=berths", running.url)).await;
    browser.sees("south fails more and is slower").await;
    browser
        .open(&format!("{}/deploys/berths/1.7.0?environment=production", running.url))
        .await;
    browser.sees("Side by side, 1 endpoint of 1 differs").await;
}
