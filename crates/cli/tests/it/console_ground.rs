//! The console loses nothing: what is read stays when it cannot be read again, the scope stays on every link, keys are
//! left to what is open above the page.

use std::time::{Duration, Instant};

use outcrop_testkit::proxy::{Mode, Proxy};
use outcrop_testkit::{Browser, PASSWORD, recorded, restamped};
use serde_json::{Value, json};

use crate::console::{fail, signed_in, with_failures};

pub async fn address(browser: &Browser) -> String {
    browser.driver.current_url().await.unwrap().to_string()
}

/// How long a page would take to go somewhere, and a dialog to be gone.
const MOMENT: Duration = Duration::from_millis(500);

/// Waits until the address holds a text.
async fn comes_to(browser: &Browser, text: &str) {
    let until = Instant::now() + Duration::from_secs(10);
    while !address(browser).await.contains(text) {
        assert!(
            Instant::now() < until,
            "{text} is not come to: {}",
            address(browser).await
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Sees that the address holds a text, also a moment later: going back takes one.
async fn stays_at(browser: &Browser, text: &str) {
    tokio::time::sleep(MOMENT).await;
    assert!(address(browser).await.contains(text), "{}", address(browser).await);
}

/// Switches single keys off, or on again, in the list of keys.
async fn switch_keys(browser: &Browser) {
    browser.press("?").await;
    let switch = browser.find("[role=dialog] input[type=checkbox]").await;
    switch.click().await.unwrap();
    browser.named("button", "Close").await.click().await.unwrap();
    tokio::time::sleep(MOMENT).await;
}

/// Has the browser answer no request to these addresses.
async fn block(browser: &Browser, addresses: Value) {
    let tools = browser.driver.cdp();
    tools.send_raw("Network.enable", json!({})).await.unwrap();
    tools
        .send_raw("Network.setBlockedURLs", json!({"urls": addresses}))
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_that_cannot_be_read_again_stays_with_the_time_it_is_of() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.sees("decimal.DivisionByZero").await;
    // The way to the list is cut for a while.
    block(&browser, json!(["*/api/v1/errors?*"])).await;
    browser.press("h").await;
    browser.press("h").await;
    browser.sees("Not refreshed since").await;
    assert!(
        browser.text().await.contains("decimal.DivisionByZero"),
        "what was read stays"
    );
    block(&browser, json!([])).await;
    browser.named("button", "Try now").await.click().await.unwrap();
    let until = Instant::now() + Duration::from_secs(20);
    while browser.text().await.contains("Not refreshed since") {
        assert!(Instant::now() < until, "it is read again");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(browser.text().await.contains("decimal.DivisionByZero"));
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_are_left_to_an_open_list_and_can_be_switched_off() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.named("link", "Now").await.click().await.unwrap();
    browser.named("link", "Errors").await.click().await.unwrap();
    browser.sees("decimal.DivisionByZero").await;
    browser.find("[aria-label^='Service:']").await.click().await.unwrap();
    browser.find("[role=listbox][id^=headlessui]").await;
    browser.press("b").await;
    browser.press("\u{e00c}").await; // Escape
    stays_at(&browser, "/errors").await;
    // Switched off, `b` does nothing; switched on again, it goes back.
    switch_keys(&browser).await;
    browser.press("b").await;
    stays_at(&browser, "/errors").await;
    switch_keys(&browser).await;
    browser.press("b").await;
    comes_to(&browser, "/now").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_scope_stays_on_links_and_numbers_are_words_too() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/errors?since=7d&q=404", running.url)).await;
    browser.sees("has the words “404”").await;
    browser
        .open(&format!("{}/now?since=7d&environment=production", running.url))
        .await;
    browser
        .find("[aria-label^='Signed in as']")
        .await
        .click()
        .await
        .unwrap();
    browser.named("link", "Grouping rules").await.click().await.unwrap();
    comes_to(&browser, "/grouping").await;
    let at = address(&browser).await;
    assert!(at.contains("since=7d") && at.contains("environment=production"), "{at}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_ended_leads_to_the_sign_in_and_back() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/errors?since=7d", running.url)).await;
    browser.sees("decimal.DivisionByZero").await;
    let ended = running
        .service()
        .succeed(&["admin", "session", "end", &running.email], "");
    drop(ended);
    browser.press("h").await;
    browser.press("h").await;
    browser.find("input[type=password]").await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.sees("decimal.DivisionByZero").await;
    assert!(
        address(&browser).await.contains("since=7d"),
        "{}",
        address(&browser).await
    );
}

/// How often the page has asked for the list of errors.
async fn readings(browser: &Browser) -> u64 {
    let script = "return performance.getEntriesByType('resource').filter(({name}) => \
                  name.includes('/api/v1/errors?')).length";
    let read = browser.driver.execute(script, vec![]).await.unwrap();
    read.json().as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_held_page_reads_nothing_until_it_goes_on() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/errors?since=7d", running.url)).await;
    browser.sees("What matters most first").await;
    browser.press("h").await;
    browser.sees("Go on").await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    let before = readings(&browser).await;
    for body in restamped(&[recorded("queue-worker-berths.traces.json")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    browser
        .driver
        .execute("window.dispatchEvent(new Event('visibilitychange'))", vec![])
        .await
        .unwrap();
    browser.sees("waiting").await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    assert_eq!(readings(&browser).await, before, "held, it reads again");
    browser.press("h").await;
    browser.sees("Hold").await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    assert!(readings(&browser).await > before, "it goes on and reads nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_is_sorted_by_its_heads_and_the_order_stands_in_the_address() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/traffic?since=7d", running.url)).await;
    browser.find("th:nth-child(2) button").await.click().await.unwrap();
    comes_to(&browser, "order=endpoint").await;
    let column = async || {
        let script = "return [...document.querySelectorAll('tbody td:nth-child(2)')].map((cell) => cell.innerText)";
        let read = browser.driver.execute(script, vec![]).await.unwrap();
        serde_json::from_value::<Vec<String>>(read.json().clone()).unwrap()
    };
    let rising = column().await;
    assert!(rising.len() > 1 && rising.is_sorted(), "{rising:?}");
    browser.find("th:nth-child(2) button").await.click().await.unwrap();
    comes_to(&browser, "order=-endpoint").await;
    let mut falling = column().await;
    falling.reverse();
    assert_eq!(falling, rising);
    // The order belongs to this view.
    browser.named("button", "Calls").await.click().await.unwrap();
    comes_to(&browser, "view=calls").await;
    assert!(!address(&browser).await.contains("order="));
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_are_as_a_person_wants_them_and_say_where_one_came_to() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    let told = async |script: &str| {
        let read = browser.driver.execute(script, vec![]).await.unwrap();
        read.json().as_str().unwrap_or_default().to_owned()
    };
    let paper = "return getComputedStyle(document.body).backgroundColor";
    let light = told(paper).await;
    browser.named("link", "Deploys").await.click().await.unwrap();
    comes_to(&browser, "/deploys").await;
    tokio::time::sleep(MOMENT).await;
    assert_eq!(told("return document.activeElement.id").await, "main");
    let heading = told("return document.querySelector('h1').textContent").await;
    let title = told("return document.title").await;
    assert!(title.ends_with(" · Outcrop") && heading.starts_with(title.split(" · ").next().unwrap()));
    assert_eq!(
        told("return document.querySelector('p[aria-live]').textContent").await,
        heading
    );
    browser.open(&format!("{}/account", running.url)).await;
    browser.sees("How pages are").await;
    let colours = browser.find("fieldset:last-of-type label:last-of-type input").await;
    colours.click().await.unwrap();
    tokio::time::sleep(MOMENT).await;
    let dark = told(paper).await;
    assert_ne!(dark, light);
    // It is kept with the person: also where the browser knows nothing of it.
    told("localStorage.clear(); return ''").await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.sees("What matters most first").await;
    tokio::time::sleep(MOMENT).await;
    assert_eq!(told(paper).await, dark);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_behind_a_proxy_that_fails_stays_and_follows_again_by_itself() {
    let running = with_failures().await;
    let proxy = Proxy::before(&running.url).await;
    let browser = Browser::start(1280, 800, "light").await;
    browser.open(&format!("{}/errors?since=7d", proxy.url)).await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.sees("What matters most first").await;
    for mode in [Mode::Refuses, Mode::Cuts] {
        proxy.set(mode);
        browser.sees("Not connected since").await;
        browser.sees("What matters most first").await;
        proxy.set(Mode::Delays(Duration::from_millis(300)));
        // Nobody does anything: what comes in is there, and the page says no more that it may be old.
        let title = if mode == Mode::Cuts {
            "TurnstileJammed"
        } else {
            "GateClosed"
        };
        fail(&running, "berths", title, "the gate of pier 3", "").await;
        browser.sees(title).await;
        let until = Instant::now() + Duration::from_secs(40);
        while browser.text().await.contains("Not connected") {
            assert!(Instant::now() < until, "{mode:?}: it is not connected again");
            tokio::time::sleep(MOMENT).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn several_errors_are_chosen_by_keyboard_handled_at_once_and_had_back() {
    let running = with_failures().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.sees("What matters most first").await;
    let top = async || browser.texts("ol li a").await.remove(0);
    let first = top().await;
    for _ in 0..2 {
        browser.press("j").await;
        browser.press("x").await;
    }
    browser.sees("2 errors chosen").await;
    browser.named("button", "Quiet for a day").await.click().await.unwrap();
    browser.sees("2 errors made quiet for a day").await;
    browser.sees("2 settled or quiet").await;
    browser.sees("Settled or quiet").await;
    assert_ne!(top().await, first, "what is quiet comes last");
    browser.named("button", "Undo").await.click().await.unwrap();
    let until = Instant::now() + Duration::from_secs(10);
    while top().await != first {
        assert!(Instant::now() < until, "it is not undone");
        tokio::time::sleep(MOMENT).await;
    }
    assert!(!browser.text().await.contains("settled or quiet"));
}
