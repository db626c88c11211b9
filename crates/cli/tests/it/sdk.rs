//! The genuine Python SDK, from PyPI, sends; the command line reads.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::{python_with, service};

/// The SDK's release this was last run with; docs and guides name the same.
const PACKAGES: &[&str] = &[
    "opentelemetry-sdk==1.45.1",
    "opentelemetry-exporter-otlp-proto-http==1.45.1",
    "opentelemetry-exporter-otlp-proto-grpc==1.45.1",
];

/// The SDK in an environment of its own.
fn python() -> PathBuf {
    python_with("python-sdk-1.45.1-grpc", PACKAGES)
}

const APP: &str = r#"
import logging
from opentelemetry import trace
from opentelemetry._logs import set_logger_provider
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.sdk._logs import LoggerProvider, LoggingHandler
from opentelemetry.sdk._logs.export import BatchLogRecordProcessor
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor

traces = TracerProvider()
traces.add_span_processor(BatchSpanProcessor(OTLPSpanExporter()))
trace.set_tracer_provider(traces)
logs = LoggerProvider()
logs.add_log_record_processor(BatchLogRecordProcessor(OTLPLogExporter()))
set_logger_provider(logs)
logging.getLogger().addHandler(LoggingHandler(logger_provider=logs))
tracer = trace.get_tracer("skerry.fares")


def per_metre(total, metres):
    return total / metres


def quote(sailing):
    with tracer.start_as_current_span("tariff.quote"):
        return per_metre(4600, 0)


for sailing in range(3):
    try:
        with tracer.start_as_current_span("GET /v1/quotes/{sailing}", kind=trace.SpanKind.SERVER, attributes={"http.request.method": "GET", "http.route": "/v1/quotes/{sailing}", "user.id": f"u-{sailing}"}):
            try:
                quote(sailing)
            except ZeroDivisionError:
                logging.getLogger("fares").exception("no quote for sailing %s", sailing)
                raise
    except ZeroDivisionError:
        pass
for sailing in range(7):
    with tracer.start_as_current_span("GET /v1/quotes/{sailing}", kind=trace.SpanKind.SERVER, attributes={"http.request.method": "GET", "http.route": "/v1/quotes/{sailing}"}):
        pass
traces.shutdown()
logs.shutdown()
"#;

/// How the SDK's exporters speak.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Protocol {
    Http,
    Grpc,
}

/// Runs the app once with the SDK's exporters pointed at an intake.
pub fn send(url: &str, key: &str, compression: &str) {
    send_by(Protocol::Http, url, key, compression);
}

