//! Hostile and broken senders, and machines that fail: nothing stops the service, fills it, or makes it lose data.

use std::io::Write as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use outcrop_testkit::{Body, Durability, Postgres, Running, Service};
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt as _;

const SECOND: u128 = 1_000_000_000;
const DAY: u128 = 86_400 * SECOND;

fn now_ns() -> u128 {
    std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
}

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

fn exception(at: u128, message: &str) -> Value {
    json!({"name": "exception", "timeUnixNano": at.to_string(), "attributes": [text("exception.type", "BerthTaken"),
        text("exception.message", message)]})
}

fn span(trace: u64, id: u64, at: u128, events: &[Value], attributes: &[Value]) -> Value {
    json!({"traceId": format!("{trace:032x}"), "spanId": format!("{id:016x}"), "name": "settle", "kind": 2,
        "status": {"code": 2},
        "startTimeUnixNano": (at - SECOND).to_string(), "endTimeUnixNano": at.to_string(), "events": events,
            "attributes": attributes})
}

fn traces(services: &[(&str, Vec<Value>)]) -> Body {
    let of = |(service, spans): &(&str, Vec<Value>)| {
        json!({"resource": {"attributes": [text("service.name", service), text("service.version", "2.4.0"),
            text("host.name", service)]},
            "scopeSpans": [{"spans": spans}]})
    };
    let body = json!({"resourceSpans": services.iter().map(of).collect::<Vec<_>>()});
    Body {
        name: "made".to_owned(),
        path: "/v1/traces",
        content_type: "application/json",
        bytes: body.to_string().into_bytes(),
    }
}

fn records(records: &[Value]) -> Body {
    let body = json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", "berths")]},
        "scopeLogs": [{"logRecords": records}]}]});
    Body {
        name: "made".to_owned(),
        path: "/v1/logs",
        content_type: "application/json",
        bytes: body.to_string().into_bytes(),
    }
}

pub fn report(number: u64) -> Body {
    records(&[
        json!({"timeUnixNano": now_ns().to_string(), "severityNumber": 17, "traceId": format!("{:032x}", number + 1),
            "spanId": "00000000000000aa",
        "attributes": [text("exception.type", "BerthTaken"), text("exception.message", "no berth")]}),
    ])
}

pub async fn counted(running: &Running) -> u64 {
    running
        .errors()
        .await
        .iter()
        .filter_map(|error| error["count"].as_u64())
        .sum()
}

pub async fn is_ready(running: &Running) -> bool {
    reqwest::get(format!("{}/readyz", running.url))
        .await
        .is_ok_and(|answer| answer.status() == 200)
}

/// The most memory that the service ever held, in megabytes, as the operating system counts it.
fn peak_mb(running: &Running) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", running.pid())).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1_024
}

