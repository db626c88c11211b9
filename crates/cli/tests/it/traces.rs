//! Traces over services: put together, followed to where they failed, kept or let go.

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

const TRACE: &str = "5b8efff798038103d269b633813fc60d";

struct Sent {
    service: &'static str,
    trace: String,
    spans: Vec<Value>,
}

fn now() -> u64 {
    u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_millis(),
    )
    .unwrap()
}

/// A span that began and ended so many milliseconds after `start`; with an exception where one is named.
fn span(
    trace: &str,
    start: u64,
    ids: (u64, u64),
    kind: u8,
    name: &str,
    times: (u64, u64),
    exception: Option<&str>,
) -> Value {
    let nanos = |millis: u64| ((start + millis) * 1_000_000).to_string();
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let stack = |thrown: &str| {
        format!(
            "Traceback (most recent call last):\n  File \"/srv/{thrown}.py\", line 7, in {thrown}\n    x\n{thrown}: \
             no fare"
        )
    };
    let events: Vec<Value> = exception
        .map(|thrown| {
            json!({"name": "exception", "timeUnixNano": nanos(times.1), "attributes": [
                text("exception.type", thrown), text("exception.message", "no \
                    fare"), text("exception.stacktrace", &stack(thrown))]})
        })
        .into_iter()
        .collect();
    let status = if exception.is_some() || name.starts_with('!') {
        json!({"code": 2})
    } else {
        json!({})
    };
    let mut attributes = vec![];
    if kind == 2 {
        attributes.push(text("http.route", "/v1/quotes/{sailing}"));
        attributes.push(text("http.request.method", "POST"));
        let code = if exception.is_some() {
            500
        } else if name.contains("404") {
            404
        } else {
            200
        };
        attributes.push(json!({"key": "http.response.status_code", "value": {"intValue": code}}));
    }
    json!({"traceId": trace, "spanId": format!("{:016x}", ids.0), "parentSpanId": if ids.1 == 0 {
        String::new() } else { format!("{:016x}", ids.1) },
        "name": name.trim_start_matches('!'), "kind": kind, "startTimeUnixNano": nanos(times.0),
            "endTimeUnixNano": nanos(times.1),
        "attributes": attributes, "events": events, "status": status})
}

impl Sent {
    async fn to(&self, running: &Running) {
        let resource = json!({"attributes": [
            {"key": "service.name", "value": {"stringValue": self.service}}, {"key": "service.version",
                "value": {"stringValue": "2.4.0"}}]});
        let body = json!({"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": self.spans}]}]});
        let answer = running
            .post("/v1/traces")
            .header("content-type", "application/json")
            .body(body.to_string())
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 200, "{}", self.trace);
    }
}

