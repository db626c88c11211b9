//! Sampled requests, and sampled bodies.

use std::fmt::Write as _;

use serde_json::{Value, json};

use crate::senders::send;
use crate::support::service;

/// A failing and three healthy requests as one sampler would send them; `state`: their trace state.
fn requests(service: &str, state: &str, from: u64) -> String {
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap();
    let spans: Vec<Value> = (from..from + 4)
        .map(|number| {
            let event = json!({"name": "exception", "timeUnixNano": (now + 1).to_string(),
                "attributes": [text("exception.type", "BerthError")]});
            let fails = number == from;
            json!({
                "traceId": format!("{number:032x}"), "spanId": format!("{number:016x}"), "traceState": state,
                    "flags": 1, "kind": 2, "name": "GET /moor",
                "startTimeUnixNano": now.to_string(), "endTimeUnixNano": (now + 20_000_000).to_string(),
                "attributes": [text("http.request.method", "GET"), text("http.route", "/moor"),
                    {"key": "http.response.status_code", "value": {"intValue": if fails { "500" } else { "200" }}}],
                "status": {"code": if fails { 2 } else { 0 }}, "events": if fails { vec![event] } else { vec![] },
            })
        })
        .collect();
    json!({"resourceSpans": [{"resource": {"attributes": [text("service.name", service)]},
        "scopeSpans": [{"spans": spans}]}]})
    .to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn sampled_requests_count_for_what_they_stand_for_and_rates_say_where_that_is_unknown() {
    let running = service().start().await;
    // th:c: one in four is sent. Whole: th:0. Ports says nothing, but its log tells of requests that were not sent.
    for (number, (service, state)) in [
        ("berths", "skerry=tide,ot=th:c;rv:9b8233f7e3a151"),
        ("fares", "ot=th:0"),
        ("ports", ""),
    ]
    .into_iter()
    .enumerate()
    {
        assert_eq!(
            send(
                &running,
                &running.key,
                "/v1/traces",
                requests(service, state, 1_000 * (number as u64 + 1))
            )
            .await
            .0,
            200
        );
    }
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
        .to_string();
    let line = |number: u64, flags: u32| {
        json!({"timeUnixNano": now, "severityNumber": 9,
        "body": {"stringValue": "moored"}, "traceId": format!("{number:032x}"), "flags": flags})
    };
    let lines = json!({"resourceLogs": [{"resource": {"attributes": [{"key": "service.name",
        "value": {"stringValue": "ports"}}]},
        "scopeLogs": [{"logRecords": [line(3_000, 1), line(7_001, 0), line(7_002, 0), line(7_003, 0)]}]}]});
    assert_eq!(send(&running, &running.key, "/v1/logs", lines.to_string()).await.0, 200);
    tokio::time::sleep(std::time::Duration::from_millis(2_500)).await;

    let endpoints = running.client_json(&["endpoints"]);
    let of = |service: &str| {
        let item = endpoints["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["service"] == service)
            .unwrap();
        (
            item["count"].as_i64().unwrap(),
            item["failed"].as_i64().unwrap(),
            item["statuses"][0]["count"].as_i64().unwrap(),
        )
    };
    assert_eq!(
        (of("berths"), of("fares"), of("ports")),
        ((16, 4, 4), (4, 1, 1), (4, 1, 1)),
        "{endpoints}"
    );
    let said = endpoints["sampling"].to_string();
    assert!(
        said.contains("one request in 4 is sent")
            && said.contains("sampled at an unknown rate: 75 %")
            && !said.contains("fares"),
        "{said}"
    );
    for error in running.errors().await {
        assert_eq!(
            (&error["count"], &error["request_share"]),
            (&json!(1), &json!(0.25)),
            "one of four, however many it stands for: {error}"
        );
        let reference = error["ref"].as_str().unwrap();
        let shown = String::from_utf8(running.client(&["show", reference]).stdout).unwrap();
        assert_eq!(
            shown.contains("one request in 4 is sent"),
            error["service"] == "berths",
            "{shown}"
        );
        assert_eq!(
            shown.contains("sampled at an unknown rate"),
            error["service"] == "ports",
            "{shown}"
        );
    }
    let services = running.client_json(&["services"]);
    let missing = |service: &str| {
        services["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["service"] == service)
            .unwrap()["missing"]
            .to_string()
    };
    assert!(
        missing("ports").contains("unknown rate")
            && !missing("berths").contains("rate")
            && !missing("fares").contains("rate"),
        "{services}"
    );

    // The log tells of the same failure: it stands for itself then, since the log tells of the unsent ones too.
    let told = json!({"resourceLogs": [{"resource": {"attributes": [{"key": "service.name",
        "value": {"stringValue": "berths"}}]},
        "scopeLogs": [{"logRecords": [{"timeUnixNano": now, "severityNumber": 17, "body": {"stringValue": "moor \
         failed"}, "flags": 1,
            "traceId": format!("{:032x}", 1_000), "spanId": format!("{:016x}", 1_000),
            "attributes": [{"key": "exception.type", "value": {"stringValue": "BerthError"}}]}]}]}]});
    assert_eq!(send(&running, &running.key, "/v1/logs", told.to_string()).await.0, 200);
    let errors = running.errors().await;
    let berths = errors.iter().find(|error| error["service"] == "berths").unwrap();
    assert_eq!(
        (&berths["count"], &berths["request_share"]),
        (&json!(1), &json!(1.0 / 16.0)),
        "{berths}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_busy_error_bodies_are_sampled_but_the_first_the_latest_and_the_fullest_are_kept() {
    let running = service().start_with(&["--bodies-per-minute", "5"]).await;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let minute = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs()
        / 60
        * 60
        - 60;
    // 300 within one minute of event time, the earliest of all sent last but one, the fullest amid.
    let at = |number: u64| if number == 298 { 1 } else { number + 2 };
    for batch in 0..10_u64 {
        let records: Vec<Value> = (batch * 30..batch * 30 + 30)
            .map(|number| {
                let mut attributes = vec![
                    text("exception.type", "BerthError"),
                    text("skerry.number", &number.to_string()),
                ];
                attributes
                    .extend((0..if number == 171 { 9 } else { 1 }).map(|n| text(&format!("skerry.pier_{n}"), "7")));
                json!({"timeUnixNano": (minute * 1_000_000_000 + at(number) * 1_000_000).to_string(),
                    "severityNumber": 17, "attributes": attributes,
                    "body": {"stringValue": "moor failed"}})
            })
            .collect();
        let resource = json!({"attributes": [text("service.name", "berths"), text("service.version", "1.7.0")]});
        let body =
            json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": records}]}]}).to_string();
        assert_eq!(send(&running, &running.key, "/v1/logs", body).await.0, 200);
    }
    let errors = running.errors().await;
    assert_eq!(
        (errors.len(), &errors[0]["count"]),
        (1, &json!(300)),
        "counts stay exact"
    );
    let reference = errors[0]["ref"].as_str().unwrap();
    for (which, expected) in [("first", "298"), ("latest", "299"), ("fullest", "171")] {
        let (_, chosen) = running
            .get(&format!("/api/v1/errors/{reference}/choose?choice={which}"))
            .await;
        let id = chosen["id"].as_str().unwrap_or_else(|| panic!("{chosen}"));
        let (_, full) = running.get(&format!("/api/v1/occurrences/{id}")).await;
        assert_eq!(full["attributes"]["skerry.number"], expected, "{which}");
        assert!(full["sent"].is_object(), "{which} is kept as it was sent");
    }
    let (_, page) = running
        .get(&format!("/api/v1/errors/{reference}/occurrences?limit=500"))
        .await;
    let mut whole = String::new();
    for item in page["items"].as_array().unwrap() {
        let (_, full) = running
            .get(&format!("/api/v1/occurrences/{}", item["id"].as_str().unwrap()))
            .await;
        if full["sent"].is_object() {
            write!(whole, "{} ", full["attributes"]["skerry.number"]).unwrap();
        }
    }
    // Five, then every fiftieth, and the three.
    assert!((11..=14).contains(&whole.split_whitespace().count()), "{whole}");
}
