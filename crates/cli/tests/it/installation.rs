//! What an installation says of itself, to its admins and to whoever watches it; and that its data outlives it.

use std::process::Command;

use outcrop_testkit::{Postgres, Service, recorded, restamped};

use crate::console::signed_in;
use crate::support::{eventually, service};

const KEY: &str = "of-the-harbour-office";

#[tokio::test(flavor = "multi_thread")]
async fn an_admin_sees_what_is_wrong_and_a_monitoring_system_what_was_counted() {
    let running = service().with_variable("OUTCROP_METRICS_KEY", KEY).start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let output = running.client(&["doctor"]);
    let said = String::from_utf8(output.stdout).unwrap();
    // The database of the tests forgets what it was told when the machine fails.
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("wrong") && said.contains("fsync is off"), "{said}");

    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/installation", running.url)).await;
    browser.sees("fsync is off").await;
    browser.sees("To do: set fsync = on").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert_eq!(browser.overflow().await, 0);

    let scrape = reqwest::Client::new()
        .get(format!("{}/metrics", running.url))
        .bearer_auth(KEY);
    let answer = scrape.send().await.unwrap();
    let kind = answer.headers()["content-type"].to_str().unwrap().to_owned();
    assert!(kind.starts_with("application/openmetrics-text"), "{kind}");
    let text = answer.text().await.unwrap();
    assert!(
        text.contains("answer=\"taken\"} 1") && text.contains("outcrop_job_since_done_seconds{name=\"flags\"}"),
        "{text}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dump_is_restored_as_the_same_installation() {
    let original = service();
    let running = original.start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    eventually("the error is listed", std::time::Duration::from_secs(20), || {
        running.client_json(&["errors"])["items"]
            .as_array()
            .is_some_and(|items| !items.is_empty())
    })
    .await;
    let outline = |running: &outcrop_testkit::Running| {
        let list = running.client_json(&["errors"]);
        let items = list["items"].as_array().unwrap().iter();
        items
            .map(|item| (item["ref"].to_string(), item["count"].to_string()))
            .collect::<Vec<_>>()
    };
    let before = outline(&running);
    let folder = tempfile::tempdir().unwrap();
    let dump = folder.path().join("outcrop.dump");
    let restored = Postgres::shared().database();
    let dumped = Command::new("pg_dump")
        .args(["--format=custom", "--exclude-table-data=hot_*", "--file"])
        .arg(&dump)
        .arg(original.database())
        .output()
        .unwrap();
    assert!(dumped.status.success(), "{dumped:?}");
    let output = Command::new("pg_restore")
        .args(["--no-owner", "--dbname", &restored])
        .arg(&dump)
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    let again = Service::new(env!("CARGO_BIN_EXE_outcrop"), restored).start().await;
    assert_eq!(outline(&again), before);
    // What was kept of people and keys works on.
    let same = Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(["errors", "--url", &again.url, "--token", &running.token])
        .output()
        .unwrap();
    assert!(same.status.success(), "{same:?}");
}