fn gzipped(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(vec![], flate2::Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

async fn send_gzipped(running: &Running, path: &str, content_type: &str, body: Vec<u8>) -> reqwest::Response {
    let request = running
        .post(path)
        .header("content-type", content_type)
        .header("content-encoding", "gzip");
    request.body(body).send().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_record_of_a_trace_of_forty_days_ago_stops_nothing() {
    let running = crate::support::service().start().await;
    let old = records(&[
        json!({"timeUnixNano": (now_ns() - 40 * DAY).to_string(), "traceId": "0af7651916cd43dd8448eb211c80319c",
            "body": {"stringValue": "a"}}),
    ]);
    for attempt in 0..4_u8 {
        let mut body = old.bytes.clone();
        body.extend(std::iter::repeat_n(b' ', attempt.into()));
        let answer = running
            .send(&Body {
                bytes: body,
                ..old.clone()
            })
            .await;
        assert_eq!(answer.status(), 200);
        let said: Value = answer.json().await.unwrap();
        assert_eq!(said["partialSuccess"]["rejectedLogRecords"], "1");
    }
    for number in 0..10 {
        assert_eq!(running.send(&report(number)).await.status(), 200);
    }
    assert_eq!(counted(&running).await, 10);
    assert!(is_ready(&running).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_that_stand_for_gigabytes_stay_within_the_budget_and_two_hundred_megabytes() {
    const BUDGET_MB: u64 = 128;
    let running = crate::support::service()
        .start_with(&["--budget", "128MiB", "--max-body", "16MiB", "--max-inflated", "16MiB"])
        .await;
    let at = now_ns();
    let large = [text("skerry.manifest", &"x".repeat(1 << 20))];
    let events: Vec<Value> = (0..20_000).map(|n| exception(at - n, "berth 7 is taken")).collect();
    for trace in 1..=3 {
        let body = traces(&[("ledger", vec![span(trace, 1, at, &events, &large)])]);
        let answer = send_gzipped(&running, "/v1/traces", "application/json", gzipped(&body.bytes)).await;
        assert_eq!(answer.status(), 200);
        let said: Value = answer.json().await.unwrap();
        assert_eq!(said["partialSuccess"]["rejectedSpans"], "0", "{said}");
        assert!(
            said["partialSuccess"]["errorMessage"]
                .as_str()
                .unwrap()
                .contains("without details"),
            "{said}"
        );
    }
    // Tiny on the wire, large in memory: each is taken or refused, clearly.
    let nested = |content: Vec<u8>, tags: &[u8]| {
        tags.iter().fold(content, |content, tag| {
            let mut outer = vec![*tag];
            prost::encoding::encode_varint(content.len() as u64, &mut outer);
            outer.extend(content);
            outer
        })
    };
    let bombs = [
        (
            "/v1/logs",
            "application/x-protobuf",
            nested(b"\x12\x00".repeat(7_000_000), b"\x12\x0a"),
        ),
        (
            "/v1/logs",
            "application/x-protobuf",
            b"\x0a\x02\x12\x00".repeat(3_900_000),
        ),
        (
            "/v1/traces",
            "application/x-protobuf",
            nested(b"\x4a\x04\x0a\x02aa".repeat(2_000_000), b"\x12\x12\x0a"),
        ),
        (
            "/v1/metrics",
            "application/x-protobuf",
            nested(b"\x12\x00".repeat(7_000_000), b"\x12\x0a"),
        ),
        (
            "/v1/logs",
            "application/json",
            [
                b"{\"resourceLogs\":[{\"scopeLogs\":[{\"logRecords\":[{}".as_slice(),
                &b",{}".repeat(5_000_000),
                b"]}]}]}",
            ]
            .concat(),
        ),
        ("/v1/traces", "application/json", vec![b'['; 16_000_000]),
        ("/v1/traces", "application/json", vec![b' '; 60_000_000]),
    ];
    // All is packed before the first is sent: a connection on which nothing comes for seconds is closed.
    let packed: Vec<Vec<u8>> = bombs.iter().map(|(.., bytes)| gzipped(bytes)).collect();
    let sent = bombs
        .iter()
        .zip(packed)
        .map(|((path, content_type, _), body)| send_gzipped(&running, path, content_type, body));
    for (answer, (path, content_type, _)) in futures_util::future::join_all(sent).await.into_iter().zip(&bombs) {
        assert!(
            [200, 400, 413, 503].contains(&answer.status().as_u16()),
            "{path} {content_type}: {}",
            answer.status()
        );
    }
    assert_eq!(counted(&running).await, 60_000);
    assert!(is_ready(&running).await);
    let peak = peak_mb(&running);
    assert!(peak <= BUDGET_MB + 200, "{peak} MB");
}

#[tokio::test(flavor = "multi_thread")]
async fn exceptions_of_future_days_make_no_partitions_and_a_wrong_clock_moves_nobody_elses_times() {
    let running = crate::support::service().start().await;
    assert_eq!(running.send(&report(1)).await.status(), 200);
    let partitions = "SELECT count(*) AS n FROM pg_inherits";
    // The job that makes tomorrow's may still be at it.
    let mut before = running.service().row(partitions).await;
    loop {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let later = running.service().row(partitions).await;
        if later == before {
            break;
        }
        before = later;
    }
    let at = now_ns();
    let days: Vec<Value> = (1..=1_000)
        .map(|day| exception(at + day * DAY, "from the future"))
        .collect();
    assert_eq!(
        running
            .send(&traces(&[("ledger", vec![span(1, 1, at, &days, &[])])]))
            .await
            .status(),
        200
    );
    assert_eq!(running.service().row(partitions).await, before);
    assert_eq!(counted(&running).await, 1_001);
    // One host an hour ahead, behind the same collector as one that is right.
    let ahead = at + 3_600 * SECOND;
    let body = traces(&[
        ("sailings", vec![span(2, 2, ahead, &[exception(ahead, "there")], &[])]),
        (
            "fares",
            vec![span(3, 3, at - SECOND, &[exception(at - 60 * SECOND, "here")], &[])],
        ),
    ]);
    assert_eq!(running.send(&body).await.status(), 200);
    let errors = running.errors().await;
    let here = errors.iter().find(|error| error["message"] == "here").unwrap();
    let seen = chrono::DateTime::parse_from_rfc3339(here["last_seen"].as_str().unwrap()).unwrap();
    let late = (i128::from(seen.timestamp_nanos_opt().unwrap()) - i128::try_from(at).unwrap()).abs();
    assert!(late < 3 * i128::try_from(SECOND).unwrap(), "{here}");
    let services = running.client_json(&["services"]);
    let missing = |service: &str| {
        services["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["service"] == service)
            .unwrap()["missing"]
            .to_string()
    };
    let ahead = missing("sailings");
    // The seconds that the machine took to send it are gone from the hour.
    let skew = ahead.split("clock ").nth(1).and_then(|rest| rest.split(' ').next());
    let skew: u64 = skew.and_then(|seconds| seconds.parse().ok()).unwrap();
    assert!(
        (3_540..=3_600).contains(&skew) && !missing("fares").contains("clock"),
        "{services}"
    );
    assert!(
        missing("ledger").contains("872 failures counted without details"),
        "{services}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_by_one_key_lets_anothers_requests_pass() {
    let running = crate::support::service().start().await;
    let other = running
        .service()
        .succeed(&["admin", "key", "create", "pier-of-others"], "");
    let at = now_ns();
    let flood: Vec<Body> = (0..4_u64)
        .map(|round| {
            let names: Vec<String> = (0..5_000).map(|n| format!("service-{round}-{n}")).collect();
            let of = |(n, name)| {
                (
                    name,
                    vec![span(round * 5_000 + n + 1, 7, at, &[exception(at, "no berth")], &[])],
                )
            };
            traces(&(0..).zip(names.iter().map(String::as_str)).map(of).collect::<Vec<_>>())
        })
        .collect();
    let flooded = AtomicBool::new(false);
    let flooding = async {
        let answers = futures_util::future::join_all(flood.iter().map(|body| running.send(body))).await;
        flooded.store(true, Ordering::Relaxed);
        assert!(answers.iter().all(|answer| answer.status() == 200));
    };
    let passing = async {
        let mut passed = 0;
        while !flooded.load(Ordering::Relaxed) {
            let body = report(1_000_000 + passed);
            let http = reqwest::Client::new();
            let request = http
                .post(format!("{}{}", running.url, body.path))
                .bearer_auth(&other)
                .header("content-type", body.content_type);
            assert_eq!(request.body(body.bytes).send().await.unwrap().status(), 200);
            passed += 1;
        }
        passed
    };
    let ((), passed) = tokio::join!(flooding, passing);
    assert!(
        passed >= 5,
        "{passed} requests of the other key passed beside the flood"
    );
    assert_eq!(counted_of_all(&running).await, 20_000 + passed);
    // The cap of a key's services: the rest is counted together.
    let services = running.service().row("SELECT count(*) AS n FROM service").await;
    assert!(
        services[0].as_ref().unwrap().parse::<u64>().unwrap() <= 2_003,
        "{services:?}"
    );
}

pub async fn counted_of_all(running: &Running) -> u64 {
    let row = running
        .service()
        .row("SELECT coalesce(sum(n), 0) AS n FROM tally_hour")
        .await;
    row[0].as_ref().unwrap().parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn five_hundred_senders_of_a_byte_a_second_hold_up_nobody() {
    let running = crate::support::service().start().await;
    let address = running.url.trim_start_matches("http://").to_owned();
    let stop = Arc::new(AtomicBool::new(false));
    let slow: Vec<_> = (0..500)
        .map(|_| {
            let (address, key, stop) = (address.clone(), running.key.clone(), stop.clone());
            tokio::spawn(async move {
                let mut stream = tokio::net::TcpStream::connect(&address).await.unwrap();
                let head = format!(
                    "POST /v1/logs HTTP/1.1\r\nHost: skerry.example\r\nAuthorization: Bearer {key}\r\nContent-Type: \
                     application/json\r\nContent-Length: 8000000\r\n\r\n"
                );
                stream.write_all(head.as_bytes()).await.unwrap();
                while !stop.load(Ordering::Relaxed) && stream.write_all(b" ").await.is_ok() {
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
            })
        })
        .collect();
    for number in 0..100 {
        assert_eq!(running.send(&report(number)).await.status(), 200);
    }
    stop.store(true, Ordering::Relaxed);
    futures_util::future::join_all(slow).await;
    assert_eq!(counted(&running).await, 100);
    assert!(peak_mb(&running) < 400, "{} MB", peak_mb(&running));
}

/// Sends until told to stop, as SDKs do: the same bytes again until they are acknowledged, to one of the addresses.
pub fn load(
    urls: &[String],
    key: &str,
    stop: &Arc<AtomicBool>,
    acknowledged: &Arc<AtomicU64>,
) -> Vec<tokio::task::JoinHandle<()>> {
    (0..6_u64)
        .map(|sender| {
            let (urls, key, stop, acknowledged) = (urls.to_owned(), key.to_owned(), stop.clone(), acknowledged.clone());
            tokio::spawn(async move {
                let http = reqwest::Client::builder()
                    .timeout(Duration::from_secs(10))
                    .build()
                    .unwrap();
                let mut number = sender << 32;
                while !stop.load(Ordering::Relaxed) {
                    number += 1;
                    let body = report(number);
                    let mut tries = number;
                    loop {
                        let url = &urls[usize::try_from(tries).unwrap() % urls.len()];
                        let request = http
                            .post(format!("{url}{}", body.path))
                            .bearer_auth(&key)
                            .header("content-type", body.content_type);
                        if request
                            .body(body.bytes.clone())
                            .send()
                            .await
                            .is_ok_and(|answer| answer.status() == 200)
                        {
                            break;
                        }
                        tries += 1;
                        tokio::time::sleep(Duration::from_millis(20)).await;
                    }
                    acknowledged.fetch_add(1, Ordering::Relaxed);
                }
            })
        })
        .collect()
}

pub async fn until_more(acknowledged: &AtomicU64, more: u64) {
    let from = acknowledged.load(Ordering::Relaxed);
    while acknowledged.load(Ordering::Relaxed) < from + more {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn with_the_database_killed_under_load_sent_is_counted() {
    let mut postgres = Postgres::start(Durability::Volatile);
    let running = Service::new(env!("CARGO_BIN_EXE_outcrop"), postgres.database())
        .start()
        .await;
    let (stop, acknowledged) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let senders = load(std::slice::from_ref(&running.url), &running.key, &stop, &acknowledged);
    for _ in 0..2 {
        until_more(&acknowledged, 100).await;
        postgres.crash();
        postgres.resume();
        running.wait_until_ready().await;
    }
    until_more(&acknowledged, 50).await;
    stop.store(true, Ordering::Relaxed);
    futures_util::future::join_all(senders).await;
    assert_eq!(counted(&running).await, acknowledged.load(Ordering::Relaxed));
    assert!(is_ready(&running).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn with_one_of_two_instances_killed_under_load_sent_is_counted() {
    let service = crate::support::service();
    let (first, mut second) = (service.start().await, service.start().await);
    let (stop, acknowledged) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let senders = load(
        &[first.url.clone(), second.url.clone()],
        &first.key,
        &stop,
        &acknowledged,
    );
    for _ in 0..2 {
        until_more(&acknowledged, 100).await;
        second.kill_and_restart().await;
    }
    until_more(&acknowledged, 50).await;
    stop.store(true, Ordering::Relaxed);
    futures_util::future::join_all(senders).await;
    assert_eq!(counted(&first).await, acknowledged.load(Ordering::Relaxed));
}

#[test]
fn a_budget_that_cannot_hold_the_largest_body_is_refused_at_start() {
    let refused = crate::support::service().command(&["serve", "--budget", "64MiB", "--listen", "127.0.0.1:0"], "");
    assert_eq!(refused.status.code(), Some(2));
    let said = String::from_utf8_lossy(&refused.stderr);
    assert!(
        said.contains("8 times the largest body") && said.contains("raise --budget"),
        "{said}"
    );
}
