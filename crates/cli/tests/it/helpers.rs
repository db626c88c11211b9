//! The helpers inside real web apps: variables and source arrive, secrets do not, nothing harms the app.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::{Value, json};

use crate::support::{node_with, python_with, service};

const PACKAGES: &[&str] = &[
    "flask==3.1.2",
    "opentelemetry-sdk==1.45.1",
    "opentelemetry-exporter-otlp-proto-http==1.45.1",
    "opentelemetry-instrumentation-flask==0.66b1",
];

fn helper() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../helpers/python")
}

const APP: &str = r#"
import threading
from flask import Flask
from opentelemetry import _logs, trace
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.instrumentation.flask import FlaskInstrumentor
from opentelemetry.sdk._logs import LoggerProvider
from opentelemetry.sdk._logs.export import BatchLogRecordProcessor
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor
import outcrop_helper

traces, logs = TracerProvider(), LoggerProvider()
traces.add_span_processor(BatchSpanProcessor(OTLPSpanExporter()))
logs.add_log_record_processor(BatchLogRecordProcessor(OTLPLogExporter()))
trace.set_tracer_provider(traces)
_logs.set_logger_provider(logs)
outcrop_helper.install()
app = Flask(__name__)
FlaskInstrumentor().instrument_app(app)

class Vehicle:
    def __init__(self, metres):
        self.metres, self.owner_token = metres, "tok-" + "planted"
    def __repr__(self):
        raise RuntimeError("asked to describe itself")

@app.get("/v1/quotes/<int:metres>")
def quote(metres):
    vehicle = Vehicle(metres)
    password = "low-" + "tide"
    return str(4600 / vehicle.metres)

client = app.test_client()
print(client.get("/v1/quotes/0").status_code, client.get("/v1/quotes/4").status_code)

def assign_berth():
    berths = ["north", "south"]
    return berths[7]

thread = threading.Thread(target=assign_berth, name="berths")
thread.start()
thread.join()
traces.shutdown()
logs.shutdown()
"#;

/// The newest occurrence of an error of a type, in full.
fn occurrence(running: &outcrop_testkit::Running, kind: &str) -> Value {
    let errors = running.client_json(&["errors", "--service", "fares"]);
    let items = errors["items"].as_array().unwrap();
    let error = items.iter().find(|item| item["type"] == kind);
    let reference = error.unwrap_or_else(|| panic!("{errors}"))["ref"].as_str().unwrap();
    let list = running.client_json(&["occurrences", reference]);
    running.client_json(&["occurrence", list["items"][0]["id"].as_str().unwrap()])
}

#[tokio::test(flavor = "multi_thread")]
async fn variables_and_source_of_a_flask_app_arrive_and_its_secrets_do_not() {
    let python = python_with("helper-flask-3.1.2", PACKAGES);
    let tests = Command::new(&python)
        .arg(helper().join("tests/test_helper.py"))
        .output()
        .unwrap();
    assert!(tests.status.success(), "{}", String::from_utf8_lossy(&tests.stderr));

    let service = service();
    let running = service.start().await;
    let folder = tempfile::tempdir().unwrap();
    let app = folder.path().join("app.py");
    std::fs::write(&app, APP).unwrap();
    let output = Command::new(&python)
        .arg(&app)
        .env("PYTHONPATH", helper())
        .env("OTEL_EXPORTER_OTLP_ENDPOINT", &running.url)
        .env(
            "OTEL_EXPORTER_OTLP_HEADERS",
            format!("authorization=Bearer%20{}", running.key),
        )
        .env("OTEL_SERVICE_NAME", "fares")
        .env("OTEL_RESOURCE_ATTRIBUTES", "service.version=2.4.0")
        .output()
        .unwrap();
    let printed = String::from_utf8_lossy(&output.stdout);
    assert_eq!(printed.trim(), "500 200", "{}", String::from_utf8_lossy(&output.stderr));

    let of_request = occurrence(&running, "ZeroDivisionError");
    let frame = &of_request["stack"]["exceptions"][0]["frames"][0];
    assert_eq!(frame["function"], "quote", "{of_request}");
    let said = frame.to_string();
    assert!(
        said.contains("Vehicle(metres=0") && said.contains("return str(4600 / vehicle.metres)"),
        "{said}"
    );
    let of_thread = occurrence(&running, "IndexError");
    assert_eq!(of_thread["uncaught"], json!(true), "{of_thread}");
    assert!(of_thread.to_string().contains("['north', 'south']"), "{of_thread}");
    let all = service.all_text().await;
    assert!(!all.contains("tok-planted") && !all.contains("low-tide"));
}

