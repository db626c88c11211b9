//! OTLP in all its dresses: gRPC, codings, metrics.

use std::io::{Read, Write};

use outcrop_testkit::{Running, recorded};

use crate::sdk;
use crate::support::{outline, service};

/// A free port of this moment.
pub fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_real_python_sdk_over_grpc_says_the_same_as_over_http() {
    let port = free_port();
    let running = service()
        .start_with(&["--otlp-grpc", &format!("127.0.0.1:{port}")])
        .await;
    let grpc = format!("http://127.0.0.1:{port}");
    for compression in ["none", "gzip"] {
        sdk::send_by(sdk::Protocol::Grpc, &grpc, &running.key, compression);
    }
    let by_grpc = outline(&running.errors().await);
    assert!(
        by_grpc.len() == 1 && by_grpc[0].contains("| 6x 3 users 2.4.0"),
        "{by_grpc:?}"
    );

    let by_http = service().start().await;
    for _ in 0..2 {
        sdk::send(&by_http.url, &by_http.key, "gzip");
    }
    assert_eq!(outline(&by_http.errors().await), by_grpc);
}

/// Calls a method of gRPC with one message; returns the status and its details, of an answer that has no message.
async fn call(port: u16, key: &str, method: &str, message: &[u8]) -> (String, String, bool) {
    let http = reqwest::Client::builder().http2_prior_knowledge().build().unwrap();
    let mut framed = vec![0];
    framed.extend(u32::try_from(message.len()).unwrap().to_be_bytes());
    framed.extend(message);
    let path = format!("http://127.0.0.1:{port}/opentelemetry.proto.collector.{method}");
    let request = http
        .post(path)
        .header("content-type", "application/grpc")
        .header("te", "trailers")
        .bearer_auth(key)
        .body(framed);
    let answer = request.send().await.unwrap();
    let header = |name| {
        answer
            .headers()
            .get(name)
            .map(|value| value.to_str().unwrap().to_owned())
            .unwrap_or_default()
    };
    (
        header("grpc-status"),
        header("grpc-message"),
        answer.headers().contains_key("grpc-status-details-bin"),
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn grpc_refuses_in_its_own_form() {
    let port = free_port();
    let options = [
        "--otlp-grpc",
        &format!("127.0.0.1:{port}"),
        "--max-body",
        "64KiB",
        "--max-inflated",
        "64KiB",
    ];
    let running = service().start_with(&options).await;
    let body = recorded("nested-span-fares.traces.pb").bytes;
    let traces = "trace.v1.TraceService/Export";
    let (status, message, has_details) = call(port, "outcrop-key-of-nobody", traces, &body).await;
    assert_eq!((status.as_str(), has_details), ("16", false), "{message}");
    assert_eq!(call(port, &running.key, traces, b"no protobuf").await.0, "3");
    assert_eq!(
        call(port, &running.key, "trace.v1.TraceService/Import", &body).await.0,
        "12"
    );
    assert_eq!(
        call(port, &running.key, "metrics.v1.MetricsService/Export", b"no protobuf")
            .await
            .0,
        "3"
    );
    let (status, message, has_details) = call(port, &running.key, traces, &vec![0; 70_000]).await;
    assert_eq!(
        (status.as_str(), has_details),
        ("8", false),
        "too large is final: {message}"
    );
    let limited = running
        .service()
        .succeed(&["admin", "key", "create", "pier-limited", "--per-minute", "8KiB"], "");
    let mut last = (String::new(), String::new(), false);
    for _ in 0..4 {
        last = call(port, &limited, traces, &body).await;
    }
    assert_eq!(
        (last.0.as_str(), last.2),
        ("8", true),
        "RetryInfo stands in the details: {}",
        last.1
    );
}

async fn post(running: &Running, path: &str, coding: &str, body: Vec<u8>) -> u16 {
    let request = running
        .post(path)
        .header("content-type", "application/x-protobuf")
        .header("content-encoding", coding)
        .body(body);
    request.send().await.unwrap().status().as_u16()
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_in_every_coding_are_taken_once() {
    let running = service().start().await;
    let bodies = outcrop_testkit::restamped(&[recorded("nested-span-fares.traces.pb")]);
    let body = &bodies[0].bytes;
    let zlib = {
        let mut encoder = flate2::write::ZlibEncoder::new(vec![], flate2::Compression::default());
        encoder.write_all(body).unwrap();
        encoder.finish().unwrap()
    };
    let bare = {
        let mut encoder = flate2::write::DeflateEncoder::new(vec![], flate2::Compression::default());
        encoder.write_all(body).unwrap();
        encoder.finish().unwrap()
    };
    let zstd = zstd::encode_all(body.as_slice(), 3).unwrap();
    for (coding, coded) in [
        ("identity", body.clone()),
        ("zstd", zstd.clone()),
        ("deflate", zlib),
        ("DEFLATE", bare),
    ] {
        assert_eq!(post(&running, "/v1/traces", coding, coded).await, 200, "{coding}");
    }
    // The same body in another coding is the same body.
    assert_eq!(
        running
            .errors()
            .await
            .iter()
            .map(|error| error["count"].as_u64().unwrap())
            .collect::<Vec<_>>(),
        [1]
    );
    assert_eq!(
        post(&running, "/v1/traces", "zstd", zstd[..zstd.len() / 2].to_vec()).await,
        400
    );
    let bomb = zstd::encode_all(std::io::repeat(0).take(80 << 20), 3).unwrap();
    assert_eq!(post(&running, "/v1/traces", "zstd", bomb).await, 413);
}

#[tokio::test(flavor = "multi_thread")]
async fn metrics_are_taken_and_checked() {
    let running = service().start().await;
    for name in ["metrics-gangway.metrics.json", "metrics-sailings.metrics.pb"] {
        let answer = running.send(&recorded(name)).await;
        assert_eq!(answer.status(), 200, "{name}");
    }
    assert_eq!(
        post(&running, "/v1/metrics", "identity", b"no protobuf".to_vec()).await,
        400
    );
    assert_eq!(running.errors().await, Vec::<serde_json::Value>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_failed_without_an_exception_is_found_too() {
    let running = service().start().await;
    let names = ["status-only-fares.traces.pb", "text-traceback-fares-logs.logs.pb"];
    for body in outcrop_testkit::restamped(&names.map(recorded)) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    insta::assert_snapshot!(outline(&running.errors().await).join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_is_reported_by_hand_in_plain_json() {
    let running = service().start().await;
    let report = |body: serde_json::Value| running.post("/api/v1/report").json(&body).send();
    let stack = "Traceback (most recent call last):\n  File \"/srv/ledger/settle.py\", line 3, in settle\n    \
        x\nKeyError: 'port 7'";
    let answer = report(
        serde_json::json!({"service": "ledger", "environment": "production", "version": "7.3.0", "message": "'port \
            7'", "stacktrace": stack,
        "severity": "fatal", "user": "u-7", "data": {"port": 7, "berths": [1, 2], "db_password": "hunter2-of-skerry"}}),
    );
    assert_eq!(answer.await.unwrap().status(), 200);
    let error = running.errors().await[0].clone();
    let said = ["service", "type", "own_frame", "severity", "first_version"]
        .map(|name| error[name].as_str().unwrap().to_owned());
    assert_eq!(
        said,
        [
            "ledger",
            "KeyError",
            "settle.settle ledger/settle.py:3",
            "fatal",
            "7.3.0"
        ]
    );
    let found = running.client_json(&[
        "occurrences",
        error["ref"].as_str().unwrap(),
        "--where",
        "port = 7 and user = u-7",
    ]);
    let occurrence = running.client_json(&["occurrence", found["items"][0]["id"].as_str().unwrap()]);
    assert_eq!(
        (
            &occurrence["attributes"]["berths"],
            &occurrence["attributes"]["db_password"]
        ),
        (&serde_json::json!([1, 2]), &"[removed: password]".into())
    );

    for (body, said) in [
        (serde_json::json!({"message": "no service"}), "missing field `service`"),
        (serde_json::json!({"service": "ledger"}), "says nothing"),
        (
            serde_json::json!({"service": "ledger", "message": "x", "levle": "error"}),
            "unknown field `levle`",
        ),
        (
            serde_json::json!({"service": "ledger", "message": "x", "time": "2001-01-01T00:00:00Z"}),
            "older than the retention",
        ),
    ] {
        let answer = report(body).await.unwrap();
        let (status, problem) = (
            answer.status().as_u16(),
            answer.json::<serde_json::Value>().await.unwrap(),
        );
        assert!(
            status == 400 && problem["detail"].as_str().unwrap().contains(said),
            "{problem}"
        );
    }
    let stranger = reqwest::Client::new()
        .post(format!("{}/api/v1/report", running.url))
        .bearer_auth("outcrop-key-of-nobody")
        .json(&serde_json::json!({"service": "x", "message": "x"}));
    assert_eq!(stranger.send().await.unwrap().status(), 401);
    // The same from the command line, with the stack a job left behind.
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), stack).unwrap();
    assert!(
        running
            .client(&[
                "send",
                "--service",
                "ledger",
                "--message",
                "'port 7'",
                "--type",
                "KeyError",
                "--stack",
                file.path().to_str().unwrap()
            ])
            .status
            .success()
    );
    assert_eq!(
        running
            .errors()
            .await
            .iter()
            .map(|error| error["count"].as_u64().unwrap())
            .collect::<Vec<_>>(),
        [2]
    );
}
