//! Close-ups: begun on an error's page, counted once by two instances, told to who asked.

use std::time::Duration;

use outcrop_testkit::Running;
use serde_json::json;

use crate::console::signed_in;
use crate::decide::{from, now, requests, send};
use crate::support::{eventually, service};

/// Sends failures of fares that happen now, as spans of as many requests.
async fn fail(running: &Running, count: u64, second: u64) {
    let failing = vec![30; usize::try_from(count).unwrap()];
    send(running, vec![from(second, "2.4.0", &requests(count, 40, &failing))]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_close_up_is_begun_on_the_page_taken_once_by_two_instances_and_told() {
    let service = service();
    let one = service.start_with(&["--bodies-per-minute", "1"]).await;
    let two = service.start_with(&["--bodies-per-minute", "1"]).await;
    fail(&one, 2, now() - 120).await;
    let error = one.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let browser = signed_in(&one, 1280, 800, "light").await;
    browser.open(&format!("{}/errors/{error}", one.url)).await;
    browser.choose("How many", "10 occurrences").await;
    browser.named("checkbox", "tell me").await.click().await.unwrap();
    browser.named("button", "Begin").await.click().await.unwrap();
    browser.sees("0 of 10 kept; 10 left, until ").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    // Both instances know of it by now.
    tokio::time::sleep(Duration::from_secs(5)).await;
    for second in 0..3 {
        fail(&one, 3, now() - 2 + second).await;
        fail(&two, 3, now() - 7 + second).await;
    }
    browser.sees("10 of 10 kept").await;
    let shown = two.client_json(&["close-up", "show", "1"]);
    assert_eq!((&shown["state"], &shown["taken"]), (&json!("complete"), &json!(10)));
    let kept = shown["occurrences"].as_array().unwrap();
    assert_eq!(kept.len(), 10);
    for occurrence in kept {
        let path = format!("/api/v1/occurrences/{}", occurrence["id"].as_str().unwrap());
        let (_, full) = one.get(&path).await;
        assert!(full["sent"].is_object(), "kept in full: {full}");
    }
    let list = String::from_utf8(one.client(&["close-up", "list"]).stdout).unwrap();
    assert!(
        list.starts_with("0 close-ups under way") && list.contains("10 of 10 kept"),
        "{list}"
    );
    eventually("a notice", Duration::from_secs(20), || {
        let notices = one.client_json(&["notice", "sent"]);
        let items = notices["items"].as_array().cloned().unwrap_or_default();
        items.iter().any(|item| item["reason"] == "close-up")
    })
    .await;
    let begun = one.client_json(&[
        "close-up",
        "begin",
        "--where",
        "service = fares",
        "--count",
        "1",
        "--for",
        "1h",
    ]);
    assert_eq!(begun["state"], "open");
    let ended = one.client(&["close-up", "end", &begun["id"].to_string()]);
    assert!(ended.status.success(), "{ended:?}");
    browser.open(&format!("{}/close-ups", one.url)).await;
    browser.sees("0 of 1 kept; ended by ").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert_eq!(browser.overflow().await, 0);
}
