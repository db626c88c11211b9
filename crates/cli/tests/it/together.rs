//! Real services of two languages call each other, each with its own SDK: one trace, with origin
//! and echo, by every protocol.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use outcrop_testkit::Running;
use serde_json::json;

use crate::protocols::free_port;
use crate::support::{node_with, python_with, service};

/// Quotes, except for sailing 2; ends when its input does.
const FARES: &str = r#"
import sys, threading
from flask import Flask
from werkzeug.serving import make_server

app = Flask(__name__)

def per_metre(total, metres):
    return total / metres

@app.get("/v1/quotes/<int:sailing>")
def quote(sailing):
    return {"total": per_metre(4600, 0 if sailing == 2 else 4)}

server = make_server("127.0.0.1", 0, app, threaded=True)
threading.Thread(target=server.serve_forever, daemon=True).start()
print(server.port, flush=True)
sys.stdin.read()
server.shutdown()
"#;

/// The edge: asks fares for three quotes and ends as a supervisor would end it.
const GANGWAY: &str = r#"
const express = require("express");
const { trace } = require("@opentelemetry/api");
const app = express();

class UpstreamError extends Error {
  name = "UpstreamError";
}

async function quoteFor(sailing) {
  const answer = await fetch(`${process.env.FARES}/v1/quotes/${sailing}`);
  if (!answer.ok) throw new UpstreamError(`fares answered ${answer.status}`);
  return answer.json();
}

app.get("/v1/sailings/:sailing/quote", async (request, response) => {
  const span = trace.getActiveSpan();
  try {
    response.json(await quoteFor(request.params.sailing));
  } catch (error) {
    span.recordException(error);
    response.status(502).json({ error: error.message });
  }
});
const server = app.listen(0, "127.0.0.1", async () => {
  for (const sailing of [1, 2, 3]) await fetch(`http://127.0.0.1:${server.address().port}/v1/sailings/${sailing}/quote`);
  setTimeout(() => process.kill(process.pid, "SIGTERM"), 300);
  setTimeout(() => process.exit(), 30000);
});
"#;

fn folder() -> PathBuf {
    let packages = [
        "express@5.1.0",
        "@opentelemetry/api@1.10.0",
        "@opentelemetry/auto-instrumentations-node@0.82.0",
    ];
    let folder = node_with("together-node", &packages);
    std::fs::write(folder.join("fares.py"), FARES).unwrap();
    std::fs::write(folder.join("gangway.js"), GANGWAY).unwrap();
    folder
}

const PYTHON_PACKAGES: &[&str] = &[
    "flask==3.1.2",
    "opentelemetry-distro==0.66b1",
    "opentelemetry-exporter-otlp-proto-http==1.45.1",
    "opentelemetry-exporter-otlp-proto-grpc==1.45.1",
    "opentelemetry-instrumentation-flask==0.66b1",
];

fn start(
    folder: &Path,
    service: &str,
    (protocol, endpoint, key): (&str, &str, &str),
    command: &[&str],
    fares: &str,
) -> Child {
    Command::new(command[0])
        .args(&command[1..])
        .current_dir(folder)
        .env(
            "PATH",
            format!(
                "{}:{}",
                python_with("together-python", PYTHON_PACKAGES)
                    .parent()
                    .unwrap()
                    .display(),
                std::env::var("PATH").unwrap()
            ),
        )
        .env("FARES", fares)
        .env("OTEL_SERVICE_NAME", service)
        .env(
            "OTEL_RESOURCE_ATTRIBUTES",
            "service.version=1.0.0,deployment.environment.name=production",
        )
        .env("OTEL_EXPORTER_OTLP_PROTOCOL", protocol)
        .env("OTEL_EXPORTER_OTLP_ENDPOINT", endpoint)
        .env("OTEL_EXPORTER_OTLP_HEADERS", format!("authorization=Bearer%20{key}"))
        .env("OTEL_METRICS_EXPORTER", "none")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap()
}

