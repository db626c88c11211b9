//! Lists in the console: ordered, narrowed by what is counted of them, saved as views, and opened as occurrences.

use crate::console::{fail, signed_in, with_failures};
use crate::console_ground::address;

#[tokio::test(flavor = "multi_thread")]
async fn a_list_is_ordered_saved_as_a_view_and_its_counts_open_a_table_of_occurrences() {
    let running = with_failures().await;
    let hostile = "<img src=x onerror=alert(1)> \"quoted\" ⚓";
    for _ in 0..3 {
        fail(&running, "ledger", "TideError", hostile, "").await;
    }
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.sees("What matters most first").await;
    browser
        .named("button", "Order by occurrences")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("By occurrences, the most first").await;
    browser
        .named("button", "Order by occurrences")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("By occurrences, the least first").await;
    assert!(
        address(&browser).await.contains("order=count"),
        "{}",
        address(&browser).await
    );

    browser.named("button", "save this view").await.click().await.unwrap();
    browser.press("least first\u{e007}").await;
    browser.sees("least first").await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.named("link", "least first").await.click().await.unwrap();
    browser.sees("By occurrences, the least first").await;
    browser.named("button", "remove").await.click().await.unwrap();
    browser.sees("It goes for everybody.").await;
    browser.named("button", "Remove").await.click().await.unwrap();
    let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while running.get("/api/v1/views").await.1["items"] != serde_json::json!([]) {
        assert!(std::time::Instant::now() < until, "the view stays");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }

    // The count of an error opens its occurrences; any attribute is a column, and each value narrows.
    let errors = running.errors().await;
    let tide = errors.iter().find(|error| error["type"] == "TideError").unwrap();
    let reference = tide["ref"].as_str().unwrap();
    browser.open(&format!("{}/errors/{reference}", running.url)).await;
    browser.named("link", "3 occurrences").await.click().await.unwrap();
    browser.sees("3 occurrences in the last 24 h").await;
    browser.find("input[list=attributes]").await.click().await.unwrap();
    browser.press("type\u{e007}").await;
    browser.named("button", "TideError").await.click().await.unwrap();
    browser.sees("where type = \"TideError\"").await;
    browser.sees(hostile).await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert_eq!(browser.overflow().await, 0);
    browser
        .named("button", "Take away the column type")
        .await
        .click()
        .await
        .unwrap();
    browser
        .find("table[aria-label=Occurrences] tbody a")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("Occurrence 3 of 3").await;
}
