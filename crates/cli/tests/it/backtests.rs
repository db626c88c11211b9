//! A recorded stream and the running service say the same.

use std::fmt::Write as _;

use serde_json::{Value, json};

use crate::deploys::{minute, send};
use crate::support::service;

#[tokio::test(flavor = "multi_thread")]
async fn a_backtest_needs_no_server_and_says_where_a_stream_is_wrong() {
    let nowhere = service();
    let line = |kind: &str, minute: u32, more: &str| {
        format!(
            r#"{{"kind":"{kind}","minute":"2026-11-02T{:02}:{:02}:00Z","service":"fares","environment":"production","version":"2.4.0",{more}}}"#,
            minute / 60,
            minute % 60
        )
    };
    let mut stream: Vec<String> = (0..60)
        .map(|minute| line("requests", minute, r#""count":100"#))
        .collect();
    stream.push(line("errors", 59, r#""group":"g1","count":2"#));
    let flags = nowhere.succeed(&["backtest", "-"], &stream.join("\n"));
    assert_eq!(
        flags,
        r#"{"flag":"new","service":"fares","environment":"production","group":"g1","version":"2.4.0","at":"2026-11-02T00:59:00Z"}"#
    );
    stream.push(line("errors", 3, r#""group":"g1","count":2"#));
    let output = nowhere.command_with(&["backtest", "-"], &stream.join("\n"), &[]);
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("-, line 62: it is earlier than the line before"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_running_service_and_the_backtest_say_the_same_of_the_same_data() {
    let mut running = service().start().await;
    // Thirty hours: a steady error that 2.4.0 makes surge, a new one that comes with it, one that
    // rises without a deploy.
    let of_minute = |ago: u64| {
        let version = if ago > 90 { "2.3.9" } else { "2.4.0" };
        let timeouts = if (40..=90).contains(&ago) {
            4 + ago % 3
        } else {
            u64::from(ago.is_multiple_of(3))
        };
        let missing = u64::from(ago <= 85 && ago.is_multiple_of(5));
        let refused = if (130..=160).contains(&ago) {
            5 + ago % 2
        } else {
            u64::from(ago % 4 == 1)
        };
        (
            version,
            [("Timeout", timeouts), ("DivisionByZero", missing), ("Refused", refused)],
        )
    };
    let minutes: Vec<u64> = (5..1_800).rev().collect();
    // All of it is told within one minute of the clock.
    let second = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs()
        % 60;
    if second > 20 {
        tokio::time::sleep(std::time::Duration::from_secs(61 - second)).await;
    }
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs()
        / 60;
    let bodies: Vec<Value> = minutes
        .iter()
        .map(|ago| {
            let (version, failing) = of_minute(*ago);
            minute(*ago, version, 10, &failing)
        })
        .collect();
    send(&running, bodies).await;

    let at = |ago: u64| chrono_text((now - ago) * 60_000);
    let mut stream = String::new();
    for ago in &minutes {
        let (version, failing) = of_minute(*ago);
        let place = json!({"service": "fares", "environment": "production", "version": version});
        let mut tell = |kind: &str, key: &str, more: Value| {
            let mut line = place.clone();
            (line["kind"], line[key]) = (kind.into(), at(*ago).into());
            line.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            writeln!(stream, "{line}").unwrap();
        };
        if *ago == 90 {
            tell("deploy", "at", json!({}));
        }
        tell("requests", "minute", json!({"count": 10}));
        for (group, count) in failing.iter().filter(|(_, count)| *count > 0) {
            tell("errors", "minute", json!({"group": group, "count": count}));
        }
    }
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), stream).unwrap();
    let told = running.client(&["backtest", file.path().to_str().unwrap()]);
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    let mut expected: Vec<String> = String::from_utf8(told.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .map(|flag| {
            format!(
                "{} {} {} {}",
                flag["flag"].as_str().unwrap(),
                flag["group"].as_str().unwrap(),
                flag["version"].as_str().unwrap_or_default(),
                outcrop_core::text::prefix(flag["at"].as_str().unwrap(), 16)
            )
        })
        .collect();
    expected.sort();

    // What was said while the data was still coming in is not of the same data: it is said anew, from the whole.
    running.service().execute("DELETE FROM flag").await;
    running.kill_and_restart().await;
    let sql = "SELECT string_agg(f.kind || ' ' || e.type || ' ' || f.version || ' ' || to_char(f.said_at AT TIME ZONE \
        'UTC', 'YYYY-MM-DD\"T\"HH24:MI'), ',') AS flags \
               FROM flag f JOIN error_group e ON e.id = f.error_id";
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    loop {
        let mut said: Vec<String> = running.service().row(sql).await[0]
            .as_deref()
            .unwrap_or_default()
            .split(',')
            .map(str::to_owned)
            .collect();
        said.sort();
        if said == expected {
            break;
        }
        assert!(
            std::time::Instant::now() < until,
            "live: {said:#?}\nbacktest: {expected:#?}"
        );
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    let has = |start: &str| expected.iter().any(|flag| flag.starts_with(start));
    assert!(
        has("new DivisionByZero 2.4.0") && has("surging Timeout 2.4.0") && has("surging Refused"),
        "{expected:#?}"
    );
}

/// A time in milliseconds since 1970 as RFC 3339.
pub fn chrono_text(millis: u64) -> String {
    let at = std::time::UNIX_EPOCH + std::time::Duration::from_millis(millis);
    humantime::format_rfc3339_millis(at).to_string()
}