/// Runs the app once, by a protocol.
pub fn send_by(protocol: Protocol, url: &str, key: &str, compression: &str) {
    let app = if protocol == Protocol::Grpc {
        APP.replace("otlp.proto.http.", "otlp.proto.grpc.")
    } else {
        APP.to_owned()
    };
    let output = Command::new(python())
        .args(["-c", &app])
        .env("OTEL_EXPORTER_OTLP_ENDPOINT", url)
        .env("OTEL_EXPORTER_OTLP_HEADERS", format!("authorization=Bearer%20{key}"))
        // The exporter for gRPC knows no `none`: it is what an unset one means.
        .envs((compression != "none").then_some(("OTEL_EXPORTER_OTLP_COMPRESSION", compression)))
        .env("OTEL_SERVICE_NAME", "fares")
        .env(
            "OTEL_RESOURCE_ATTRIBUTES",
            "service.version=2.4.0,deployment.environment.name=production",
        )
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && !said.contains("Failed to export"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn failures_of_the_real_python_sdk_become_one_error_with_its_traffic() {
    let running = service().start().await;
    for compression in ["none", "gzip"] {
        send(&running.url, &running.key, compression);
    }
    let page = running.client_json(&["errors", "--service", "fares", "--environment", "production"]);
    let errors = page["items"].as_array().unwrap();
    assert_eq!(errors.len(), 1, "{page}");
    let error = &errors[0];
    assert_eq!(error["type"], "ZeroDivisionError");
    assert_eq!(error["message"], "division by zero");
    assert_eq!(
        (&error["count"], &error["users"], &error["uncaught"]),
        (&6.into(), &3.into(), &true.into())
    );
    assert_eq!(error["request_share"], 0.3);
    assert_eq!(error["first_version"], "2.4.0");
    let reference = error["ref"].as_str().unwrap();
    let occurrences = running.client_json(&["occurrences", reference]);
    let latest = &occurrences["items"][0];
    assert_eq!(latest["endpoint"], "GET /v1/quotes/{sailing}");
    let full = running.client_json(&["occurrence", latest["id"].as_str().unwrap()]);
    assert_eq!(full["stack"]["exceptions"][0]["frames"][0]["function"], "per_metre");
    assert_eq!(
        full["also_reported"].as_array().unwrap().len(),
        2,
        "the server span's report and the log record: {full}"
    );
    assert_eq!(
        full["sent"]["resourceSpans"][0]["scopeSpans"][0]["spans"][0]["traceId"],
        latest["trace_id"]
    );
}

/// A small web service of a language, with nothing of telemetry in it, and how it is prepared.
pub struct App {
    /// The folder below `target` that keeps what was installed.
    folder: &'static str,
    file: (&'static str, &'static str),
    /// Makes the folder what a developer of that language has: its framework, a virtual environment.
    prepare: &'static str,
    /// What its guide ends with.
    pub started_by: &'static str,
    pub thrown: &'static str,
    pub function: &'static str,
    /// What the guide's own job dies of.
    pub job_throws: &'static str,
}

pub const FLASK: App = App {
    folder: "app-python",
    file: (
        "app.py",
        r#"
import os, threading, time, urllib.error, urllib.request
from flask import Flask
from werkzeug.serving import make_server

app = Flask(__name__)

def per_metre(total, metres):
    return total / metres

@app.get("/v1/quotes/<int:sailing>")
def quote(sailing):
    return {"total": per_metre(4600, 0 if sailing == 2 else 4)}

server = make_server("127.0.0.1", 0, app)
threading.Thread(target=server.serve_forever, daemon=True).start()
for sailing in (1, 2, 3):
    try:
        urllib.request.urlopen(f"http://127.0.0.1:{server.port}/v1/quotes/{sailing}").read()
    except urllib.error.HTTPError as failed:
        assert failed.code == 500
server.shutdown()
"#,
    ),
    prepare: "[ -d venv ] || python3 -m venv venv\n. venv/bin/activate\npip install --quiet flask==3.1.2",
    started_by: "opentelemetry-instrument python app.py",
    thrown: "ZeroDivisionError",
    function: "per_metre",
    job_throws: "LookupError",
};

pub const EXPRESS: App = App {
    folder: "app-node",
    file: (
        "server.js",
        r#"
const express = require("express");
const app = express();
app.set("env", "test");

function quoteFor(sailing) {
  if (sailing === 2) throw new RangeError(`no fare for sailing ${sailing}`);
  return { total: 4600 };
}

app.get("/v1/quotes/:sailing", (request, response) => response.json(quoteFor(Number(request.params.sailing))));
const server = app.listen(0, "127.0.0.1", async () => {
  for (const sailing of [1, 2, 3]) await fetch(`http://127.0.0.1:${server.address().port}/v1/quotes/${sailing}`);
  // As a supervisor stops a service: the SDK sends what it holds, then the process ends.
  setTimeout(() => process.kill(process.pid, "SIGTERM"), 200);
  setTimeout(() => process.exit(), 30000);
});
"#,
    ),
    prepare: "[ -e package.json ] || npm init --yes >/dev/null\n[ -d node_modules/express ] || npm install --silent \
        express@5.1.0",
    started_by: "auto-instrumentations-node/register server.js",
    thrown: "RangeError",
    function: "quoteFor",
    job_throws: "RangeError",
};

pub const RUST: App = App {
    folder: "app-rust",
    file: (
        "src/main.rs",
        r#"
mod telemetry;

#[derive(Debug)]
struct NoFare(u32);

impl std::fmt::Display for NoFare {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "no fare for sailing {}", self.0)
    }
}

impl std::error::Error for NoFare {}

fn quote_for(sailing: u32) -> Option<u32> {
    if sailing == 2 {
        telemetry::failed(&NoFare(sailing));
        return None;
    }
    Some(4600)
}

#[tracing::instrument(fields(otel.name = "GET /v1/quotes/{sailing}", otel.kind = "server", http.request.method = "GET", http.route = "/v1/quotes/{sailing}"))]
fn quote(sailing: u32) {
    let _answer = quote_for(sailing);
}

fn main() {
    let _telemetry = telemetry::start();
    for sailing in 1..=3 {
        quote(sailing);
    }
}
"#,
    ),
    // Below the workspace's own folder it must be told that it is no part of it.
    prepare: "[ -e Cargo.toml ] || printf '[package]\\nname = \"berths\"\\nversion = \"1.0.0\"\\nedition = \
        \"2024\"\\ndefault-run = \"berths\"\\n[workspace]\\n' > Cargo.toml",
    started_by: "cargo run",
    thrown: "berths::NoFare",
    function: "quote_for",
    job_throws: "panic",
};

impl App {
    /// Runs the steps of a guide in the app's folder, each as it stands; whether the last one ended well.
    pub fn run(&self, steps: &str) -> bool {
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(self.folder);
        let file = folder.join(self.file.0);
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(file, self.file.1).unwrap();
        let script = format!("{}\n{steps}", self.prepare);
        let output = Command::new("timeout")
            .args(["--kill-after=5", "300", "bash", "-c", &script])
            .current_dir(&folder)
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(
            !said.contains("Failed to export")
                && !said.contains("spans were not sent")
                && output.status.code() != Some(124),
            "{script}\n{said}"
        );
        output.status.success()
    }
}
