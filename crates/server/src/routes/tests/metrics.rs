//! Metrics, as they are sent over OTLP and read over the API.

use actix_web::http::StatusCode;
use serde_json::{Value, json};

use super::reading::{get, resource};
use super::strangers::token_of;
use super::{answer, ask, bounds, post};
use crate::clock::now;
use crate::state::State;

#[tokio::test]
async fn metrics_that_are_sent_are_listed_and_read_by_any_attribute() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let token = token_of(&state, "mate@skerry.example", "viewer", false).await;
    let start = u64::try_from(now().0).unwrap() - 600_000_000_000;
    let point = |queue: &str, minute: u64, value: u64| {
        json!({
            "attributes": [{"key": "queue", "value": {"stringValue": queue}}],
            "startTimeUnixNano": start.to_string(), "timeUnixNano": (start + minute * 60_000_000_000).to_string(),
            "asInt": value.to_string(),
        })
    };
    let points: Vec<Value> = (1..=4)
        .flat_map(|minute| [point("a", minute, minute * 10), point("b", minute, minute)])
        .collect();
    let sum = json!({"dataPoints": points, "aggregationTemporality": 2, "isMonotonic": true});
    let metrics = json!([{"name": "queue/messages", "unit": "{message}", "sum": sum}]);
    let sent = json!({"resourceMetrics": [
        {"resource": resource("fares", "2.4.0"), "scopeMetrics": [{"metrics": metrics}]},
    ]});
    let (status, _, said) = answer(&state, post("/v1/metrics", &key, sent.to_string())).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));
    let list = get(&state, &token, "/api/v1/metrics?service=fares").await;
    assert_eq!(
        list["items"],
        json!([{"name": "queue/messages", "unit": "{message}", "kind": "increase", "series": 2, "services": ["fares"],
            "attributes": ["queue"]}])
    );
    assert_eq!(
        get(&state, &token, "/api/v1/metrics?service=berths").await["items"],
        json!([])
    );
    let course = get(&state, &token, "/api/v1/metrics/queue%2Fmessages?by=queue&since=1h").await;
    let sum_of = |line: &Value| {
        line["values"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(Value::as_f64)
            .sum::<f64>()
    };
    let lines: Vec<(&str, f64)> = course["lines"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| (line["key"].as_str().unwrap(), sum_of(line)))
        .collect();
    // The first points count from a minute before: all of it came since.
    assert_eq!(lines, [("a", 40.0), ("b", 4.0)]);
    assert_eq!(
        (&course["together"], &course["step_ms"]),
        (&json!("sum"), &json!(60_000))
    );
    for (path, expected) in [
        ("/api/v1/metrics/no.such", StatusCode::NOT_FOUND),
        (
            "/api/v1/metrics/queue%2Fmessages?together=median",
            StatusCode::BAD_REQUEST,
        ),
        ("/api/v1/metrics/queue%2Fmessages?since=never", StatusCode::BAD_REQUEST),
        ("/api/v1/metrics?colour=red", StatusCode::BAD_REQUEST),
    ] {
        assert_eq!(
            ask(&state, Some(&token), &format!("GET {path}"), "").await.0,
            expected,
            "{path}"
        );
    }
}
