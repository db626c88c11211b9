//! *Now* is home: what needs somebody, every service, and a wall to hang it on.

use std::time::{Duration, Instant};

use outcrop_testkit::Browser;

use crate::console::{signed_in, with_failures};
use crate::console_ground::address;

const ESCAPE: &str = "\u{e00c}";

/// Waits until the address holds a text, or does not.
async fn address_holds(browser: &Browser, text: &str, expected: bool) {
    let until = Instant::now() + Duration::from_secs(10);
    while address(browser).await.contains(text) != expected {
        assert!(Instant::now() < until, "{text}: {}", address(browser).await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn home_lists_every_service_with_numbers_that_open_what_they_count_and_fills_a_wall() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/", running.url)).await;
    address_holds(&browser, "/now", true).await;
    browser.find("table[aria-label=Services]").await;
    let (_, now) = running.get("/api/v1/now").await;
    let services = now["fleet"].as_array().unwrap();
    assert!(!services.is_empty());
    let shown = browser.text().await;
    for item in services {
        assert!(shown.contains(item["service"].as_str().unwrap()), "{item} in {shown}");
    }

    browser.press("w").await;
    address_holds(&browser, "view=wall", true).await;
    browser.sees("Leave the wall").await;
    assert!(!browser.text().await.contains("Traffic"), "the bar is gone");
    browser.press(ESCAPE).await;
    address_holds(&browser, "view=wall", false).await;
    browser.find("nav[aria-label=Pages]").await;

    let failing = services.iter().find(|item| item["failed"].as_i64() > Some(0));
    let service = failing.expect("a service fails")["service"].as_str().unwrap();
    let failed = format!("table[aria-label=Services] a[href*='only=failed'][href*='service={service}']");
    browser.find(&failed).await.click().await.unwrap();
    address_holds(&browser, "only=failed", true).await;
    address_holds(&browser, &format!("service={service}"), true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_can_be_taken_in_the_first_screen_at_a_desk_and_on_a_phone() {
    let running = with_failures().await;
    let errors = running.errors().await;
    let reference = errors[0]["ref"].as_str().unwrap();
    for (width, height) in [(1280, 800), (390, 844)] {
        let browser = signed_in(&running, width, height, "light").await;
        browser.open(&format!("{}/errors/{reference}", running.url)).await;
        browser.sees("Why it occurs").await;
        let place = browser.named("button", "Take it").await.rect().await.unwrap();
        assert!(place.y + place.height <= f64::from(height), "{width} px: {place:?}");
    }
}
