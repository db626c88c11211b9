//! A fuzzer of HTTP APIs from PyPI asks every operation of the OpenAPI document, with what fits its
//! schemas and with what does not.

use std::process::Command;

use outcrop_testkit::{recorded, restamped};

use crate::support::{python_with, service};

/// What every answer is held against: no fault of the service, a status and a content type of the
/// document, a body that fits its schema.
const CHECKS: &str = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance,unsupported_method";

async fn ask(examples: u32) {
    let fuzzer = python_with("api-fuzzer-4.32.5", &["schemathesis==4.32.5"]).with_file_name("schemathesis");
    let running = service().start().await;
    for body in restamped(
        &[
            "three-services-3-fares.traces.pb",
            "user-headers-gangway.traces.json",
            "cause-gangway-logs.logs.json",
        ]
        .map(recorded),
    ) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let asked = Command::new(fuzzer)
        .args(["run", &format!("{}/api/openapi.json", running.url), "--checks", CHECKS])
        .args(["--header", &format!("Authorization: Bearer {}", running.token)])
        // A stream never ends; signing out and ending what the fuzzer itself needs would end the run.
        .args([
            "--exclude-operation-id",
            "live",
            "--max-examples",
            &examples.to_string(),
        ])
        .args([
            "--seed",
            "1",
            "--generation-database",
            "none",
            "--request-timeout",
            "20",
            "--no-color",
        ])
        .env("COLUMNS", "160")
        .current_dir(std::env::temp_dir())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&asked.stdout);
    assert!(
        asked.status.success(),
        "{said}\n{}",
        String::from_utf8_lossy(&asked.stderr)
    );
    eprintln!(
        "the API: {}",
        said.lines()
            .find(|line| line.contains(" generated"))
            .unwrap_or_default()
            .trim()
    );
    assert!(!running.log().contains("panicked"), "{}", running.log());
}

#[tokio::test(flavor = "multi_thread")]
async fn no_request_of_an_api_fuzzer_gets_a_fault_or_an_answer_that_the_document_does_not_name() {
    ask(4).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes a quarter of an hour: script/test-long runs it"]
async fn no_request_of_a_long_run_either() {
    ask(150).await;
}
