//! What people do about errors in the console, who may, and what becomes of it, in Debian's Chromium.

use std::time::{Duration, Instant};

use outcrop_testkit::{Browser, PASSWORD, Running};

use crate::console::signed_in;
use crate::decide::{from, minute, now, requests, send};
use crate::support::service;

/// How long a flag of the detector may take to be seen: its minute must be over.
const FLAGGED: Duration = Duration::from_secs(200);

async fn sees_within(browser: &Browser, text: &str, patience: Duration) {
    let until = Instant::now() + patience;
    while !browser.text().await.contains(text) {
        assert!(
            Instant::now() < until,
            "`{text}` does not appear:\n{}",
            browser.text().await
        );
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

async fn type_into(browser: &Browser, label: &str, text: &str) {
    let field = browser.find(&format!("[aria-label='{label}']")).await;
    field.send_keys(text).await.unwrap();
}

/// An hour and a half of requests of fares, one in forty of some minutes failing.
async fn with_a_known_error() -> (Running, String) {
    let running = service().start().await;
    let minutes = (3..90)
        .map(|ago| minute(ago, "2.4.0", &requests(4, 40, if ago % 5 == 0 { &[30] } else { &[] })))
        .collect();
    send(&running, minutes).await;
    let error = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    (running, error)
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_is_settled_by_a_commit_met_by_its_deploy_judged_and_opened_when_it_returns() {
    let (running, error) = with_a_known_error().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/errors/{error}", running.url)).await;
    browser.sees("Open · not taken").await;
    browser.choose("From what on it must not occur", "by commit").await;
    // By keyboard from here: the commit, and Enter.
    type_into(&browser, "Commit that mends it", "3f2a1c9").await;
    browser.press("\u{e007}").await;
    browser.sees("settled by commit 3f2a1c9, in no deploy yet").await;
    browser
        .sees("No deploy of fares is known to hold commit 3f2a1c9 yet.")
        .await;

    let record = [
        "deploy",
        "record",
        "fares@2.4.1",
        "--environment",
        "production",
        "--revision",
        "3f2a1c9e5b7d",
    ];
    assert!(running.client(&record).status.success());
    browser.driver.refresh().await.unwrap();
    browser.sees("settled in 2.4.1 by commit 3f2a1c9").await;
    send(&running, vec![from(now() - 30, "2.4.1", &requests(60, 40, &[]))]).await;
    browser.driver.refresh().await.unwrap();
    browser.sees("since fares 2.4.1; before, in 1 of").await;
    // The deploy's page says the same.
    browser
        .open(&format!("{}/deploys/fares/2.4.1?environment=production", running.url))
        .await;
    browser.sees("Settled in this version").await;
    browser.sees("Not seen for").await;

    while now() % 60 < 3 {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    send(
        &running,
        vec![from((now() / 60 + 1) * 60, "2.4.1", &requests(6, 40, &[30]))],
    )
    .await;
    browser.open(&format!("{}/errors/{error}", running.url)).await;
    sees_within(&browser, "opened it again: it returned in 2.4.1", FLAGGED).await;
    sees_within(&browser, "Open · not taken", FLAGGED).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone_somebody_is_invited_joins_and_reads_what_their_teams_may() {
    let (running, error) = with_a_known_error().await;
    let admin = signed_in(&running, 390, 844, "light").await;
    admin.open(&format!("{}/people", running.url)).await;
    admin.sees("1 member in 0 teams.").await;
    type_into(&admin, "Name of a new team", "tariff desk").await;
    admin.press("\u{e007}").await;
    admin.sees("1 member in 1 team.").await;
    admin.choose("Put into services", "fares").await;
    admin.sees("fares is read by its teams and admins only").await;
    assert!(admin.overflow().await <= 0);
    admin
        .find("input[type=email]")
        .await
        .send_keys("mate@skerry.example")
        .await
        .unwrap();
    admin.named("button", "Make a link").await.click().await.unwrap();
    let link = admin
        .find("[aria-label='Link of the invitation']")
        .await
        .text()
        .await
        .unwrap();

    let mate = Browser::start(390, 844, "light").await;
    mate.open(&link).await;
    mate.sees("invited you as an engineer").await;
    assert!(mate.overflow().await <= 0);
    mate.find("input[type=password]")
        .await
        .send_keys(PASSWORD)
        .await
        .unwrap();
    mate.named("button", "Join").await.click().await.unwrap();
    mate.sees("of the requests to fares fail with NoFare").await;
    mate.open(&link).await;
    mate.sees("The link leads nowhere").await;

    admin
        .find("[aria-label='Who may read the services of tariff desk'] input")
        .await
        .click()
        .await
        .unwrap();
    admin.sees("1 service is read by its teams only").await;
    mate.open(&format!("{}/errors/{error}", running.url)).await;
    mate.sees("could not be read").await;
    admin.choose("Put into members", "mate@skerry.example").await;
    admin.find("[aria-label='Take mate@skerry.example out']").await;
    mate.driver.refresh().await.unwrap();
    // Who owns it stands where it is handed over.
    mate.sees("owns fares").await;
    mate.named("button", "Hand to tariff desk").await.click().await.unwrap();
    mate.sees("Open · taken by tariff desk").await;
    mate.sees("gave it to tariff desk").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_deleted_is_counted_and_its_name_typed_first() {
    let (running, error) = with_a_known_error().await;
    let browser = signed_in(&running, 1280, 800, "dark").await;
    browser.open(&format!("{}/clean-up", running.url)).await;
    browser.choose("What to delete", "an error with its occurrences").await;
    browser
        .find("input[placeholder='kobal-tirun']")
        .await
        .send_keys(&error)
        .await
        .unwrap();
    browser.press("\u{e007}").await;
    browser.sees("17 occurrences").await;
    let delete = browser.named("button", "Delete for good").await;
    assert!(!delete.is_enabled().await.unwrap(), "it must be confirmed");
    type_into(&browser, "The name once more", &error).await;
    delete.click().await.unwrap();
    sees_within(&browser, &format!("had error {error} deleted"), Duration::from_secs(10)).await;
    sees_within(&browser, "done, ", Duration::from_mins(1)).await;
    assert!(running.errors().await.is_empty());
}

/// Presses Tab until what has the focus is called so.
async fn tab_to(browser: &Browser, label: &str) {
    for _ in 0..80 {
        let focused = browser.driver.active_element().await.unwrap();
        if focused.attr("aria-label").await.unwrap().as_deref() == Some(label) || focused.text().await.unwrap() == label
        {
            return;
        }
        browser.press("\u{e004}").await;
    }
    panic!("{label} is not reached by Tab:\n{}", browser.text().await);
}

#[tokio::test(flavor = "multi_thread")]
async fn by_keyboard_alone_an_error_is_opened_taken_settled_noted_and_had_back() {
    let (running, _) = with_a_known_error().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.sees("NoFare").await;
    browser.press("j").await;
    browser.press("\u{e007}").await;
    browser.sees("Open · not taken").await;
    browser.press("m").await;
    browser.sees(&format!("Open · taken by {}", running.email)).await;
    tab_to(&browser, "Version from which on it must not occur").await;
    browser.press("2.4.1").await;
    browser.press("\u{e007}").await;
    browser.sees("settled in 2.4.1").await;
    tab_to(&browser, "A note").await;
    browser.press("asked the **tariff desk**").await;
    // While what was done before is still being told, the button cannot be reached.
    tab_to(&browser, "Note").await;
    browser.press("\u{e007}").await;
    browser.sees("asked the tariff desk").await;
    tab_to(&browser, "undo what was done last").await;
    browser.press("\u{e007}").await;
    browser.sees(&format!("Open · taken by {}", running.email)).await;
}

/// A page of another site, served until the test ends.
async fn elsewhere() -> String {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}/", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut asked = [0; 4_096];
            drop(stream.read(&mut asked).await);
            let page = "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 9\r\nconnection: \
                        close\r\n\r\nelsewhere";
            drop(stream.write_all(page.as_bytes()).await);
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_site_changes_nothing_and_signing_in_leads_to_no_other() {
    let (running, error) = with_a_known_error().await;
    let other = elsewhere().await;
    let browser = Browser::start(1280, 800, "light").await;
    // After signing in one stays here, whatever the link asked for.
    let away = format!("{}/sign-in?q=/%5C{}", running.url, other.trim_start_matches("http:/"));
    browser.open(&away).await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.sees("NoFare").await;
    // The cookie goes along to another port of the same host: the service looks at where the page is from.
    browser.open(&other).await;
    browser.sees("elsewhere").await;
    for kind in ["text/plain", "application/json"] {
        let script = format!(
            "fetch('{}/api/v1/errors/{error}/handling', {{method: 'POST', mode: '{}', credentials: 'include', headers: \
             {{'content-type': '{kind}'}}, body: '{{\"verb\": \"take\"}}'}}).catch(() => undefined).then(() => \
             document.body.append(' tried {kind}'))",
            running.url,
            if kind == "text/plain" { "no-cors" } else { "cors" },
        );
        browser.driver.execute(&script, vec![]).await.unwrap();
        browser.sees(&format!("tried {kind}")).await;
    }
    let handling = running.get(&format!("/api/v1/errors/{error}/handling")).await.1;
    assert_eq!(handling["history"], serde_json::json!([]), "{handling}");
}
