//! Damaged and hostile requests get a clear answer in the protocol's form, and hurt nobody else.

use std::io::Write;

use outcrop_testkit::{hostile, hostile_cases, recorded, restamped};
use serde_json::{Value, json};

use crate::support::service;

/// The number rejected in an answer's `partial_success`, 0 where there is none.
fn rejected(content_type: &str, body: &[u8]) -> u64 {
    use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceResponse;
    use prost::Message;
    if content_type.starts_with("application/json") {
        let answer: Value = serde_json::from_slice(body).unwrap();
        return answer["partialSuccess"]["rejectedSpans"]
            .as_str()
            .map_or(0, |count| count.parse().unwrap());
    }
    let answer = ExportTraceServiceResponse::decode(body).unwrap();
    answer
        .partial_success
        .map_or(0, |partial| partial.rejected_spans.unsigned_abs())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_hostile_case_gets_one_of_the_answers_allowed_for_it() {
    let running = service().start().await;
    let mut wrong = vec![];
    for case in hostile_cases() {
        let text = |name: &str| case[name].as_str();
        let mut body = text("file").map(hostile).unwrap_or_default();
        if case["unpack_before_sending"] == true {
            let mut unpacked = vec![];
            std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(body.as_slice()), &mut unpacked).unwrap();
            body = unpacked;
        }
        let expected: Vec<u64> = case["expect"]["status"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(Value::as_u64)
            .collect();
        for _ in 0..case["repeat"].as_u64().unwrap() {
            let mut request = running.post(text("path").unwrap()).body(body.clone());
            if case["credentials"] == "wrong" {
                request = reqwest::Client::new()
                    .post(format!("{}{}", running.url, text("path").unwrap()))
                    .bearer_auth("wrong")
                    .body(body.clone());
            }
            for (header, value) in [
                ("content-type", text("content_type")),
                ("content-encoding", text("content_encoding")),
            ] {
                if let Some(value) = value.filter(|value| !value.is_empty()) {
                    request = request.header(header, value);
                }
            }
            let answer = request
                .send()
                .await
                .unwrap_or_else(|error| panic!("{}: no answer: {error}", case["id"]));
            let status = u64::from(answer.status().as_u16());
            let content_type = answer.headers()["content-type"].to_str().unwrap().to_owned();
            let bytes = answer.bytes().await.unwrap();
            if !expected.contains(&status) {
                wrong.push(format!("{}: {status}", case["id"]));
            } else if status == 200 && case["expect"]["partial_success"] != "allowed" {
                let wanted = u64::from(case["expect"]["partial_success"] == "wanted");
                if rejected(&content_type, &bytes) != wanted {
                    wrong.push(format!("{}: rejected {}", case["id"], rejected(&content_type, &bytes)));
                }
            }
        }
    }
    assert_eq!(wrong, Vec::<String>::new());
    // Times of the hostile bodies lie in the past or nowhere: look at all that is kept.
    let (_, page) = running.get("/api/v1/errors?since=30d&limit=500").await;
    let proving: Vec<&Value> = page["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|error| error["type"] == "ProvingError")
        .collect();
    assert!(!proving.is_empty(), "{page}");
    let shown = running.client(&["errors", "--since", "30d"]);
    assert!(shown.status.success());
    assert!(!shown.stdout.contains(&0x1b), "an escape sequence reached the terminal");
}

#[tokio::test(flavor = "multi_thread")]
async fn refusals_say_why_in_the_encoding_of_the_request() {
    let running = service()
        .start_with(&["--max-body", "64KiB", "--max-inflated", "256KiB"])
        .await;
    let good = json!({"resourceLogs": []}).to_string();
    let gzip = |content: &[u8]| {
        let mut encoder = flate2::write::GzEncoder::new(vec![], flate2::Compression::best());
        encoder.write_all(content).unwrap();
        encoder.finish().unwrap()
    };
    let as_json = |request: reqwest::RequestBuilder| request.header("content-type", "application/json");
    let without_key = reqwest::Client::new().post(format!("{}/v1/logs", running.url));
    let cases = vec![
        (
            "no key",
            as_json(without_key).body(good.clone()),
            401,
            "send a sender key",
        ),
        (
            "content type",
            running
                .post("/v1/logs")
                .header("content-type", "text/plain")
                .body(good.clone()),
            415,
            "Content-Type must be",
        ),
        (
            "coding",
            as_json(running.post("/v1/logs"))
                .header("content-encoding", "br")
                .body(good.clone()),
            415,
            "Content-Encoding `br`",
        ),
        (
            "too large",
            as_json(running.post("/v1/logs")).body(vec![b' '; 70_000]),
            413,
            "larger than 65536 bytes",
        ),
        (
            "inflates too far",
            as_json(running.post("/v1/logs"))
                .header("content-encoding", "gzip")
                .body(gzip(&vec![b' '; 300_000])),
            413,
            "inflates to more than 262144",
        ),
        (
            "no gzip",
            as_json(running.post("/v1/logs"))
                .header("content-encoding", "gzip")
                .body(good.clone()),
            400,
            "not what its Content-Encoding says",
        ),
        (
            "broken",
            as_json(running.post("/v1/logs")).body("{\"resourceLogs\": ["),
            400,
            "no JSON",
        ),
    ];
    for (name, request, status, reason) in cases {
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), status, "{name}");
        let said: Value = answer.json().await.unwrap();
        assert!(said["message"].as_str().unwrap().contains(reason), "{name}: {said}");
    }
    let broken = running
        .post("/v1/traces")
        .header("content-type", "application/x-protobuf")
        .body(vec![0xff; 9])
        .send()
        .await
        .unwrap();
    assert_eq!(
        (
            broken.status().as_u16(),
            broken.headers()["content-type"].to_str().unwrap()
        ),
        (400, "application/x-protobuf")
    );
    assert_eq!(
        running
            .send(&restamped(&[recorded("old-sdk-notices.traces.pb")])[0])
            .await
            .status(),
        200,
        "a good request is still taken"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn unusable_records_are_counted_and_their_neighbours_stored() {
    let running = service().start().await;
    let key = running
        .service()
        .succeed(&["admin", "key", "create", "fares-only", "--service", "fares"], "");
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos();
    let record = |time: u128, message: &str| {
        json!({"timeUnixNano": time.to_string(), "severityNumber": 17,
        "attributes": [{"key": "exception.message", "value": {"stringValue": message}}]})
    };
    let of = |service: &str, records: Vec<Value>| {
        json!({"resource": {"attributes": [{"key": "service.name",
        "value": {"stringValue": service}}]}, "scopeLogs": [{"logRecords": records}]})
    };
    let year = 365 * 86_400_000_000_000_u128;
    let batch = json!({"resourceLogs": [
        of("fares", vec![record(now, "no tariff"), record(now - year, "from last year"), json!("no record")]),
        of("ledger", vec![record(now, "not yours")]),
    ]});
    for _ in 0..2 {
        let request = reqwest::Client::new()
            .post(format!("{}/v1/logs", running.url))
            .bearer_auth(&key);
        let answer = request
            .header("content-type", "application/json")
            .body(batch.to_string())
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 200);
        let said: Value = answer.json().await.unwrap();
        assert_eq!(said["partialSuccess"]["rejectedLogRecords"], "3", "{said}");
    }
    let errors = running.errors().await;
    assert_eq!(errors.len(), 1, "{errors:?}");
    assert_eq!(
        (&errors[0]["message"], &errors[0]["count"]),
        (&json!("no tariff"), &json!(1))
    );
    // A sender whose clock is an hour ahead: the order stays, the time is the present's.
    let ahead = json!({"resourceLogs": [of("fares", vec![record(now + 3_600_000_000_000, "from the future")])]});
    let answer = running
        .post("/v1/logs")
        .header("content-type", "application/json")
        .body(ahead.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
    let future: Vec<Value> = running
        .errors()
        .await
        .into_iter()
        .filter(|error| error["message"] == "from the future")
        .collect();
    assert_eq!(future.len(), 1);
    let occurrence = running.client_json(&["occurrences", future[0]["ref"].as_str().unwrap()]);
    let full = running.client_json(&["occurrence", occurrence["items"][0]["id"].as_str().unwrap()]);
    assert!(
        full["attributes"]["outcrop.clock_ahead_ms"].as_i64().unwrap() > 3_500_000,
        "{full}"
    );
}
