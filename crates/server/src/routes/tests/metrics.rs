//! Metrics, as they are sent over OTLP and read over the API.

use actix_web::http::StatusCode;
use actix_web::http::header::{ACCEPT, AUTHORIZATION};
use actix_web::test::TestRequest;
use outcrop_store::metrics;
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
            "attributes": ["queue"], "counted": null}])
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

#[tokio::test]
async fn a_question_is_counted_for_good_and_read_as_a_metric_until_it_is_ended() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state.key("pier-3", bounds(None)).await;
    let token = token_of(&state, "purser@skerry.example", "engineer", false).await;
    let other = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let record = json!({
        "timeUnixNano": now().0.to_string(), "severityNumber": 9, "severityText": "INFO",
        "body": {"stringValue": "gate 7 is shut"},
    });
    let sent =
        json!({"resourceLogs": [{"resource": resource("fares", "2.4.0"), "scopeLogs": [{"logRecords": [record]}]}]});
    let (status, _, said) = answer(&state, post("/v1/logs", &key, sent.to_string())).await;
    assert_eq!((status, said), (StatusCode::OK, json!({})));

    let path = "/api/v1/metrics/gates.shut";
    let question = "count of lines by version where message contains 'gate' each 1m over 6h";
    let count = async |token: &str, path: &str, question: &str| {
        let body = json!({"question": question, "description": "how often gates are shut"}).to_string();
        ask(&state, Some(token), &format!("PUT {path}"), &body).await
    };
    assert_eq!(count(&token, path, question).await.0, StatusCode::CREATED);
    let (status, said) = count(&other, path, question).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(
        said["detail"].as_str().unwrap().contains("purser@skerry.example"),
        "{said}"
    );
    for (path, question, why) in [
        ("/api/v1/metrics/7gates", question, "begins with a letter"),
        ("/api/v1/metrics/gates", "count of line", "line"),
        (
            "/api/v1/metrics/gates",
            "count of lines each 7m over 6h",
            "divide an hour",
        ),
    ] {
        let (status, said) = count(&token, path, question).await;
        assert!(
            status == StatusCode::BAD_REQUEST && said["detail"].as_str().unwrap().contains(why),
            "{said}"
        );
    }

    let waiting = get(&state, &token, "/api/v1/metrics").await;
    assert_eq!(
        (&waiting["items"][0]["name"], &waiting["items"][0]["series"]),
        (&json!("gates.shut"), &json!(0))
    );
    let policy = outcrop_store::retention::Policy::default();
    while metrics::count_hours(&state.database, &policy, chrono::Utc::now())
        .await
        .unwrap()
    {}
    let listed = get(&state, &token, "/api/v1/metrics?service=fares").await;
    assert_eq!(listed["items"][0]["attributes"], json!(["version"]));
    assert_eq!(listed["items"][0]["counted"]["hours_left"], json!(0));
    let course = get(&state, &token, &format!("{path}?since=1h&by=version")).await;
    let values: Vec<f64> = course["lines"][0]["values"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(Value::as_f64)
        .collect();
    assert_eq!(course["lines"][0]["key"], json!("2.4.0"));
    assert!(
        (values.iter().sum::<f64>() - 1.0).abs() < 1e-6 && values.contains(&0.0),
        "{values:?}"
    );
    assert_eq!(
        course["counted"]["question"],
        json!("count of lines by version where message contains 'gate'")
    );

    let text_request = TestRequest::get()
        .uri(&format!("{path}?since=1h&by=version"))
        .insert_header((AUTHORIZATION, format!("Bearer {token}")))
        .insert_header((ACCEPT, "application/openmetrics-text"));
    let (status, body) = super::text(&state, text_request).await;
    assert_eq!(status, StatusCode::OK);
    assert!(
        body.starts_with("# TYPE gates_shut gauge\n# HELP gates_shut count of lines by version"),
        "{body}"
    );
    assert!(
        body.contains("gates_shut{version=\"2.4.0\"} 1 ") && body.ends_with("# EOF\n"),
        "{body}"
    );

    let end = async |token: &str| ask(&state, Some(token), &format!("DELETE {path}"), "").await.0;
    assert_eq!(end(&other).await, StatusCode::NOT_FOUND, "it is somebody else's");
    assert_eq!(end(&token).await, StatusCode::NO_CONTENT);
    assert_eq!(
        ask(&state, Some(&token), &format!("GET {path}"), "").await.0,
        StatusCode::NOT_FOUND
    );
}
