//! Logs of services that send no telemetry: read, followed, sent.

use std::fs;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use outcrop_testkit::Running;

use crate::support::service;

fn event(n: i64, function: &str) -> String {
    let time = written(n);
    format!(
        "{time} INFO serving {n}\n{time} ERROR job {n} failed\nTraceback (most recent call last):\n  File \
         \"/srv/ledger/{function}.py\", line 3, in {function}\n    x\nKeyError: '{n}'\n{time} INFO serving on\n"
    )
}

/// A time of the last hour, as a logger writes it.
fn written(second: i64) -> String {
    (chrono::Utc::now() - chrono::TimeDelta::seconds(3_600 - second))
        .format("%Y-%m-%d %H:%M:%S,%3f")
        .to_string()
}

fn append(path: &Path, text: &str) {
    OpenOptions::new()
        .create(true)
        .append(true)
        .open(path)
        .unwrap()
        .write_all(text.as_bytes())
        .unwrap();
}

fn collect(running: &Running, folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_outcrop"));
    command
        .arg("collect")
        .args(arguments)
        .arg("--state")
        .arg(folder.join("state.json"));
    command
        .env("OUTCROP_URL", &running.url)
        .env("OUTCROP_KEY", &running.key);
    command
}

async fn count(running: &Running, service: &str) -> u64 {
    let items = running.errors().await;
    items
        .iter()
        .filter(|item| item["service"] == service)
        .map(|item| item["count"].as_u64().unwrap())
        .sum()
}

