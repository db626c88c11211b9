//! What stands out, why occurrences are one error, and finding what somebody has at hand.

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

const MINUTE: u64 = 60_000_000_000;

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

/// 400 requests over the last two hours, every tenth in winter; each fifth of the winter ones and
/// none of summer's fails, as a job would: every fifteen minutes.
async fn with_winter_failing(running: &Running) {
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap();
    let stack = "Traceback (most recent call last):\n  File \"/srv/venv/lib/python3.11/site-packages/flask/app.py\", \
        line 9, in full_dispatch\n    \
                 x\n  File \"/srv/fares/tariff.py\", line 92, in per_metre\n    x\nZeroDivisionError: division by zero";
    let span = |at: u64| {
        let failed = at.is_multiple_of(50);
        let season = if at.is_multiple_of(10) { "winter" } else { "summer" };
        let id = at + 1;
        // Failures stand at whole quarters of an hour back; the others anywhere.
        let time = if failed {
            now - MINUTE * 15 * (at / 50 + 1)
        } else {
            now - MINUTE * (at * 7 % 119 + 1)
        };
        let events = if failed {
            vec![
                json!({"name": "exception", "timeUnixNano": time.to_string(), "attributes": [
                text("exception.type", "ZeroDivisionError"), text("exception.message", "division by \
                    zero"), text("exception.stacktrace", stack)]}),
            ]
        } else {
            vec![]
        };
        json!({"traceId": format!("{:032x}", u128::from(id) * 0x9e37_79b9_7f4a_7c15), "spanId": format!("{id:016x}"),
            "name": "GET /v1/quotes", "kind": 2,
            "startTimeUnixNano": (time - 1_000_000).to_string(), "endTimeUnixNano": time.to_string(),
                "status": {"code": if failed { 2 } else { 0 }},
            "attributes": [text("http.request.method", "GET"), text("http.route", "/v1/quotes"), text("skerry.season",
                season),
                text("http.response.status_code", if failed { "500" } else { "200" }), text("user.id",
                    &format!("u-{at}"))],
            "events": events})
    };
    let spans: Vec<Value> = (0..400).map(span).collect();
    let resource = json!({"attributes": [text("service.name", "fares"), text("service.version", "2.4.0"),
        text("deployment.environment.name", "production")]});
    let body = json!({"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": spans}]}]});
    let answer = running
        .post("/v1/traces")
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_stands_out_is_said_in_words_against_the_requests_of_the_same_time() {
    let running = service().start().await;
    with_winter_failing(&running).await;
    let reference = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let (status, common) = running.get(&format!("/api/v1/errors/{reference}/stands-out")).await;
    assert_eq!((status, &common["occurrences"]), (200, &8.into()), "{common:#}");
    assert!(
        common["requests"].as_u64().unwrap() >= 60,
        "one request in four is sampled: {common:#}"
    );
    let sentences: Vec<&str> = common["stands_out"]
        .as_array()
        .unwrap()
        .iter()
        .map(|found| found["sentence"].as_str().unwrap())
        .collect();
    assert!(
        sentences
            .iter()
            .any(|sentence| sentence.starts_with("all with skerry.season = winter; usually ")),
        "{sentences:?}"
    );
    // What every request has, what tells how it ended, and what differs each time say nothing.
    for dull in ["http.route", "status_code", "user.id", "service.name"] {
        assert!(
            !sentences.iter().any(|sentence| sentence.contains(dull)),
            "{dull}: {sentences:?}"
        );
    }
    assert_eq!(common["rhythm"], "every 15 minutes");
    let seasons = common["attributes"]
        .as_array()
        .unwrap()
        .iter()
        .find(|attribute| attribute["name"] == "skerry.season")
        .unwrap();
    assert_eq!(
        seasons["values"],
        json!([{"value": "winter", "count": 8, "where": "skerry.season = \"winter\""}])
    );

    let shown = String::from_utf8(running.client(&["show", &reference]).stdout).unwrap();
    assert!(
        shown.contains("all with skerry.season = winter") && shown.contains("It comes every 15 minutes."),
        "{shown}"
    );
    let why = String::from_utf8(running.client(&["show", &reference, "--why"]).stdout).unwrap();
    assert!(
        why.contains("tariff:per_metre") && why.contains("ZeroDivisionError") && why.contains("1 library frame"),
        "{why}"
    );
    // The explanation is of the very key: what it counts is all that tells this error from others.
    let (_, explanation) = running.get(&format!("/api/v1/errors/{reference}/explanation")).await;
    assert_eq!(explanation["counted"].as_array().unwrap().len(), 2, "{explanation}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_pasted_is_found() {
    let running = service().start().await;
    with_winter_failing(&running).await;
    let reference = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let latest = running.client_json(&["occurrences", &reference])["items"][0].clone();
    let (id, trace, user) = (
        latest["id"].as_str().unwrap(),
        latest["trace_id"].as_str().unwrap(),
        latest["user"].as_str().unwrap(),
    );
    let full = running.client_json(&["occurrence", id]);
    let stack = full["stacktrace"].as_str().unwrap();
    let first = |text: &str| running.client_json(&["find", text])["items"][0].clone();
    for (pasted, by) in [
        (reference.clone(), "error"),
        (format!("look at {reference}, please"), "error"),
        (id.to_owned(), "occurrence"),
        (stack.to_owned(), "stack"),
        (
            "2026-11-23 04:40:07 ERROR fares: ZeroDivisionError: division by zero".to_owned(),
            "log line",
        ),
        ("fares zerodivision".to_owned(), "words"),
        ("fares/tariff.py:92".to_owned(), "file"),
        ("per_metre()".to_owned(), "function"),
    ] {
        let found = first(&pasted);
        assert_eq!(
            (&found["ref"], &found["by"]),
            (&reference.as_str().into(), &by.into()),
            "{pasted}: {found}"
        );
    }
    for (pasted, predicate) in [
        (trace.to_owned(), format!("trace = {trace}")),
        (user.to_owned(), format!("user.id = \"{user}\"")),
    ] {
        let found = first(&pasted);
        assert_eq!(found["where"], predicate.as_str(), "{found}");
        let errors = running.client_json(&["errors", "--where", &predicate]);
        assert_eq!(errors["items"][0]["ref"], reference.as_str());
    }
    let link = format!("{}/errors/{reference}?occurrence={id}&since=7d", running.url);
    assert_eq!(
        first(&link)["path"],
        format!("/errors/{reference}?occurrence={id}&since=7d")
    );
    assert_eq!(
        running.client_json(&["find", "no such thing anywhere"])["items"],
        json!([])
    );
}

/// One report of a failure of gangway, of which the algorithm before saw no more than the function without a name.
async fn scan_fails(running: &Running, function: &str) {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
        .to_string();
    let message = "Cannot read properties of undefined (reading 'leg')";
    let stack = format!(
        "TypeError: {message}\n    at leg (/srv/gangway/gate.ts:9:3)\n    at open (/srv/gangway/gate.ts:12:3)\n    at \
         /srv/gangway/gate.ts:25:7\n    \
         at {function} (/srv/gangway/run.ts:50:3)"
    );
    let attributes = [
        text("exception.type", "TypeError"),
        text("exception.message", message),
        text("exception.stacktrace", &stack),
    ];
    let body = json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", "gangway")]},
        "scopeLogs": [{"logRecords": [
        {"timeUnixNano": now, "severityNumber": 17, "attributes": attributes}]}]}]});
    let answer = running
        .post("/v1/logs")
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_algorithm_keeps_the_identity_of_every_known_error() {
    let mut running = service().start().await;
    scan_fails(&running, "scan").await;
    let before = running.errors().await[0]["ref"].clone();
    // As the release before this one would have left it: all of it under the key of its algorithm.
    for statement in [
        "UPDATE occurrence SET cause_id = (SELECT id FROM cause WHERE algorithm = 2)",
        "UPDATE sighted SET cause_id = (SELECT id FROM cause WHERE algorithm = 2)",
        "UPDATE tally_minute SET cause_id = (SELECT id FROM cause WHERE algorithm = 2)",
        "UPDATE tally_hour SET cause_id = (SELECT id FROM cause WHERE algorithm = 2)",
        "UPDATE tally_day SET cause_id = (SELECT id FROM cause WHERE algorithm = 2)",
        "DELETE FROM cause WHERE algorithm = 3",
    ] {
        running.service().execute(statement).await;
    }
    running.kill_and_restart().await;
    scan_fails(&running, "scan").await;
    let errors = running.errors().await;
    assert_eq!(
        (errors.len(), &errors[0]["ref"], &errors[0]["count"]),
        (1, &before, &2.into()),
        "{errors:#?}"
    );
    // Beside it, the older release goes on writing under its own key: the cause it looks up is
    // there, and of the same error.
    let row = running
        .service()
        .row("SELECT (count(DISTINCT error_id) || ' of ' || count(*)) FROM cause")
        .await;
    assert_eq!(row, [Some("1 of 2".to_owned())]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_previous_algorithm_lumped_together_stays_apart_in_a_new_installation() {
    let running = service().start().await;
    scan_fails(&running, "scan").await;
    scan_fails(&running, "rescan").await;
    assert_eq!(
        running.errors().await.len(),
        2,
        "the algorithm before saw no difference; its key alone joins nothing"
    );
}
