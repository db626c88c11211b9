//! Deploys: recorded and seen, flagged, checked by a pipeline; and the same without a server.

use std::fmt::Write as _;

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

/// Requests of one minute, so many minutes ago: of them the first few fail with a type.
fn minute(ago: u64, version: &str, requests: u64, failing: &[(&str, u64)]) -> Value {
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

async fn send(running: &Running, minutes: Vec<Value>) {
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
    browser.sees("New, surging or back since it").await;
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
async fn a_pipeline_announces_by_cdevents_with_a_token_that_is_good_for_nothing_else() {
    let running = service().start().await;
    let service = running.service();
    let token = service
        .succeed(&["admin", "token", "create", &running.email, "--pipeline"], "")
        .trim()
        .to_owned();
    let http = reqwest::Client::new();
    let url = |path: &str| format!("{}/api/v1{path}", running.url);
    let event = |kind: &str, version: &str| {
        json!({"context": {"version": "0.4.1", "id": "e-1", "source": "https://ci.skerry.example/run/7",
            "type": format!("dev.cdevents.{kind}"),
                "timestamp": chrono::Utc::now().to_rfc3339()},
            "subject": {"id": "fares", "type": "service",
                "content": {"environment": {"id": "production"},
                    "artifactId": format!("pkg:oci/fares@sha256%3A1f2e?tag={version}")}}})
    };
    let structured = |kind: &str, version: &str| {
        json!({"specversion": "1.0", "id": "e-1", "source": "ci", "type": format!("dev.cdevents.{kind}"),
            "datacontenttype": "application/json",
            "data": event(kind, version)})
    };
    let send = async |content_type: &str, body: Value| {
        let request = http
            .post(url("/cdevents"))
            .bearer_auth(&token)
            .header("content-type", content_type);
        let request = request
            .header("ce-id", "e-1")
            .header("ce-type", "x")
            .header("ce-source", "ci")
            .header("ce-specversion", "1.0");
        let answer = request.body(body.to_string()).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    // Binary, structured, batched.
    let binary = send("application/json", event("service.deployed.0.2.0", "2.3.9")).await;
    assert_eq!(binary, (200, json!({"recorded": 1, "other": []})));
    let upgraded = structured("service.upgraded.0.2.0", "2.4.0");
    assert_eq!(send("application/cloudevents+json", upgraded).await.0, 200);
    let batch = json!([
        structured("service.rolledback.0.2.0", "2.3.9"),
        structured("pipelineRun.finished.0.2.0", "1")
    ]);
    let (status, taken) = send("application/cloudevents-batch+json", batch).await;
    assert_eq!(
        (status, &taken["recorded"], &taken["other"]),
        (200, &json!(1), &json!(["dev.cdevents.pipelineRun.finished.0.2.0"]))
    );
    // A batch with a mistake changes nothing.
    let mut wrong = structured("service.deployed.0.2.0", "2.5.0");
    wrong["data"]["subject"]["content"]["artifactId"] = json!("pkg:oci/fares");
    let (status, problem) = send(
        "application/cloudevents-batch+json",
        json!([structured("service.deployed.0.2.0", "2.6.0"), wrong]),
    )
    .await;
    assert_eq!(status, 400);
    assert!(
        problem["detail"].as_str().unwrap().contains("names no version"),
        "{problem}"
    );

    let large = send(
        "application/cloudevents-batch+json",
        json!([{ "x": "y".repeat(1 << 20) }]),
    )
    .await;
    assert!(
        large.0 == 400 && large.1["detail"].as_str().unwrap().contains("larger than 1 MiB"),
        "{large:?}"
    );
    // Half a MiB is read, and told what is wrong with it.
    let (status, problem) = send(
        "application/cloudevents-batch+json",
        json!([{ "x": "y".repeat(1 << 19) }]),
    )
    .await;
    assert!(
        status == 400 && problem["detail"].as_str().unwrap().contains("cannot be read: "),
        "{problem}"
    );

    let listed = running.client_json(&["deploys", "--service", "fares"]);
    let of = |field: &str| {
        listed["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|item| item[field].clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(
        of("version"),
        [json!("2.3.9"), json!("2.4.0"), json!("2.3.9")],
        "{listed}"
    );
    assert_eq!(of("rollback")[0], json!(true), "{listed}");
    assert_eq!(of("link")[0], "https://ci.skerry.example/run/7");

    let get = async |path: &str| {
        http.get(url(path))
            .bearer_auth(&token)
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(
        get("/deploys/check?service=fares&version=2.4.0&environment=production").await,
        200
    );
    assert_eq!((get("/errors").await, get("/keys").await), (403, 403));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_instances_and_a_restart_say_each_flag_once() {
    const FLAGS: &str = "SELECT string_agg(kind, ' ') FROM flag";
    let service = service();
    let mut one = service.start().await;
    let two = service.start().await;
    let minutes = |ago: std::ops::Range<u64>, version: &'static str, failing: &'static [&'static str]| -> Vec<Value> {
        ago.map(|ago| {
            minute(
                ago,
                version,
                20,
                &failing.iter().map(|name| (*name, 1)).collect::<Vec<_>>(),
            )
        })
        .collect()
    };
    send(&one, minutes(40..100, "2.3.9", &["Timeout"])).await;
    send(&two, minutes(20..40, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    let flags = async || two.service().row(FLAGS).await;
    let once = [Some("new".to_owned())];
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    while flags().await != once {
        assert!(std::time::Instant::now() < until, "{:?}", flags().await);
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    // Killed in the middle, started again, with more of the same from both.
    one.kill_and_restart().await;
    send(&one, minutes(10..20, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    send(&two, minutes(3..10, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    let has_all = "SELECT (sum(n) >= 37)::text FROM tally_day JOIN cause ON cause.id = cause_id JOIN error_group ON \
        error_group.id = error_id WHERE type = 'DivisionByZero'";
    assert_eq!(two.service().row(has_all).await, [Some("true".to_owned())]);
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    assert_eq!(flags().await, once);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_new_is_said_within_seconds_and_once() {
    const FLAGS: &str = "SELECT coalesce(string_agg(kind, ' '), '') FROM flag JOIN error_group ON error_group.id = \
        error_id WHERE type = 'Overbooked'";
    let running = service().start().await;
    send(
        &running,
        (2..100)
            .map(|ago| minute(ago, "2.3.9", 20, &[("Timeout", ago % 2)]))
            .collect(),
    )
    .await;
    // It has read what was: all of it occurred before what comes now.
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    let sent = std::time::Instant::now();
    send(&running, vec![minute(0, "2.3.9", 1, &[("Overbooked", 1)])]).await;
    while running.service().row(FLAGS).await != [Some("new".to_owned())] {
        // A minute is whole a minute after its end: so soon it is not.
        assert!(
            sent.elapsed() < std::time::Duration::from_secs(25),
            "not said within seconds"
        );
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    assert_eq!(running.service().row(FLAGS).await, [Some("new".to_owned())]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flag_that_late_data_proves_wrong_is_taken_back_for_all_to_see() {
    let running = service().start().await;
    let mut minutes: Vec<Value> = (40..100)
        .map(|ago| minute(ago, "2.3.9", 20, &[("Timeout", ago % 2)]))
        .collect();
    minutes.extend((3..40).map(|ago| minute(ago, "2.4.0", 20, &[("Timeout", ago % 2), ("DivisionByZero", 1)])));
    send(&running, minutes).await;
    let check = || {
        let output = running.client(&[
            "deploy",
            "check",
            "fares@2.4.0",
            "--environment",
            "production",
            "--fail-on",
            "new,surging",
            "--json",
        ]);
        serde_json::from_slice::<Value>(&output.stdout).unwrap_or_default()
    };
    let until = std::time::Instant::now() + std::time::Duration::from_secs(40);
    while check()["outcome"] != "flagged" {
        assert!(std::time::Instant::now() < until, "{}", check());
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    let reference = check()["flags"][0]["ref"].as_str().unwrap_or_default().to_owned();
    // A host was cut off: what it sends now occurred hours before the deploy.
    send(
        &running,
        (200..240)
            .map(|ago| minute(ago, "2.3.9", 20, &[("DivisionByZero", 1)]))
            .collect(),
    )
    .await;
    while check()["outcome"] == "flagged" {
        assert!(
            std::time::Instant::now() < until + std::time::Duration::from_secs(40),
            "{}",
            check()
        );
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    let answer = check();
    assert_eq!(answer["flags"], json!([]));
    assert_eq!(
        (&answer["withdrawn"][0]["ref"], &answer["withdrawn"][0]["flag"]),
        (&json!(reference), &json!("new"))
    );
    let shown = running.client(&["deploy", "check", "fares@2.4.0", "--environment", "production"]);
    let text = String::from_utf8(shown.stdout).unwrap();
    assert!(text.contains(&format!("taken back: new {reference}")), "{text}");
    // The error's own page says so too, and it is new no more.
    let error: Value = serde_json::from_slice(&running.client(&["show", &reference, "--json"]).stdout).unwrap();
    assert_eq!(error["flags"], json!([]));
    assert!(error["flagged"][0]["withdrawn_at"].is_string(), "{error}");
    assert_eq!(
        running
            .service()
            .row("SELECT count(*)::text FROM flag WHERE withdrawn_at IS NOT NULL")
            .await,
        [Some("1".to_owned())]
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backtest_needs_no_server_and_says_where_a_stream_is_wrong() {
    let nowhere = service();
    let line = |kind: &str, minute: u32, more: &str| {
        format!(
            r#"{{"kind":"{kind}","minute":"2026-11-02T{:02}:{:02}:00Z","service":"fares","environment":"production","version":"2.4.0",{more}}}"#,
            minute / 60,
            minute % 60
        )
    };
    let mut stream: Vec<String> = (0..60)
        .map(|minute| line("requests", minute, r#""count":100"#))
        .collect();
    stream.push(line("errors", 59, r#""group":"g1","count":2"#));
    let flags = nowhere.succeed(&["backtest", "-"], &stream.join("\n"));
    assert_eq!(
        flags,
        r#"{"flag":"new","service":"fares","environment":"production","group":"g1","version":"2.4.0","at":"2026-11-02T00:59:00Z"}"#
    );
    stream.push(line("errors", 3, r#""group":"g1","count":2"#));
    let output = nowhere.command_with(&["backtest", "-"], &stream.join("\n"), &[]);
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("-, line 62: it is earlier than the line before"));
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

#[tokio::test(flavor = "multi_thread")]
async fn the_running_service_and_the_backtest_say_the_same_of_the_same_data() {
    let mut running = service().start().await;
    // Thirty hours: a steady error that 2.4.0 makes surge, a new one that comes with it, one that
    // rises without a deploy.
    let of_minute = |ago: u64| {
        let version = if ago > 90 { "2.3.9" } else { "2.4.0" };
        let timeouts = if (40..=90).contains(&ago) {
            4 + ago % 3
        } else {
            u64::from(ago.is_multiple_of(3))
        };
        let missing = u64::from(ago <= 85 && ago.is_multiple_of(5));
        let refused = if (130..=160).contains(&ago) {
            5 + ago % 2
        } else {
            u64::from(ago % 4 == 1)
        };
        (
            version,
            [("Timeout", timeouts), ("DivisionByZero", missing), ("Refused", refused)],
        )
    };
    let minutes: Vec<u64> = (5..1_800).rev().collect();
    // All of it is told within one minute of the clock.
    let second = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs()
        % 60;
    if second > 20 {
        tokio::time::sleep(std::time::Duration::from_secs(61 - second)).await;
    }
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs()
        / 60;
    let bodies: Vec<Value> = minutes
        .iter()
        .map(|ago| {
            let (version, failing) = of_minute(*ago);
            minute(*ago, version, 10, &failing)
        })
        .collect();
    send(&running, bodies).await;

    let at = |ago: u64| chrono_text((now - ago) * 60_000);
    let mut stream = String::new();
    for ago in &minutes {
        let (version, failing) = of_minute(*ago);
        let place = json!({"service": "fares", "environment": "production", "version": version});
        let mut tell = |kind: &str, key: &str, more: Value| {
            let mut line = place.clone();
            (line["kind"], line[key]) = (kind.into(), at(*ago).into());
            line.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            writeln!(stream, "{line}").unwrap();
        };
        if *ago == 90 {
            tell("deploy", "at", json!({}));
        }
        tell("requests", "minute", json!({"count": 10}));
        for (group, count) in failing.iter().filter(|(_, count)| *count > 0) {
            tell("errors", "minute", json!({"group": group, "count": count}));
        }
    }
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), stream).unwrap();
    let told = running.client(&["backtest", file.path().to_str().unwrap()]);
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    let mut expected: Vec<String> = String::from_utf8(told.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .map(|flag| {
            format!(
                "{} {} {} {}",
                flag["flag"].as_str().unwrap(),
                flag["group"].as_str().unwrap(),
                flag["version"].as_str().unwrap_or_default(),
                outcrop_core::text::prefix(flag["at"].as_str().unwrap(), 16)
            )
        })
        .collect();
    expected.sort();

    // What was said while the data was still coming in is not of the same data: it is said anew, from the whole.
    running.service().execute("DELETE FROM flag").await;
    running.kill_and_restart().await;
    let sql = "SELECT string_agg(f.kind || ' ' || e.type || ' ' || f.version || ' ' || to_char(f.said_at AT TIME ZONE \
        'UTC', 'YYYY-MM-DD\"T\"HH24:MI'), ',') AS flags \
               FROM flag f JOIN error_group e ON e.id = f.error_id";
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    loop {
        let mut said: Vec<String> = running.service().row(sql).await[0]
            .as_deref()
            .unwrap_or_default()
            .split(',')
            .map(str::to_owned)
            .collect();
        said.sort();
        if said == expected {
            break;
        }
        assert!(
            std::time::Instant::now() < until,
            "live: {said:#?}\nbacktest: {expected:#?}"
        );
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    let has = |start: &str| expected.iter().any(|flag| flag.starts_with(start));
    assert!(
        has("new DivisionByZero 2.4.0") && has("surging Timeout 2.4.0") && has("surging Refused"),
        "{expected:#?}"
    );
}

/// A time in milliseconds since 1970 as RFC 3339.
fn chrono_text(millis: u64) -> String {
    let at = std::time::UNIX_EPOCH + std::time::Duration::from_millis(millis);
    humantime::format_rfc3339_millis(at).to_string()
}
