//! Metrics in the console: found by name, drawn, split by an attribute; the command line says the same.

use chrono::Utc;
use outcrop_testkit::{recorded, restamped};
use serde_json::{Value, json};

use crate::console::signed_in;
use crate::support::service;

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

#[tokio::test(flavor = "multi_thread")]
async fn a_metric_is_chosen_split_by_an_attribute_and_said_on_the_command_line_alike() {
    let running = service().start().await;
    let start = Utc::now().timestamp() - 1_200;
    let point = |berth: &str, minute: i64, waiting: i64| {
        json!({"attributes": [text("berth", berth)], "asInt": waiting.to_string(),
            "timeUnixNano": ((start + minute * 60) * 1_000_000_000).to_string()})
    };
    let points: Vec<Value> = (0..15)
        .flat_map(|minute| [point("north", minute, 40 + minute), point("south", minute, 7)])
        .collect();
    let metrics = json!([{"name": "skerry.cars.waiting", "unit": "{car}", "gauge": {"dataPoints": points}}]);
    let resource = json!({"attributes": [text("service.name", "boarding"), text("service.version", "3.2.0")]});
    let sent = json!({"resourceMetrics": [{"resource": resource, "scopeMetrics": [{"metrics": metrics}]}]});
    let answer = running
        .post("/v1/metrics")
        .header("content-type", "application/json")
        .body(sent.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);

    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/traffic?since=3h", running.url)).await;
    browser.named("button", "Metrics").await.click().await.unwrap();
    browser.sees("1 metric of 1 service.").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    browser
        .named("button", "skerry.cars.waiting")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("at most, of 3.2.0").await;
    browser.choose("A line for each", "berth").await;
    browser.sees("is 54 at most, of north.").await;
    browser.choose("Put together as", "least").await;
    browser
        .find("figure[aria-label='skerry.cars.waiting, least'] svg path")
        .await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert_eq!(browser.overflow().await, 0);
    let asked = browser.driver.current_url().await.unwrap().to_string();
    assert!(
        asked.contains("metric=skerry.cars.waiting") && asked.contains("by=berth"),
        "{asked}"
    );

    let course = running.client_json(&["metric", "skerry.cars.waiting", "--by", "berth", "--since", "1h"]);
    let most = |line: usize| {
        let values = course["lines"][line]["values"].as_array().unwrap();
        values.iter().filter_map(Value::as_f64).fold(0.0, f64::max)
    };
    assert_eq!(
        (&course["lines"][0]["key"], most(0), most(1)),
        (&json!("north"), 54.0, 7.0)
    );
    let list = running.client_json(&["metrics", "--service", "boarding"]);
    assert_eq!(list["items"][0]["attributes"], json!(["berth"]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_counted_for_good_in_the_console_and_ended_there() {
    let running = service().start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let browser = signed_in(&running, 1280, 800, "light").await;
    let question = "count%20of%20occurrences%20by%20version";
    browser.open(&format!("{}/ask?question={question}", running.url)).await;
    browser
        .named("button", "Count it for good")
        .await
        .click()
        .await
        .unwrap();
    assert_eq!(browser.violations().await, Vec::<String>::new());
    let name = browser.find("form input[maxlength='100']").await;
    name.send_keys("7 fares").await.unwrap();
    browser.named("button", "Count it").await.click().await.unwrap();
    browser.sees("begins with a letter").await;
    name.clear().await.unwrap();
    name.send_keys("fares.failures").await.unwrap();
    browser.named("button", "Count it").await.click().await.unwrap();
    browser.sees("Counted for good: count of occurrences by version").await;
    // The job looks every 20 seconds.
    let mut listed = String::new();
    for _ in 0..60 {
        let output = running.client(&["metric", "fares.failures", "--by", "version", "--since", "1h"]);
        listed = String::from_utf8(output.stdout).unwrap();
        if listed.contains("over time") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    }
    assert!(
        listed.contains("counted: count of occurrences by version, in steps of 5 minutes"),
        "{listed}"
    );
    browser
        .open(&format!("{}/traffic?view=metrics&since=1h", running.url))
        .await;
    browser.sees("1 counted question among them.").await;
    browser.named("button", "fares.failures").await.click().await.unwrap();
    browser.sees("at most, of").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert_eq!(browser.overflow().await, 0);
    browser.named("button", "End the counting").await.click().await.unwrap();
    browser.named("button", "End it").await.click().await.unwrap();
    browser.sees("No metric came in").await;
    let none = running.client(&["count"]);
    assert!(String::from_utf8(none.stdout).unwrap().contains("No such question"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_number_in_log_lines_is_named_and_becomes_a_metric() {
    let running = service().start().await;
    let at = |seconds: i64| ((Utc::now().timestamp() - seconds) * 1_000_000_000).to_string();
    let lines: Vec<Value> = [(250, 900), (350, 600), (450, 300)]
        .iter()
        .map(|(took, ago)| {
            json!({"timeUnixNano": at(*ago), "severityNumber": 9,
                "body": {"stringValue": format!("gangway lowered after {took}ms, {ago} cars waiting")}})
        })
        .collect();
    let resource = json!({"attributes": [text("service.name", "boarding"), text("service.version", "3.2.0")]});
    let sent = json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": lines}]}]});
    let answer = running
        .post("/v1/logs")
        .header("content-type", "application/json")
        .body(sent.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);

    let browser = signed_in(&running, 1280, 800, "light").await;
    browser
        .open(&format!("{}/traffic?view=logs&all=true&since=3h", running.url))
        .await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    browser.named("link", "after {duration}").await.click().await.unwrap();
    browser.sees("p95 number_1").await;
    browser
        .named("button", "Count it for good")
        .await
        .click()
        .await
        .unwrap();
    let name = browser.find("form input[maxlength='100']").await;
    name.send_keys("gangway.time").await.unwrap();
    browser.named("button", "Count it").await.click().await.unwrap();
    browser.sees("Counted for good: p95 number_1 of lines").await;
    let template = "template = \"gangway lowered after {duration}, {n} cars waiting\"";
    let asked = running.client_json(&[
        "ask",
        &format!("most number_1, sum number_2 of lines where {template} over 3h"),
    ]);
    assert_eq!(asked["total"]["values"], json!([450.0, 1_800.0]), "{asked}");
    let said = running.client(&["ask", "mean number_3 of lines where template = \"{n} of {n}\""]);
    let said = String::from_utf8(said.stderr).unwrap();
    assert!(said.contains("`number_1` to `number_2`"), "{said}");
}
