//! Bodies that real SDKs sent.

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use outcrop_testkit::{Body, recorded, restamped};
use prost::Message;

use crate::support::{outline, service};

/// Every recorded body that tells of a failure.
pub const FAILURES: &[&str] = &[
    "three-services-1-gangway.traces.json",
    "three-services-2-sailings.traces.pb",
    "three-services-3-fares.traces.pb",
    "three-services-4-gangway-logs.logs.json",
    "three-services-5-sailings-logs.logs.pb",
    "three-services-6-fares-logs.logs.pb",
    "unsampled-sailings-logs.logs.pb",
    "nested-span-fares.traces.pb",
    "nested-span-gangway.traces.json",
    "background-task-fares.traces.pb",
    "async-after-gangway.traces.json",
    "queue-worker-berths.traces.json",
    "thread-crash-berths-logs.logs.json",
    "handled-sailings-logs.logs.pb",
    "exception-class-name-manifest-logs.logs.pb.gz",
    "sql-error-manifest.traces.pb.gz",
    "timeout-sailings.traces.pb",
    "recorded-ok-fares.traces.pb",
    "exception-group-fares.traces.pb",
    "cause-gangway-logs.logs.json",
    "throw-string-gangway.traces.json",
    "connection-refused-gangway.traces.json",
    "user-headers-gangway.traces.json",
    "password-form-gangway-logs.logs.json",
    "unicode-fares.traces.pb",
    "nul-fares.traces.pb",
    "deep-stack-fares-logs.logs.pb",
    "old-sdk-notices.traces.pb",
    "old-sdk-notices-logs.logs.pb",
    "mixed-batch-gangway.traces.json",
];

/// All of them, moved to the present together.
pub fn failures() -> Vec<Body> {
    restamped(&FAILURES.iter().map(|name| recorded(name)).collect::<Vec<_>>())
}

#[tokio::test(flavor = "multi_thread")]
async fn each_failure_is_counted_once_however_often_it_was_reported() {
    let running = service().start().await;
    let bodies = failures();
    for body in &bodies {
        let answer = running.send(body).await;
        assert_eq!(answer.status(), 200, "{}: {:?}", body.name, answer.text().await);
    }
    let errors = outline(&running.errors().await);
    insta::assert_snapshot!("recorded_failures", errors.join("\n"));
    for body in &bodies {
        assert_eq!(running.send(body).await.status(), 200);
    }
    assert_eq!(
        outline(&running.errors().await),
        errors,
        "the same bytes again change nothing"
    );
    running.stop();
}

/// Splits a body into one request per span or log record.
fn split(body: &Body) -> Vec<Body> {
    let part = |bytes: Vec<u8>| Body { bytes, ..body.clone() };
    if body.content_type == "application/json" {
        let whole: serde_json::Value = serde_json::from_slice(&body.bytes).unwrap();
        let (by_resource, by_scope, records) = if body.path == "/v1/traces" {
            ("resourceSpans", "scopeSpans", "spans")
        } else {
            ("resourceLogs", "scopeLogs", "logRecords")
        };
        let list = |value: &serde_json::Value, name: &str| value[name].as_array().cloned().unwrap_or_default();
        let mut parts = vec![];
        for resource in list(&whole, by_resource) {
            for scope in list(&resource, by_scope) {
                for record in list(&scope, records) {
                    let mut alone = resource.clone();
                    alone[by_scope] = serde_json::json!([{"scope": scope["scope"], records: [record]}]);
                    parts.push(part(serde_json::json!({by_resource: [alone]}).to_string().into_bytes()));
                }
            }
        }
        return parts;
    }
    if body.path == "/v1/traces" {
        let whole = ExportTraceServiceRequest::decode(body.bytes.as_slice()).unwrap();
        let mut parts = vec![];
        for resource in &whole.resource_spans {
            for scope in &resource.scope_spans {
                for span in &scope.spans {
                    let mut alone = resource.clone();
                    alone.scope_spans = vec![scope.clone()];
                    alone.scope_spans[0].spans = vec![span.clone()];
                    parts.push(part(
                        ExportTraceServiceRequest {
                            resource_spans: vec![alone],
                        }
                        .encode_to_vec(),
                    ));
                }
            }
        }
        return parts;
    }
    let whole = ExportLogsServiceRequest::decode(body.bytes.as_slice()).unwrap();
    let mut parts = vec![];
    for resource in &whole.resource_logs {
        for scope in &resource.scope_logs {
            for record in &scope.log_records {
                let mut alone = resource.clone();
                alone.scope_logs = vec![scope.clone()];
                alone.scope_logs[0].log_records = vec![record.clone()];
                parts.push(part(
                    ExportLogsServiceRequest {
                        resource_logs: vec![alone],
                    }
                    .encode_to_vec(),
                ));
            }
        }
    }
    parts
}

#[tokio::test(flavor = "multi_thread")]
async fn any_order_batching_and_split_over_two_instances_ends_in_the_same_errors() {
    let bodies = failures();
    let whole = service().start().await;
    for body in &bodies {
        assert_eq!(whole.send(body).await.status(), 200);
    }
    let expected = outline(&whole.errors().await);

    let service = service();
    let (one, other) = (service.start().await, service.start().await);
    let mut parts: Vec<Body> = bodies.iter().flat_map(split).collect();
    assert!(parts.len() > 300, "the bodies are really split");
    // A fixed shuffle, so that a failure can be seen again; the property test in core varies it.
    let mut state = 0x5eed_u64;
    for at in (1..parts.len()).rev() {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        parts.swap(at, usize::try_from(state >> 33).unwrap() % (at + 1));
    }
    // Sixteen senders at once, every seventh request sent twice, on either instance.
    let parts = &parts;
    let instances = [&one, &other];
    let senders = (0..16).map(|sender| async move {
        for (at, body) in parts.iter().enumerate().filter(|(at, _)| at % 16 == sender) {
            let times = if at % 7 == 0 { 2 } else { 1 };
            for again in 0..times {
                let answer = instances[(at + again) % 2].send(body).await;
                assert_eq!(answer.status(), 200, "{}: {:?}", body.name, answer.text().await);
            }
        }
    });
    futures_util::future::join_all(senders).await;
    assert_eq!(outline(&one.errors().await), expected);
    assert_eq!(outline(&other.errors().await), expected);
    let requests = |url: &str| format!("SELECT sum(requests)::bigint, sum(failed)::bigint FROM {url}");
    let traffic = service.row(&requests("traffic_minute")).await;
    assert_eq!(traffic, service.row(&requests("traffic_hour")).await);
    assert_eq!(
        traffic,
        whole.service().row(&requests("traffic_minute")).await,
        "requests are counted once too"
    );
}
