//! Questions in the console: started from a ready one, changed by clicks, narrowed, followed, and sent as an address.

use crate::console::{fail, signed_in, with_failures};

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_built_by_clicks_narrowed_by_a_value_and_opens_what_it_counts() {
    let running = with_failures().await;
    let hostile = "<img src=x onerror=alert(1)> \"quoted\" ⚓";
    fail(&running, "ledger", "TideError", hostile, "").await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    let address = async || browser.driver.current_url().await.unwrap().to_string();
    browser.named("link", "Ask").await.click().await.unwrap();
    browser.sees("Questions to start from").await;
    let ready = "What fails most today, against yesterday?";
    browser.named("link", ready).await.click().await.unwrap();
    browser.sees("occurrences in").await;
    browser.sees("none before").await;

    // By clicks: a column more, one less, steps over time.
    browser.choose("Add a measure", "last").await;
    browser.sees("All together: count").await;
    browser.named("button", "Remove users").await.click().await.unwrap();
    browser.choose("Step over time", "each 1h").await;
    browser.find("figure[aria-label=count] svg path").await;
    browser.choose("Compared with", "against nothing").await;
    let asked = address().await;
    assert!(asked.contains("each") && !asked.contains("users"), "{asked}");
    assert_eq!(browser.violations().await, Vec::<String>::new());

    // A value narrows; going back undoes it; the number opens the records.
    browser.named("button", "TideError").await.click().await.unwrap();
    browser.sees("1 occurrence in 1 group").await;
    browser.driver.back().await.unwrap();
    browser.sees("occurrences in").await;
    browser.named("button", "ledger").await.click().await.unwrap();
    browser.sees("1 occurrence in 1 group").await;
    let count = browser.find("table[aria-label=Answer] tbody a").await;
    count.click().await.unwrap();
    browser.sees("TideError").await;
    assert!(address().await.contains("/errors?"), "{}", address().await);

    // As text: mistaken, then asked. The message is shown as it is; the address is all that somebody else needs.
    browser.named("link", "Ask").await.click().await.unwrap();
    browser.press("/").await;
    browser.press("count, latest message of occurences by service").await;
    browser.sees("did you mean `occurrences`?").await;
    let all = "\u{e009}a\u{e000}";
    browser.press(all).await;
    browser
        .press("count, latest message of occurrences by service where service = ledger\u{e007}")
        .await;
    browser.sees(hostile).await;
    let shared = address().await;
    browser.open("about:blank").await;
    browser.open(&shared).await;
    browser.sees(hostile).await;
    assert_eq!(browser.overflow().await, 0);

    // Saved under a name, changed as the next version, and found again by whoever comes.
    browser.named("button", "Save").await.click().await.unwrap();
    browser.find("[role=dialog] input").await.click().await.unwrap();
    browser.press("What ledger says\u{e007}").await;
    browser.sees("version 1 of").await;
    browser.choose("Step over time", "each 1h").await;
    browser.sees("Changed from").await;
    browser.named("button", "Save the change").await.click().await.unwrap();
    browser.sees("version 2 of").await;
    browser.open(&format!("{}/ask", running.url)).await;
    browser.named("link", "What ledger says").await.click().await.unwrap();
    browser.sees(hostile).await;
    let shown = running.client_json(&["question", "show", "What ledger says"]);
    assert_eq!(
        (&shown["version"], &shown["before"][0]["version"]),
        (&2.into(), &1.into())
    );
    browser
        .named("button", "Remove What ledger says")
        .await
        .click()
        .await
        .unwrap();
    browser.named("button", "Remove").await.click().await.unwrap();
    browser.sees("Save").await;
    let left = running.client_json(&["question", "list"]);
    assert_eq!(left["items"], serde_json::json!([]));
}
