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

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_put_on_a_sheet_which_is_arranged_undone_shown_on_a_wall_and_sent_as_a_file() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    let click = async |kind: &str, name: &str| browser.named(kind, name).await.click().await.unwrap();

    // A sheet of one's own, and a question put on it.
    browser.open(&format!("{}/sheets", running.url)).await;
    browser.sees("No sheet is saved yet.").await;
    click("button", "New sheet").await;
    browser.find("[role=dialog] input").await.click().await.unwrap();
    browser.press("Night watch\u{e007}").await;
    browser.sees("Nothing stands on this sheet yet").await;
    let ask = "count%20of%20occurrences%20by%20service%20each%201h";
    browser.open(&format!("{}/ask?question={ask}", running.url)).await;
    click("button", "Put on a sheet").await;
    browser.choose("Sheet", "Night watch").await;
    click("button", "Put it there").await;
    click("link", "Night watch").await;
    browser.find("figure[aria-label=count] svg path").await;

    // Arranged: text added, moved to the front, undone and done again, saved.
    click("button", "Arrange").await;
    click("button", "Add a part").await;
    browser.choose("It is", "text").await;
    browser.find("[role=dialog] textarea").await.click().await.unwrap();
    browser
        .press("Call the **harbour office** first. <script>alert(1)</script>")
        .await;
    click("button", "Put it on the sheet").await;
    browser.sees("Not saved yet.").await;
    browser.choose("Width of part 2", "the whole width").await;
    click("button", "Undo").await;
    browser.choose("Width of part 2", "a third").await;
    click("button", "Save").await;
    browser.sees("2 parts, by").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    let shown = running.client_json(&["sheet", "show", "Night watch"]);
    assert_eq!(
        (&shown["parts"][1]["width"], &shown["parts"][0]["question"]),
        (&"third".into(), &"count of occurrences by service each 1h".into())
    );

    // On a wall nothing but the sheet is there; what a service has by itself is answered too.
    browser.sees("harbour office").await;
    browser.press("w").await;
    browser.sees("Leave the wall").await;
    assert!(!browser.text().await.contains("Traffic"), "the bar is gone");
    browser.press("\u{e00c}").await;
    browser.open(&format!("{}/sheet-of/fares", running.url)).await;
    browser.sees("made by itself").await;
    browser.sees("decimal.DivisionByZero").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());

    // As a file it becomes another sheet; somebody else sees it.
    let file = std::env::temp_dir().join(format!("sheet-{}.json", std::process::id()));
    std::fs::write(&file, shown.to_string()).unwrap();
    let path = file.to_str().unwrap();
    let copied = running.client_json(&["sheet", "save", "Copy", path]);
    assert_eq!(copied, shown);
    std::fs::remove_file(&file).unwrap();
    let list = running.client_json(&["sheet", "list"]);
    assert_eq!(list["items"].as_array().unwrap().len(), 2);
}
