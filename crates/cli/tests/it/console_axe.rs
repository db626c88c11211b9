//! Every page, what opens on it, and where it fails or is empty, by the rules of axe (WCAG 2.2 AA).

use outcrop_testkit::{Browser, PASSWORD};

use crate::console::with_failures;

/// What opens on a page, by what it is opened, and what is seen then.
const OPENED: [(&str, &str, &str); 3] = [
    ("/errors", "[aria-label^='Service:']", "gangway"),
    ("/errors", "[aria-label^='Signed in as']", "Sign out"),
    ("/traffic?view=requests", "ol button[aria-expanded]", "GET"),
];

#[tokio::test(flavor = "multi_thread")]
async fn axe_finds_no_violation_on_any_page_light_dark_and_on_a_phone() {
    let running = with_failures().await;
    let reference = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let trace = running.client_json(&["requests"])["items"][0]["trace_id"]
        .as_str()
        .unwrap()
        .to_owned();
    for (width, height, scheme) in [
        (1280, 800, "light"),
        (1280, 800, "dark"),
        (390, 844, "light"),
        (390, 844, "dark"),
    ] {
        let browser = Browser::start(width, height, scheme).await;
        browser.open(&format!("{}/sign-in", running.url)).await;
        browser.find("input[type=email]").await;
        let mut found = browser.violations().await;
        browser.sign_in(&running.email, PASSWORD).await;
        browser.sees("errors in the last 24 h").await;
        for (page, shows) in [
            ("/errors".to_owned(), "errors in the last 24 h"),
            (format!("/errors/{reference}"), "Occurrence"),
            (format!("/errors/{reference}/occurrences"), "occurrence"),
            ("/traffic?view=logs&severity=warn".to_owned(), "line"),
            ("/connect".to_owned(), "Reporting"),
            ("/account".to_owned(), "Set a new password"),
            ("/grouping".to_owned(), "What was changed"),
            ("/services".to_owned(), "Folder the code runs in"),
            ("/people".to_owned(), "Members"),
            ("/join".to_owned(), "The link leads nowhere"),
            ("/senders".to_owned(), "Discarded before it is counted"),
            ("/deploys".to_owned(), "deploy"),
            ("/traffic".to_owned(), "of the requests to"),
            ("/traffic?view=requests".to_owned(), "Kept are failed and slow requests"),
            ("/traffic?view=logs".to_owned(), "line"),
            ("/traffic?view=logs&all=true".to_owned(), "line"),
            ("/traffic?view=calls".to_owned(), "call"),
            ("/traffic?view=statements".to_owned(), "statement"),
            ("/traffic?view=instances".to_owned(), "instance"),
            ("/traffic?view=passing".to_owned(), "requests a minute"),
            ("/traffic?view=metrics".to_owned(), "No metric came in"),
            ("/sheets".to_owned(), "No sheet is saved yet."),
            ("/ask".to_owned(), "Questions to start from"),
            (
                "/ask?question=count%2C+users+of+occurrences+by+service+each+1h+against+before".to_owned(),
                "All together",
            ),
            ("/ask?question=count+of+nothing".to_owned(), "is not expected here"),
            ("/now".to_owned(), "last 15 minutes"),
            (format!("/traces/{trace}"), "next and previous failure"),
            // Where nothing is, and where what is asked for cannot be answered.
            ("/errors?environment=nowhere".to_owned(), "Nothing came in"),
            ("/errors?where=berth+%3D".to_owned(), "could not be read"),
            ("/errors/kobal-tirun".to_owned(), "could not be read"),
            ("/traffic?environment=nowhere".to_owned(), "No request came"),
            ("/errors?q=kirkwall".to_owned(), "has the words"),
        ] {
            browser.open(&format!("{}{page}", running.url)).await;
            browser.sees(shows).await;
            found.extend(
                browser
                    .violations()
                    .await
                    .into_iter()
                    .map(|violation| format!("{page}: {violation}")),
            );
            assert!(browser.overflow().await <= 0, "{page} at {width}");
        }
        let high = browser
            .driver
            .execute("return document.querySelector('header').offsetHeight", vec![])
            .await
            .unwrap();
        assert!(
            high.json().as_u64() <= Some(96),
            "the header has two rows at most: {:?}",
            high.json()
        );
        for (page, opener, shows) in OPENED {
            // On a phone the whole scope lies behind one button.
            let opener = if width < 768 {
                opener.replace("Service:", "Scope:")
            } else {
                opener.to_owned()
            };
            browser.open(&format!("{}{page}", running.url)).await;
            browser.find(&opener).await.click().await.unwrap();
            browser.sees(shows).await;
            let violations = browser.violations().await;
            found.extend(
                violations
                    .into_iter()
                    .map(|violation| format!("{page} {opener}: {violation}")),
            );
        }
        browser.press("\u{e00c}").await;
        browser.press("?").await;
        browser.find("[role=dialog]").await;
        found.extend(browser.violations().await);
        assert_eq!(found, Vec::<String>::new(), "{scheme} at {width}");
    }
}
