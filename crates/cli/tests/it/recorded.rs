//! Bodies that real SDKs sent.

use outcrop_testkit::{Body, recorded, restamped};

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
    assert_eq!(outline(&running.errors().await), errors, "the same bytes again change nothing");
    running.stop();
}