async fn becomes(running: &Running, service: &str, expected: u64) {
    let until = Instant::now() + Duration::from_secs(20);
    while count(running, service).await != expected {
        assert!(
            Instant::now() < until,
            "{} of {expected}: {:#?}",
            count(running, service).await,
            running.errors().await
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

struct Following(Child);

impl Following {
    fn stop(mut self) {
        assert!(
            Command::new("kill")
                .args(["-INT", &self.0.id().to_string()])
                .status()
                .unwrap()
                .success()
        );
        assert!(self.0.wait().unwrap().success());
    }
}

impl Drop for Following {
    fn drop(&mut self) {
        // Ended already, where the story went well.
        drop(self.0.kill());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_is_read_once_and_on_from_where_it_was_left() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("ledger.log");
    append(&log, &[event(1, "settle"), event(2, "settle")].concat());
    let done = collect(
        &running,
        folder.path(),
        &[
            log.to_str().unwrap(),
            "--environment",
            "production",
            "--in-version",
            "7.3.0",
        ],
    )
    .output()
    .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&done.stdout),
        "14 lines read, 2 exceptions found, 2 log records sent\n"
    );
    let error = running.errors().await[0].clone();
    assert_eq!(
        (
            error["service"].as_str(),
            error["count"].as_u64(),
            error["versions"][0].as_str()
        ),
        (Some("ledger"), Some(2), Some("7.3.0"))
    );
    assert_eq!(
        (error["own_frame"].as_str(), error["title"].as_str()),
        (Some("settle.settle ledger/settle.py:3"), Some("KeyError: {text}"))
    );

    append(&log, &event(3, "settle"));
    let again = collect(&running, folder.path(), &[log.to_str().unwrap()])
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&again.stdout),
        "7 lines read, 1 exception found, 1 log record sent\n"
    );
    assert_eq!(count(&running, "ledger").await, 3);

    let refused = collect(&running, folder.path(), &[log.to_str().unwrap()])
        .env("OUTCROP_KEY", "outcrop-key-of-nobody")
        .output()
        .unwrap();
    assert!(refused.status.success(), "nothing new, nothing to send");
    append(&log, &event(4, "settle"));
    let refused = collect(&running, folder.path(), &[log.to_str().unwrap()])
        .env("OUTCROP_KEY", "outcrop-key-of-nobody")
        .output()
        .unwrap();
    assert_eq!(
        refused.status.code(),
        Some(4),
        "{}",
        String::from_utf8_lossy(&refused.stderr)
    );
    // What was refused was not passed over.
    assert!(
        collect(&running, folder.path(), &[log.to_str().unwrap()])
            .output()
            .unwrap()
            .status
            .success()
    );
    assert_eq!(count(&running, "ledger").await, 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_followed_log_is_read_over_rotation_restart_and_an_outage() {
    let mut running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("app.log");
    append(&log, &event(1, "settle"));
    let follow = |running: &Running| {
        let arguments = [log.to_str().unwrap(), "--service", "ledger", "--follow"];
        Following(
            collect(running, folder.path(), &arguments)
                .stdout(Stdio::null())
                .spawn()
                .unwrap(),
        )
    };
    let following = follow(&running);
    becomes(&running, "ledger", 1).await;
    // Half a trace, then the rest: one exception.
    let whole = event(2, "settle");
    let (begun, rest) = whole.split_at(whole.find("    x\n").unwrap());
    append(&log, begun);
    tokio::time::sleep(Duration::from_millis(700)).await;
    append(&log, rest);
    becomes(&running, "ledger", 2).await;
    // Renamed and begun anew, with a last event in the old one.
    append(&log, &event(3, "settle"));
    fs::rename(&log, folder.path().join("app.log.1")).unwrap();
    append(&log, &event(4, "settle"));
    becomes(&running, "ledger", 4).await;
    // Emptied in place.
    fs::write(&log, event(5, "settle")).unwrap();
    becomes(&running, "ledger", 5).await;
    // The service goes away and comes back: what was written meanwhile is sent then.
    running.kill_and_restart().await;
    append(&log, &event(6, "settle"));
    becomes(&running, "ledger", 6).await;
    following.stop();
    // Rotated while nobody followed.
    append(&log, &event(7, "settle"));
    fs::rename(&log, folder.path().join("app.log.2")).unwrap();
    append(&log, &event(8, "settle"));
    let following = follow(&running);
    becomes(&running, "ledger", 8).await;
    following.stop();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_and_other_lines_are_read_from_standard_input() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let trace = "Exception in thread \"a\" java.lang.IllegalStateException: berth taken\n\tat \
        example.skerry.Berths.take(Berths.java:12)";
    let micros = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_micros();
    let mut journal =
        format!("__CURSOR=s=1\n__REALTIME_TIMESTAMP={micros}\nSYSLOG_IDENTIFIER=berths\n_PID=7\nMESSAGE\n")
            .into_bytes();
    journal.extend((trace.len() as u64).to_le_bytes());
    journal.extend(trace.as_bytes());
    journal.extend(
        format!(
            "\n\n__CURSOR=s=2\n__REALTIME_TIMESTAMP={micros}\nMESSAGE=serving\nSYSLOG_IDENTIFIER=berths\n_PID=7\n\n"
        )
        .into_bytes(),
    );
    let feed = |arguments: &[&str], input: &[u8]| {
        let mut child = collect(&running, folder.path(), arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input).unwrap();
        String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap()
    };
    assert_eq!(
        feed(&["-"], &journal),
        "14 lines read, 1 exception found, 1 log record sent\n"
    );
    let error = running.errors().await[0].clone();
    assert_eq!(
        (error["service"].as_str(), error["type"].as_str()),
        (Some("berths"), Some("java.lang.IllegalStateException"))
    );

    let found: serde_json::Value = serde_json::from_str(&feed(&["-", "--dry-run", "--json"], &journal)).unwrap();
    assert_eq!(
        (
            found["exceptions"][0]["type"].as_str(),
            found["exceptions"][0]["process"].as_str()
        ),
        (Some("java.lang.IllegalStateException"), Some("berths[7]"))
    );
    let shown = feed(&["-", "--dry-run"], event(1, "settle").as_bytes());
    assert!(
        shown.starts_with("1 exception in 7 lines; nothing was sent.")
            && shown.contains("2-6")
            && shown.contains("KeyError"),
        "{shown}"
    );
    // With what led up to it: the lines before the failure are sent too.
    assert!(
        feed(
            &["-", "--lines", "around", "--service", "quay"],
            event(2, "settle").as_bytes()
        )
        .ends_with("2 log records sent\n")
    );
}
