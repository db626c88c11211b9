//! Log lines kept and followed to their requests; who calls whom, statements, instances, what is unwell.

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

const TRACE: &str = "6b8efff798038103d269b633813fc60e";

fn now() -> u64 {
    u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_millis(),
    )
    .unwrap()
}

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

fn resource(service: &str) -> Value {
    json!({"attributes": [text("service.name", service), text("service.version", "2.4.0"), text("service.instance.id",
        &format!("{service}-a")),
        text("host.name", "pier-3"), text("cloud.region", "south")]})
}

async fn post(running: &Running, path: &str, body: Value) {
    let answer = running
        .post(path)
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200, "{path}");
}

async fn lines(running: &Running, service: &str, records: Vec<Value>) {
    let body = json!({"resourceLogs": [{"resource": resource(service), "scopeLogs": [{"scope": {"name": "skerry.log"},
        "logRecords": records}]}]});
    post(running, "/v1/logs", body).await;
}

fn line(at: u64, severity: u8, message: &str, span: Option<u64>) -> Value {
    let mut record = json!({"timeUnixNano": (at * 1_000_000).to_string(), "severityNumber": severity,
        "body": {"stringValue": message},
        "attributes": [{"key": "berth", "value": {"intValue": 7}}, text("password", "tide")]});
    if let Some(span) = span {
        record["traceId"] = json!(TRACE);
        record["spanId"] = json!(format!("{span:016x}"));
    }
    record
}