/// Lets the two services run once; what fares speaks may differ, since its SDK has no JSON.
fn run(folder: &Path, of_gangway: (&str, &str, &str), of_fares: (&str, &str, &str)) {
    let mut fares = start(
        folder,
        "fares",
        of_fares,
        &["opentelemetry-instrument", "python", "fares.py"],
        "",
    );
    let mut port = String::new();
    BufReader::new(fares.stdout.as_mut().unwrap())
        .read_line(&mut port)
        .unwrap();
    let command = [
        "node",
        "--require",
        "@opentelemetry/auto-instrumentations-node/register",
        "gangway.js",
    ];
    let mut gangway = start(
        folder,
        "gangway",
        of_gangway,
        &command,
        &format!("http://127.0.0.1:{}", port.trim()),
    );
    gangway.wait().unwrap();
    drop(fares.stdin.take());
    assert!(fares.wait().unwrap().success());
}

/// Waits until the edge's error is known to follow from another, and returns both with the trace.
async fn origin_and_echo(running: &Running) -> (String, String, String) {
    let until = Instant::now() + Duration::from_secs(45);
    loop {
        let errors = running.errors().await;
        let echo = errors.iter().find(|error| error["type"] == "UpstreamError");
        if let Some((echo, origin)) = echo.and_then(|error| Some((error["ref"].as_str()?, error["origin"].as_str()?))) {
            let occurrences = running.client_json(&["occurrences", echo]);
            return (
                echo.to_owned(),
                origin.to_owned(),
                occurrences["items"][0]["trace_id"].as_str().unwrap().to_owned(),
            );
        }
        assert!(Instant::now() < until, "no origin was found: {errors:?}");
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn real_services_of_two_languages_make_one_trace_with_origin_and_echo_by_every_protocol() {
    let folder = folder();
    for (of_gangway, of_fares) in [
        ("http/protobuf", "http/protobuf"),
        ("http/json", "http/protobuf"),
        ("grpc", "grpc"),
    ] {
        let port = free_port();
        let running = service()
            .start_with(&["--otlp-grpc", &format!("127.0.0.1:{port}")])
            .await;
        let grpc = format!("http://127.0.0.1:{port}");
        let spoken = |protocol: &'static str| {
            (
                protocol,
                if protocol == "grpc" {
                    grpc.as_str()
                } else {
                    &running.url
                },
                running.key.as_str(),
            )
        };
        run(&folder, spoken(of_gangway), spoken(of_fares));

        let (echo, origin, id) = origin_and_echo(&running).await;
        let said = running.client_json(&["show", &echo]);
        assert_eq!(
            (&said["service"], &said["count"]),
            (&json!("gangway"), &json!(1)),
            "{of_gangway}: {said}"
        );
        let said = running.client_json(&["show", &origin]);
        assert_eq!(
            (&said["service"], &said["type"], &said["count"]),
            (&json!("fares"), &json!("ZeroDivisionError"), &json!(1)),
            "{said}"
        );
        assert!(
            (said["request_share"].as_f64().unwrap() - 1.0 / 3.0).abs() < 1e-9,
            "{said}"
        );
        assert_eq!(said["followed_by"][0]["ref"], json!(echo));
        assert_eq!(said["endpoints"][0]["endpoint"], "GET /v1/quotes/<int:sailing>");

        let trace = running.client_json(&["trace", &id]);
        assert_eq!(trace["services"], json!(["gangway", "fares"]), "{of_gangway}");
        assert!(
            trace["failed_first"]
                .as_str()
                .unwrap()
                .starts_with("Failed first in fares: ZeroDivisionError"),
            "{trace}"
        );
        let endpoints = running.client_json(&["endpoints"]);
        let of = |service: &str| {
            endpoints["items"]
                .as_array()
                .unwrap()
                .iter()
                .find(|row| row["service"] == service)
                .unwrap()
                .clone()
        };
        assert_eq!(
            (of("gangway")["count"].clone(), of("fares")["failed"].clone()),
            (json!(3), json!(1)),
            "{of_gangway}: {endpoints}"
        );
        // Which service is behind a name is learnt from traces, a little later.
        let until = Instant::now() + Duration::from_secs(90);
        loop {
            let calls = running.client_json(&["calls"]);
            let to_fares = |call: &serde_json::Value| call["service"] == "gangway" && call["to_service"] == "fares";
            if calls["items"].as_array().unwrap().iter().any(to_fares) {
                break;
            }
            assert!(Instant::now() < until, "{calls}");
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }
}
