//! Crashes and outages: what was sent is counted, once.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use outcrop_testkit::{Body, Durability, Postgres, Service};
use serde_json::json;

pub fn report(sender: u64, number: u64) -> Body {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
        .to_string();
    let records: Vec<_> = (0..5)
        .map(|at| {
            json!({"timeUnixNano": now, "severityNumber": 17, "traceId": format!("{:032x}",
                (sender << 40) + number * 8 + at + 1), "spanId": "00000000000000aa", "attributes": [
                {"key": "exception.type", "value": {"stringValue": "BerthTaken"}}, {"key": "exception.message",
                    "value": {"stringValue": format!("berth {number} is taken")}},
            ]})
        })
        .collect();
    let body = json!({"resourceLogs": [{"resource": {"attributes": [{"key": "service.name",
        "value": {"stringValue": "berths"}}]}, "scopeLogs": [{"logRecords": records}]}]});
    Body {
        name: format!("{sender}/{number}"),
        path: "/v1/logs",
        content_type: "application/json",
        bytes: body.to_string().into_bytes(),
    }
}

/// Sends as an SDK does: the same bytes again until they are acknowledged. `url` is asked for each try.
pub async fn until_acknowledged(http: &reqwest::Client, body: &Body, key: &str, url: impl Fn(usize) -> String) {
    for turn in 0.. {
        let sent = http
            .post(format!("{}{}", url(turn), body.path))
            .bearer_auth(key)
            .header("content-type", body.content_type)
            .body(body.bytes.clone())
            .timeout(Duration::from_secs(5))
            .send()
            .await;
        if sent.is_ok_and(|answer| answer.status() == 200) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

pub async fn counted(running: &outcrop_testkit::Running) -> u64 {
    running
        .errors()
        .await
        .iter()
        .filter_map(|error| error["count"].as_u64())
        .sum()
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_in_the_middle_of_load_with_retrying_senders_sent_is_counted() {
    let mut running = crate::support::service().start().await;
    let (url, key) = (running.url.clone(), running.key.clone());
    let stop = Arc::new(AtomicBool::new(false));
    let acknowledged = Arc::new(AtomicU64::new(0));
    let senders: Vec<_> = (0..8_u64)
        .map(|sender| {
            let (url, key, stop, acknowledged) = (url.clone(), key.clone(), stop.clone(), acknowledged.clone());
            tokio::spawn(async move {
                let http = reqwest::Client::new();
                let mut number = 0;
                while !stop.load(Ordering::Relaxed) {
                    number += 1;
                    until_acknowledged(&http, &report(sender, number), &key, |_| url.clone()).await;
                    acknowledged.fetch_add(5, Ordering::Relaxed);
                }
            })
        })
        .collect();
    for _ in 0..3 {
        let before = acknowledged.load(Ordering::Relaxed);
        while acknowledged.load(Ordering::Relaxed) < before + 300 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        running.kill_and_restart().await;
    }
    stop.store(true, Ordering::Relaxed);
    futures_util::future::join_all(senders).await;
    let sent = acknowledged.load(Ordering::Relaxed);
    assert!(sent > 900);
    assert_eq!(counted(&running).await, sent);
    // A graceful stop finishes what is under way: nothing is lost after it either.
    let body = report(99, 1);
    assert_eq!(running.send(&body).await.status(), 200);
    let service = running.service().clone();
    running.stop();
    assert_eq!(counted(&service.start().await).await, sent + 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn while_the_database_is_stopped_senders_are_asked_to_come_back_and_nothing_is_lost_or_doubled() {
    let mut postgres = Postgres::start(Durability::Volatile);
    let service = Service::new(env!("CARGO_BIN_EXE_outcrop"), postgres.database());
    let running = service.start().await;
    let bodies: Vec<Body> = (1..=20).map(|number| report(1, number)).collect();
    for body in &bodies[..10] {
        assert_eq!(running.send(body).await.status(), 200);
    }
    postgres.stop();
    for body in &bodies[5..15] {
        let answer = running.send(body).await;
        assert_eq!(answer.status(), 503, "{:?}", answer.text().await);
        assert_eq!(answer.headers()["retry-after"], "2");
        assert_eq!(answer.headers()["content-type"], "application/json");
    }
    assert_eq!(
        reqwest::get(format!("{}/readyz", running.url)).await.unwrap().status(),
        503
    );
    assert_eq!(
        reqwest::get(format!("{}/healthz", running.url)).await.unwrap().status(),
        200
    );
    let refused = running.client(&["errors"]);
    assert_eq!(
        refused.status.code(),
        Some(4),
        "{}",
        String::from_utf8_lossy(&refused.stderr)
    );
    postgres.resume();
    running.wait_until_ready().await;
    for body in &bodies {
        let mut status = running.send(body).await.status();
        for _ in 0..50 {
            if status == 200 {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
            status = running.send(body).await.status();
        }
        assert_eq!(status, 200);
    }
    assert_eq!(counted(&running).await, 100);
    running.stop();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_that_the_database_refuses_never_fails_its_neighbours() {
    let service = crate::support::service();
    let running = service.start().await;
    // Whatever the database may have against a row one day.
    service
        .execute("ALTER TABLE occurrence ADD CONSTRAINT no_berth_13 CHECK (message <> 'berth 13 is taken')")
        .await;
    let numbers: Vec<u64> = (1..=40).collect();
    let answers = futures_util::future::join_all(
        numbers
            .iter()
            .map(|number| async { running.send(&report(1, *number)).await.status().as_u16() }),
    )
    .await;
    let refused: Vec<u64> = numbers
        .iter()
        .zip(&answers)
        .filter(|(_, status)| **status != 200)
        .map(|(number, _)| *number)
        .collect();
    assert_eq!((refused, answers[12]), (vec![13], 400));
    assert_eq!(counted(&running).await, 39 * 5);
    assert_eq!(
        running.send(&report(1, 13)).await.status(),
        400,
        "its receipt was not kept either"
    );
}