/// A request of gangway that calls fares, which reads its database and fails.
async fn failing_request(running: &Running, start: u64) {
    let span = |ids: (u64, u64), kind: u8, name: &str, times: (u64, u64), attributes: Vec<Value>, fails: bool| {
        let nanos = |millis: u64| ((start + millis) * 1_000_000).to_string();
        let thrown = json!([{"name": "exception", "timeUnixNano": nanos(times.1),
            "attributes": [text("exception.type", "NoFare"),
            text("exception.message", "no fare"), text("exception.stacktrace", "Traceback (most recent call last):\n  \
                File \"/srv/fares.py\", line 7, in fare\n    x\nNoFare: no fare")]}]);
        json!({"traceId": TRACE, "spanId": format!("{:016x}", ids.0), "parentSpanId": if ids.1 == 0 {
            String::new() } else { format!("{:016x}", ids.1) },
            "name": name, "kind": kind, "startTimeUnixNano": nanos(times.0), "endTimeUnixNano": nanos(times.1),
                "attributes": attributes,
            "events": if fails && kind == 2 { thrown } else { json!([]) }, "status": if fails {
                json!({"code": 2}) } else { json!({}) }})
    };
    let http = |route: &str| vec![text("http.request.method", "POST"), text("http.route", route)];
    let edge = vec![
        span((1, 0), 2, "POST /board", (0, 300), http("/board"), false),
        span(
            (2, 1),
            3,
            "POST",
            (10, 290),
            vec![
                text("http.request.method", "POST"),
                text("server.address", "fares.skerry.example"),
            ],
            true,
        ),
    ];
    let fares = vec![
        span((3, 2), 2, "POST /quotes", (20, 280), http("/quotes"), true),
        span(
            (4, 3),
            3,
            "SELECT",
            (30, 60),
            vec![
                text("db.system.name", "postgresql"),
                text("db.namespace", "tariffs"),
                text("db.query.text", "SELECT rate FROM tariff WHERE id = 41 AND day = $1"),
            ],
            false,
        ),
        span(
            (5, 3),
            3,
            "SELECT",
            (60, 90),
            vec![
                text("db.system.name", "postgresql"),
                text("db.namespace", "tariffs"),
                text("db.query.text", "SELECT rate FROM tariff WHERE id = 42 AND day = $1"),
            ],
            false,
        ),
    ];
    for (service, spans) in [("gangway", edge), ("fares", fares)] {
        post(
            running,
            "/v1/traces",
            json!({"resourceSpans": [{"resource": resource(service), "scopeSpans": [{"spans": spans}]}]}),
        )
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_is_told_with_what_led_up_to_it_and_every_line_is_found_again() {
    let running = service().start().await;
    let start = now() - 30_000;
    failing_request(&running, start).await;
    lines(
        &running,
        "gangway",
        vec![line(start + 5, 9, "boarding of sailing 4123", Some(1))],
    )
    .await;
    let more = (1..=12_u64).map(|n| line(start - n * 1_000, 9, &format!("quote {n} for deck car"), None));
    lines(
        &running,
        "fares",
        more.chain([line(start + 95, 13, "tariff 41 has no rate", Some(3))])
            .collect(),
    )
    .await;

    // What led up to it, over both services, in order; the two runs of one statement are one step.
    let errors = running.errors().await;
    let reference = errors[0]["ref"].as_str().unwrap().to_owned();
    let (_, page) = running.get(&format!("/api/v1/errors/{reference}/occurrences")).await;
    let id = page["items"][0]["id"].as_str().unwrap();
    let (status, lead_up) = running.get(&format!("/api/v1/occurrences/{id}/lead-up")).await;
    assert_eq!((status, &lead_up["from"]), (200, &json!("trace")), "{lead_up}");
    let steps: Vec<String> = lead_up["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| {
            format!(
                "{} {} {} x{}",
                step["service"].as_str().unwrap(),
                step["kind"].as_str().unwrap(),
                step["what"].as_str().unwrap(),
                step["times"]
            )
        })
        .collect();
    assert_eq!(
        steps,
        [
            "gangway began POST /board x1",
            "gangway line boarding of sailing 4123 x1",
            "gangway began POST x1",
            "fares began POST /quotes x1",
            "fares done query `SELECT rate FROM tariff WHERE id = {n} AND day = ?` x2",
            "fares line tariff 41 has no rate x1",
        ]
    );

    // Lines by trace, by error, by predicate and text; secrets never.
    let count = |arguments: &[&str]| {
        running.client_json(&[&["logs"], arguments].concat())["items"]
            .as_array()
            .unwrap()
            .len()
    };
    assert_eq!(
        (
            count(&["--trace", TRACE]),
            count(&["--error", &reference]),
            count(&["--severity", "warn"])
        ),
        (2, 2, 1)
    );
    assert_eq!(
        count(&["--where", "berth = 7 and message contains DECK", "--service", "fares"]),
        12
    );
    assert_eq!(count(&["--text", "RATE", "--limit", "1"]), 1);
    let found = running.client_json(&["logs", "--text", "no rate"]);
    assert_eq!(
        (&found["items"][0]["severity"], &found["items"][0]["trace_id"]),
        (&json!("warn"), &json!(TRACE))
    );
    assert_eq!(found["items"][0]["attributes"]["otel.scope.name"], "skerry.log");
    assert!(!found.to_string().contains("tide"), "{found}");
    let refused = running.client(&["logs", "--where", "type = NoFare"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(
        String::from_utf8_lossy(&refused.stderr).contains("a log line has no `type`"),
        "{refused:?}"
    );
    // Pages follow each other without a gap.
    let first = running.client_json(&["logs", "--limit", "5"]);
    let next = running.client_json(&["logs", "--limit", "500", "--cursor", first["next"].as_str().unwrap()]);
    assert_eq!(next["items"].as_array().unwrap().len(), 9);

    // What they have in common, and all lines of one template.
    let templates = running.client_json(&["logs", "--templates", "--service", "fares"]);
    let most = &templates["items"][0];
    assert_eq!(
        (&most["text"], &most["count"], &most["before"]),
        (&json!("quote {n} for deck car"), &json!(12), &json!(0))
    );
    assert_eq!(count(&["--like", most["template"].as_str().unwrap()]), 12);

    // Who calls whom, and by which statements.
    let calls = running.client_json(&["calls"]);
    let told: Vec<(&str, &str, &Value)> = calls["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|call| {
            (
                call["service"].as_str().unwrap(),
                call["name"].as_str().unwrap(),
                &call["failed"],
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            ("gangway", "fares.skerry.example", &json!(1)),
            ("fares", "postgresql tariffs", &json!(0))
        ]
    );
    let statements = running.client_json(&["statements"]);
    let statement = &statements["items"][0];
    assert_eq!(
        (&statement["name"], &statement["count"]),
        (&json!("SELECT rate FROM tariff WHERE id = {n} AND day = ?"), &json!(2))
    );
    assert_eq!(
        (&statement["mean_ms"], &statement["longest_ms"], &statement["total_ms"]),
        (&json!(30.0), &json!(30.0), &json!(60.0))
    );

    // The service behind a name is learnt from a trace, some seconds after it came.
    let until = std::time::Instant::now() + std::time::Duration::from_secs(45);
    while running.client_json(&["calls"])["items"][0]["to_service"] != json!("fares") {
        assert!(
            std::time::Instant::now() < until,
            "it was not learnt that fares stands behind its address"
        );
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn instances_tell_their_load_and_what_is_unwell_is_said() {
    let running = service().start().await;
    let at = now();
    let gauge = |name: &str, value: f64| {
        json!({"name": name,
        "gauge": {"dataPoints": [{"timeUnixNano": (at * 1_000_000).to_string(), "asDouble": value}]}})
    };
    let metrics = vec![
        gauge("process.cpu.utilization", 0.42),
        gauge("skerry.tickets.sold", 31.0),
    ];
    post(
        &running,
        "/v1/metrics",
        json!({"resourceMetrics": [{"resource": resource("fares"), "scopeMetrics": [{"metrics": metrics}]}]}),
    )
    .await;
    let request = |n: u64, code: i64| {
        json!({"traceId": format!("{:032x}", n + 1), "spanId": format!("{:016x}", n + 1), "name": "POST \
            /quotes", "kind": 2,
            "startTimeUnixNano": ((at - 120_000 - n) * 1_000_000).to_string(),
                "endTimeUnixNano": ((at - 119_900 - n) * 1_000_000).to_string(),
            "attributes": [text("http.request.method", "POST"), text("http.route", "/quotes"),
                {"key": "http.response.status_code", "value": {"intValue": code}}]})
    };
    let spans: Vec<Value> = (0..40).map(|n| request(n, if n < 12 { 500 } else { 200 })).collect();
    post(
        &running,
        "/v1/traces",
        json!({"resourceSpans": [{"resource": resource("fares"), "scopeSpans": [{"spans": spans}]}]}),
    )
    .await;

    // A pod's end as a collector tells of it, twice: it is one event.
    let killed = json!({"timeUnixNano": ((at - 60_000) * 1_000_000).to_string(), "severityNumber": 13,
        "severityText": "Warning",
        "body": {"stringValue": "Memory cgroup out of memory: killed process \
         4711"}, "attributes": [text("k8s.event.reason", "OOMKilling")]});
    let watched = json!({"attributes": [text("service.name", "platform"), text("k8s.object.kind", "Pod"),
        text("k8s.object.name", "fares-a")]});
    for round in 0..2 {
        let scope = json!({"name": format!("watch {round}")});
        let lines =
            json!({"resourceLogs": [{"resource": watched, "scopeLogs": [{"scope": scope, "logRecords": [killed]}]}]});
        post(&running, "/v1/logs", lines).await;
    }

    let instances = running.client_json(&["instances"]);
    let events = instances["platform_events"].as_array().unwrap();
    assert_eq!(
        (events.len(), &events[0]["reason"], &events[0]["instance"]),
        (1, &json!("OOMKilling"), &json!("fares-a")),
        "{instances}"
    );
    let shown = String::from_utf8(running.client(&["instances"]).stdout).unwrap();
    assert!(
        shown.contains("OOMKilling") && shown.contains("killed process 4711"),
        "{shown}"
    );
    let instance = &instances["items"][0];
    assert_eq!(
        (&instance["instance"], &instance["host"], &instance["region"]),
        (&json!("fares-a"), &json!("pier-3"), &json!("south"))
    );
    assert_eq!(
        (&instance["requests"], &instance["failed"], &instance["readings"]),
        (&json!(40), &json!(12), &json!({"process.cpu.utilization": 0.42}))
    );

    // Held against the very same hours, everything is as it was; against a week ago, nothing was.
    let whole = format!(
        "{}/{}",
        humantime::format_rfc3339_seconds(std::time::SystemTime::now() - std::time::Duration::from_hours(24)),
        humantime::format_rfc3339_seconds(std::time::SystemTime::now())
    );
    for (period, requests, lines) in [(whole.as_str(), 40, 2), ("7d", 0, 0)] {
        let instances = running.client_json(&["instances", "--against", period]);
        assert_eq!(
            instances["items"][0]["against"]["requests"], requests,
            "{period}: {instances}"
        );
        let templates = running.client_json(&["logs", "--templates", "--against", period]);
        assert_eq!(
            (&templates["items"][0]["count"], &templates["items"][0]["before"]),
            (&json!(2), &json!(lines)),
            "{period}: {templates}"
        );
    }

    let now = running.client_json(&["now"]);
    assert_eq!((&now["requests"], &now["failed"]), (&json!(40), &json!(12)), "{now}");
    let unwell = &now["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["kind"] == "failing")
        .unwrap();
    assert_eq!(
        (&unwell["what"], &unwell["why"]),
        (
            &json!("POST /quotes"),
            &json!("12 of 40 requests failed in the last 15 minutes (30 %); none before")
        )
    );
    let (status, course) = running
        .get("/api/v1/endpoints/course?service=fares&endpoint=POST%20/quotes&since=1h")
        .await;
    let sums = |of: &str| {
        course["steps"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(|step| step[of].as_i64())
            .sum::<i64>()
    };
    assert_eq!((status, sums("requests"), sums("failed")), (200, 40, 12));
}