/// The edge's part and fares' part of a request that failed in fares; fares' clock is a minute behind.
fn failing(start: u64) -> (Sent, Sent) {
    let edge = vec![
        span(
            TRACE,
            start,
            (1, 0),
            2,
            "POST /v1/quotes/{sailing}",
            (0, 200),
            Some("UpstreamError"),
        ),
        span(TRACE, start, (2, 1), 3, "!POST", (10, 190), None),
    ];
    let fares = vec![
        span(
            TRACE,
            start - 60_000,
            (3, 2),
            2,
            "POST /v1/quotes/{sailing}",
            (20, 180),
            Some("DivisionByZero"),
        ),
        span(TRACE, start - 60_000, (4, 3), 1, "tariff", (30, 40), None),
    ];
    let sent = |service, spans| Sent {
        service,
        trace: TRACE.to_owned(),
        spans,
    };
    (sent("gangway", edge), sent("fares", fares))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failing_request_is_one_trace_whose_echo_names_its_origin() {
    let running = service().start().await;
    let start = now() - 5_000;
    let (edge, fares) = failing(start);
    // The part that failed first comes last, and once more in another request.
    edge.to(&running).await;
    fares.to(&running).await;
    Sent {
        spans: fares.spans[..1].to_vec(),
        ..failing(start).1
    }
    .to(&running)
    .await;

    let trace = running.client_json(&["trace", TRACE]);
    let spans = trace["spans"].as_array().unwrap();
    let told: Vec<String> = spans
        .iter()
        .map(|span| {
            format!(
                "{} {} {}",
                span["depth"],
                span["service"].as_str().unwrap(),
                span["offset_ms"]
            )
        })
        .collect();
    assert_eq!(
        told,
        ["0 gangway 0.0", "1 gangway 10.0", "2 fares 20.0", "3 fares 30.0"],
        "fares was moved into its call"
    );
    assert_eq!(
        (&trace["services"], &trace["kept_because"], &trace["moved"]),
        (&json!(["gangway", "fares"]), &json!(["failed"]), &json!(2))
    );
    assert_eq!(
        trace["sentence"],
        "150 ms of 200 ms is fares’ own work in POST /v1/quotes/{sailing}."
    );
    assert_eq!(trace["failed_first"], "Failed first in fares: DivisionByZero: no fare.");
    assert_eq!(spans[0]["origin_span_id"], "0000000000000003");
    assert!(spans.iter().all(|span| span["on_critical_path"] == json!(true)));
    let of = |at: usize| spans[at]["occurrences"][0]["ref"].as_str().unwrap().to_owned();
    let (echo, origin) = (of(0), of(2));

    // Origins are looked for once the parts have had some seconds to come.
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    let found = loop {
        let errors = running.errors().await;
        let found = errors.iter().find(|error| error["ref"] == json!(echo)).unwrap().clone();
        if found["origin"].is_string() || std::time::Instant::now() > until {
            break found;
        }
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    };
    assert_eq!(found["origin"], json!(origin));
    let reasons = found["attention"]["reasons"].to_string();
    assert!(reasons.contains(&format!("follows from {origin}")), "{reasons}");
    let (_, of_origin) = running.get(&format!("/api/v1/errors/{origin}")).await;
    assert_eq!(
        (
            &of_origin["followed_by"][0]["ref"],
            &of_origin["followed_by"][0]["count"]
        ),
        (&json!(echo), &json!(1))
    );
    let (_, of_echo) = running.get(&format!("/api/v1/errors/{echo}")).await;
    assert_eq!(of_echo["begins_in"][0]["service"], "fares");

    let shown = String::from_utf8(running.client(&["trace", TRACE]).stdout).unwrap();
    assert!(
        shown.contains("✗ gangway POST /v1/quotes/{sailing}") && shown.contains(", began in fares"),
        "{shown}"
    );
    let said = String::from_utf8(running.client(&["trace", TRACE, "--attributes"]).stdout).unwrap();
    assert!(
        said.contains("      http.route = /v1/quotes/{sailing}\n") && said.contains("exception.type = DivisionByZero"),
        "{said}"
    );
    let none = running.client(&["trace", "00000000000000000000000000000001"]);
    assert_eq!(none.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&none.stderr).contains("nothing of this trace is stored"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_failed_or_was_slow_is_kept_and_the_rest_is_let_go() {
    let running = service().start().await;
    let start = now() - 5_000;
    let one = |number: u64, name: &'static str, length: u64| {
        // Ids that are none of the even sample.
        let trace = format!(
            "{:032x}",
            0x5b8e_fff7_9803_8103_d269_b633_0000_0000_u128 + u128::from(number)
        );
        let spans = vec![span(&trace, start, (number, 0), 2, name, (0, length), None)];
        Sent {
            service: "fares",
            trace,
            spans,
        }
    };
    let first = one(1, "POST /v1/quotes/{sailing}", 30);
    first.to(&running).await;
    let set = running.client(&[
        "endpoints",
        "--slow-from",
        "fares",
        "POST /v1/quotes/{sailing}",
        "400ms",
    ]);
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
    let (edge, fares) = failing(start);
    edge.to(&running).await;
    fares.to(&running).await;
    one(2, "POST 404", 20).to(&running).await;
    // Thresholds are read every fifteen seconds.
    tokio::time::sleep(std::time::Duration::from_secs(16)).await;
    let slow = one(3, "POST /v1/quotes/{sailing}", 900);
    slow.to(&running).await;

    let endpoints = running.client_json(&["endpoints", "--service", "fares"]);
    let item = &endpoints["items"][0];
    assert_eq!(
        (&item["count"], &item["failed"], &item["slow_from_ms"]),
        (&json!(4), &json!(1), &json!(400.0)),
        "{item}"
    );
    assert_eq!(
        item["statuses"],
        json!([{"status": 404, "count": 1, "kept": 1}, {"status": 500, "count": 1, "kept": 1}])
    );
    let (p50, p99) = (item["p50_ms"].as_f64().unwrap(), item["p99_ms"].as_f64().unwrap());
    assert!(
        (p50 / 30.0 - 1.0).abs() < 0.011 && (p99 / 900.0 - 1.0).abs() < 0.011,
        "{p50} {p99}"
    );
    let by_status = running.client_json(&["requests", "--status", "404"]);
    assert_eq!(
        (
            by_status["items"].as_array().unwrap().len(),
            &by_status["items"][0]["attributes"]["http.route"]
        ),
        (1, &json!("/v1/quotes/{sailing}"))
    );
    let slowest = running.client_json(&["slow"]);
    assert_eq!(
        (&slowest["items"][0]["why"], &slowest["items"][0]["count"]),
        (&json!("fares’ own work in POST /v1/quotes/{sailing}"), &json!(1))
    );

    let database = outcrop_store::Database::open(running.service().database())
        .await
        .unwrap();
    let drained = outcrop_store::traces::drain(&database, chrono::Utc::now() + chrono::TimeDelta::hours(2), true)
        .await
        .unwrap();
    assert!(drained >= 1);
    let kept = |id: &str| running.client(&["trace", id]).status.success();
    assert_eq!(
        (kept(TRACE), kept(&slow.trace), kept(&first.trace)),
        (true, true, false)
    );
    let trace = running.client_json(&["trace", TRACE]);
    assert_eq!(
        (trace["spans"].as_array().unwrap().len(), &trace["is_kept"]),
        (4, &json!(true))
    );
}