const NODE_APP: &str = r#"
const express = require("express");
const app = express();
app.set("env", "test");

class Vehicle {
  constructor(metres) {
    this.metres = metres;
    this.ownerToken = ["tok", "planted"].join("-");
  }
  get price() {
    throw new Error("asked for its price");
  }
}

function quoteFor(sailing) {
  const vehicle = new Vehicle(12);
  const password = ["low", "tide"].join("-");
  if (sailing === 2) throw new RangeError(`no fare for sailing ${sailing}`);
  return { total: vehicle.metres, isMember: password.length > 3 };
}

app.get("/v1/quotes/:sailing", (request, response) => response.json(quoteFor(Number(request.params.sailing))));
const server = app.listen(0, "127.0.0.1", async () => {
  const at = (sailing) => `http://127.0.0.1:${server.address().port}/v1/quotes/${sailing}`;
  const answers = [];
  // Modules that are looked for and not there throw by the hundred as a service starts: the helper looks away meanwhile.
  await new Promise((done) => setTimeout(done, 3000));
  for (const sailing of [1, 2, 3]) answers.push((await fetch(at(sailing))).status);
  console.log(answers.join(" "));
  if (process.env.ENDS === "rejection") throw new SyntaxError("no timetable");
  setTimeout(function assignBerth() {
    const berths = ["north", "south"];
    console.log(berths[7].length);
  }, 100);
});
"#;

const NODE_PACKAGES: &[&str] = &[
    "express@5.1.0",
    "@opentelemetry/api@1.10.0",
    "@opentelemetry/auto-instrumentations-node@0.82.0",
];

#[tokio::test(flavor = "multi_thread")]
async fn variables_and_source_of_an_express_app_arrive_and_what_ends_it_is_reported() {
    let folder = node_with("helper-node", NODE_PACKAGES);
    std::fs::write(folder.join("app.js"), NODE_APP).unwrap();
    let helper = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../helpers/node");
    let node = |arguments: &[&str]| {
        let mut command = Command::new("node");
        command.args(arguments).env("NODE_PATH", folder.join("node_modules"));
        command
    };
    let tests = node(&["--test"]).current_dir(&helper).output().unwrap();
    assert!(tests.status.success(), "{}", String::from_utf8_lossy(&tests.stdout));

    let service = service();
    let running = service.start().await;
    let register = helper.join("register.js");
    let ran = |ends: &str| {
        let output = node(&[
            "--require",
            "@opentelemetry/auto-instrumentations-node/register",
            "--require",
            register.to_str().unwrap(),
            "app.js",
        ])
        .current_dir(&folder)
        .env("OTEL_EXPORTER_OTLP_PROTOCOL", "http/protobuf")
        .env("OTEL_EXPORTER_OTLP_ENDPOINT", &running.url)
        .env(
            "OTEL_EXPORTER_OTLP_HEADERS",
            format!("authorization=Bearer%20{}", running.key),
        )
        .env("OTEL_METRICS_EXPORTER", "none")
        .env("OTEL_SERVICE_NAME", "fares")
        .env("OTEL_RESOURCE_ATTRIBUTES", "service.version=2.4.0")
        .env("OUTCROP_VARIABLES", "1")
        .env("ENDS", ends)
        .output()
        .unwrap();
        let (printed, complaint) = (
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&output.stderr),
        );
        assert_eq!(printed.trim(), "200 500 200", "{complaint}");
        assert_eq!(output.status.code(), Some(1), "it ends as it would have: {complaint}");
    };
    ran("timer");
    ran("rejection");
    assert_eq!(occurrence(&running, "SyntaxError")["uncaught"], json!(true));

    let of_request = occurrence(&running, "RangeError");
    let frame = &of_request["stack"]["exceptions"][0]["frames"][0];
    assert_eq!(frame["function"], "quoteFor", "{of_request}");
    let said = frame.to_string();
    assert!(
        said.contains("Vehicle {metres: 12") && said.contains("throw new RangeError("),
        "{said}"
    );
    let of_timer = occurrence(&running, "TypeError");
    assert_eq!(of_timer["uncaught"], json!(true), "{of_timer}");
    let said = of_timer.to_string();
    assert!(
        said.contains("console.log(berths[7].length)") && said.contains("south"),
        "{said}"
    );
    let all = service.all_text().await;
    assert!(!all.contains("tok-planted") && !all.contains("low-tide"));
}
