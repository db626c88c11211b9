//! The console in Debian's Chromium, against the real service.

use outcrop_testkit::{Browser, PASSWORD, Running, recorded, restamped};
use serde_json::json;

use crate::support::service;

pub async fn with_failures() -> Running {
    let running = service().start().await;
    for body in restamped(
        &[
            "three-services-3-fares.traces.pb",
            "mixed-batch-gangway.traces.json",
            "cause-gangway-logs.logs.json",
        ]
        .map(recorded),
    ) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    running
}

/// One failure of a service with any message, type and stack, as a log record.
pub async fn fail(running: &Running, service: &str, type_name: &str, message: &str, stack: &str) {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
        .to_string();
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let attributes = [
        text("exception.type", type_name),
        text("exception.message", message),
        text("exception.stacktrace", stack),
    ];
    let body = json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", service)]},
        "scopeLogs": [{"logRecords": [
        {"timeUnixNano": now, "severityNumber": 17, "attributes": attributes},
    ]}]}]});
    let answer = running
        .post("/v1/logs")
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
}

pub async fn signed_in(running: &Running, width: u32, height: u32, scheme: &str) -> Browser {
    let browser = Browser::start(width, height, scheme).await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.find("nav[aria-label=Pages]").await;
    browser
}

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_an_occurrence_and_back_by_keyboard_and_by_mouse() {
    let running = with_failures().await;
    let browser = Browser::start(1280, 800, "light").await;
    browser.open(&format!("{}/errors?since=3h", running.url)).await;
    browser.sign_in(&running.email, "high tide at noon").await;
    browser.sees("Not signed in: address or password is wrong.").await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.sees("errors in the last 3 h").await;
    assert!(
        browser
            .driver
            .current_url()
            .await
            .unwrap()
            .as_str()
            .contains("since=3h"),
        "the link that was asked for is shown"
    );

    // By keyboard: filter, leave the field, down the list, open, older and newer.
    browser.press("/").await;
    browser.press("UpstreamError").await;
    browser.sees("have the words “UpstreamError”").await;
    browser.press("\u{e00c}").await;
    browser.press("j").await;
    browser.press("\u{e007}").await;
    browser.sees("Occurrence 4 of 4").await;
    browser.sees("1 library frame").await;
    browser.press("[").await;
    browser.sees("Occurrence 3 of 4").await;
    let older = browser.driver.current_url().await.unwrap();
    assert!(
        older.as_str().contains("occurrence="),
        "the occurrence stands in the address: {older}"
    );
    browser.press("]").await;
    browser.sees("Occurrence 4 of 4").await;
    browser.named("button", "first").await.click().await.unwrap();
    browser.sees("Occurrence 1 of 4").await;

    // By mouse: a window dragged on the chart, and back.
    let chart = browser.find("figure svg").await;
    let actions = browser.driver.action_chain();
    actions
        .move_to_element_with_offset(&chart, -200, 0)
        .click_and_hold()
        .move_to_element_with_offset(&chart, 200, 0)
        .release()
        .perform()
        .await
        .unwrap();
    browser.sees("back to the last 3 h").await;
    assert!(browser.driver.current_url().await.unwrap().as_str().contains("from="));
    browser
        .named("link", "back to the last 3 h")
        .await
        .click()
        .await
        .unwrap();
    browser.named("link", "Errors").await.click().await.unwrap();
    browser.sees("What matters most first").await;

    // Out again.
    browser
        .find("button[aria-label^='Signed in as']")
        .await
        .click()
        .await
        .unwrap();
    browser.named("button", "Sign out").await.click().await.unwrap();
    browser.sees("Sign in to see what is failing.").await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.sees("Sign in to see what is failing.").await;

    // Whoever follows a link to here comes back within the console, wherever the link says.
    browser
        .open(&format!("{}/sign-in?q={}", running.url, "/%5Cevil.example/errors"))
        .await;
    browser.sign_in(&running.email, PASSWORD).await;
    browser.sees("What matters most first").await;
    assert!(
        browser
            .driver
            .current_url()
            .await
            .unwrap()
            .as_str()
            .starts_with(&running.url)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn tokens_are_made_shown_once_used_and_revoked_and_sessions_ended_on_the_account_page() {
    let running = service().start().await;
    let (here, elsewhere) = (
        Browser::start(1280, 800, "light").await,
        Browser::start(1280, 800, "light").await,
    );
    for browser in [&elsewhere, &here] {
        browser.open(&format!("{}/sign-in?q=/account", running.url)).await;
        browser.sign_in(&running.email, PASSWORD).await;
        browser.sees("Set a new password").await;
    }
    here.sees("this session").await;
    here.find("section[aria-label=Tokens] form input")
        .await
        .send_keys("laptop")
        .await
        .unwrap();
    here.named("button", "Make token").await.click().await.unwrap();
    here.sees("Shown now and never again").await;
    let token = here.texts("section[aria-label=Tokens] code").await.remove(0);
    let list = ["errors", "--token", &token];
    let used = running
        .service()
        .command_with(&list, "", &[("OUTCROP_URL", &running.url)]);
    assert!(used.status.success(), "{}", String::from_utf8_lossy(&used.stderr));
    // The member's own token of the test stands in the list too: the newest is first.
    let revoke = here.find("section[aria-label=Tokens] li button").await;
    revoke.click().await.unwrap();
    here.named("button", "Leave it").await.click().await.unwrap();
    let still = running
        .service()
        .command_with(&list, "", &[("OUTCROP_URL", &running.url)]);
    assert!(still.status.success(), "what was left is done");
    revoke.click().await.unwrap();
    here.named("button", "Revoke it for good").await.click().await.unwrap();
    let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while running
        .service()
        .command_with(&list, "", &[("OUTCROP_URL", &running.url)])
        .status
        .code()
        != Some(4)
    {
        assert!(std::time::Instant::now() < until, "the token is still good");
    }
    here.named("button", "End session").await.click().await.unwrap();
    elsewhere.open(&format!("{}/errors", running.url)).await;
    elsewhere.sees("Sign in to see what is failing.").await;
    here.sees("Set a new password").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn by_keyboard_from_the_list_to_an_error_its_trace_its_log_lines_and_back() {
    let running = service().start().await;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap()
        - 60_000_000_000;
    let at = |millis: u64| (now + millis * 1_000_000).to_string();
    let trace = "5b8efff798038103d269b633813fc60c";
    let resource =
        |service: &str| json!({"attributes": [text("service.name", service), text("service.version", "2.4.0")]});
    let span = |id: u64, parent: u64, kind: u8, name: &str, times: (u64, u64), events: serde_json::Value| {
        json!({"traceId": trace, "spanId": format!("{id:016x}"), "parentSpanId": if parent == 0 {
            String::new() } else { format!("{parent:016x}") }, "kind": kind, "name": name,
            "startTimeUnixNano": at(times.0), "endTimeUnixNano": at(times.1), "status": {"code": 2}, "events": events})
    };
    let thrown = json!([{"name": "exception", "timeUnixNano": at(80), "attributes": [text("exception.type",
        "FareMissing"), text("exception.message", "no fare for winter")]}]);
    let spans = json!({"resourceSpans": [
        {"resource": resource("gangway"), "scopeSpans": [{"spans": [span(1, 0, 2, "POST \
            /v1/bookings", (0, 120), json!([])), span(2, 1, 3, "POST", (5, 110), json!([]))]}]},
        {"resource": resource("fares"), "scopeSpans": [{"spans": [span(3, 2, 2, "POST \
            /v1/quotes", (10, 90), thrown)]}]},
    ]});
    let lines = json!({"resourceLogs": [{"resource": resource("fares"), "scopeLogs": [{"logRecords": [
        {"timeUnixNano": at(40), "severityNumber": 9, "body": {"stringValue": "season is winter, 4 tariffs \
            read"}, "traceId": trace, "spanId": format!("{:016x}", 3), "flags": 1},
    ]}]}]});
    for (path, body) in [("/v1/traces", spans), ("/v1/logs", lines)] {
        assert_eq!(
            running
                .post(path)
                .header("content-type", "application/json")
                .body(body.to_string())
                .send()
                .await
                .unwrap()
                .status(),
            200
        );
    }
    let browser = signed_in(&running, 1280, 800, "light").await;
    let place = async |part: &str| {
        let url = browser.driver.current_url().await.unwrap();
        assert!(url.as_str().contains(part), "{part} is not in {url}");
    };
    // Keys are taken once the list is there.
    browser.sees("What matters most first").await;
    browser.press("/").await;
    browser.press("FareMissing").await;
    // The list is narrowed before a row of it is chosen, and an occurrence is there before its trace is asked for.
    browser.sees("have the words “FareMissing”").await;
    browser.press("\u{e00c}").await;
    browser.press("j").await;
    browser.press("\u{e007}").await;
    browser.sees("its trace").await;
    browser.sees("Occurrence 1 of 1").await;
    browser.press("t").await;
    browser.sees("3 spans over").await;
    place(&format!("/traces/{trace}")).await;
    browser.sees("FareMissing").await;
    // Up to the span that called, and on to the next failure.
    browser.press("k").await;
    browser.sees("gangway POST\n").await;
    browser.press("n").await;
    browser.sees("season is winter, 4 tariffs read").await;
    browser.press("l").await;
    browser.sees("Log lines").await;
    place("view=logs").await;
    browser.sees("season is winter, 4 tariffs read").await;
    browser.press("b").await;
    browser.sees("3 spans over").await;
    browser.press("o").await;
    browser.sees("Occurrence 1 of 1").await;
    place("/errors/").await;
    for _ in 0..3 {
        browser.press("b").await;
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    browser.sees("What matters most first").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn more_requests_than_can_be_read_pass_as_rates() {
    let running = service().start().await;
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap();
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    // Nine endpoints, since 20 failures of one endpoint are kept a minute.
    for of in 0..9_u64 {
        let spans: Vec<_> = (0..30_u64)
            .map(|number| {
                let id = of * 100 + number + 1;
                json!({"traceId": format!("{id:032x}"), "spanId": format!("{id:016x}"), "kind": 2, "name": "GET",
                    "startTimeUnixNano": (now - 20_000_000).to_string(), "endTimeUnixNano": now.to_string(),
                        "status": {"code": 2},
                    "attributes": [text("http.request.method", "GET"), text("http.route", &format!("/v1/piers/{of}"))]})
            })
            .collect();
        let body = json!({"resourceSpans": [{"resource": {"attributes": [text("service.name", "berths")]},
            "scopeSpans": [{"spans": spans}]}]});
        let sent = running
            .post("/v1/traces")
            .header("content-type", "application/json")
            .body(body.to_string())
            .send()
            .await
            .unwrap();
        assert_eq!(sent.status(), 200);
    }
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/traffic?view=passing", running.url)).await;
    browser.sees("More pass than can be read one by one").await;
    let rows = browser.texts("section[aria-label=Rates] tbody tr").await;
    assert!(
        rows.len() == 9 && rows[0].contains("15") && rows[0].contains("15 fail"),
        "{rows:?}"
    );
    assert_eq!(browser.texts("main ol li").await.len(), 20, "and the newest of them");
    browser
        .find("input[aria-label='Only requests with this text']")
        .await
        .send_keys("piers/7")
        .await
        .unwrap();
    let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while browser.text().await.contains("More pass than can be read") {
        assert!(std::time::Instant::now() < until, "{}", browser.text().await);
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let few = browser.texts("main ol li").await;
    assert!(
        few.len() == 20 && few.iter().all(|row| row.contains("/v1/piers/7")),
        "{few:?}"
    );

    let shown = String::from_utf8(running.client(&["watch", "--once"]).stdout).unwrap();
    assert!(shown.contains("More pass than can be read"), "{shown}");
    let shown = String::from_utf8(running.client(&["watch", "--once", "--text", "PIERS/7"]).stdout).unwrap();
    assert_eq!(
        shown.lines().filter(|line| line.contains("/v1/piers/7")).count(),
        20,
        "{shown}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn new_occurrences_appear_without_a_reload_and_hold_counts_what_waits() {
    let running = service().start().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.sees("Nothing came in in the last 24 h.").await;
    browser.sees("outcrop send --service test").await;
    fail(&running, "berths", "BerthTaken", "berth 7 is taken", "").await;
    browser.sees("BerthTaken").await;
    browser.press("h").await;
    browser.sees("Go on").await;
    for berth in 1..=3 {
        fail(
            &running,
            "berths",
            "BerthClosed",
            &format!("berth {berth} is closed"),
            "",
        )
        .await;
    }
    browser.sees("Go on: 3 waiting").await;
    assert!(
        !browser.text().await.contains("BerthClosed"),
        "held, the page stands still"
    );
    browser
        .named("button", "▶ Go on: 3 waiting")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("BerthClosed").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_text_is_shown_harmlessly_and_breaks_no_layout() {
    let running = service().start().await;
    let script = "<script>document.title = 'taken'</script><img src=x onerror=\"document.title='taken'\">";
    fail(&running, "berths", "Markup", script, script).await;
    fail(
        &running,
        "berths",
        "Escapes",
        "\u{1b}[2J\u{1b}]0;taken\u{7} \u{0}nul",
        "",
    )
    .await;
    fail(&running, "berths", "Long", &"x".repeat(100_000), &"y".repeat(100_000)).await;
    fail(
        &running,
        "\u{202e}edis gnorw",
        &"Ж".repeat(190),
        "\u{202e}\u{2066}right to left שלום",
        "",
    )
    .await;
    for (width, height) in [(1280, 800), (390, 844)] {
        let browser = signed_in(&running, width, height, "light").await;
        browser.sees("Markup").await;
        assert!(browser.overflow().await <= 0, "the list at {width}");
        for error in running.errors().await {
            browser
                .open(&format!("{}/errors/{}", running.url, error["ref"].as_str().unwrap()))
                .await;
            browser.sees("Occurrence 1 of 1").await;
            assert!(browser.overflow().await <= 0, "{} at {width}", error["type"]);
            for tab in ["Request", "All data", "As sent"] {
                browser.named("button", tab).await.click().await.unwrap();
                assert!(browser.overflow().await <= 0, "{}, {tab} at {width}", error["type"]);
            }
            let title = browser.driver.title().await.unwrap();
            assert!(title.ends_with(" · Outcrop"), "no script ran: {title}");
        }
    }
}
