//! The console in Debian's Chromium, against the real service.

use outcrop_testkit::{Browser, PASSWORD, Running, recorded, restamped};
use serde_json::json;

use crate::support::service;

async fn with_failures() -> Running {
    let running = service().start().await;
    for body in
        restamped(&["three-services-3-fares.traces.pb", "mixed-batch-gangway.traces.json", "cause-gangway-logs.logs.json"].map(recorded))
    {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    running
}

/// One failure of a service with any message, type and stack, as a log record.
async fn fail(running: &Running, service: &str, type_name: &str, message: &str, stack: &str) {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos().to_string();
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let attributes = [text("exception.type", type_name), text("exception.message", message), text("exception.stacktrace", stack)];
    let body = json!({"resourceLogs": [{"resource": {"attributes": [text("service.name", service)]}, "scopeLogs": [{"logRecords": [
        {"timeUnixNano": now, "severityNumber": 17, "attributes": attributes},
    ]}]}]});
    let answer = running.post("/v1/logs").header("content-type", "application/json").body(body.to_string()).send().await.unwrap();
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
    assert!(browser.driver.current_url().await.unwrap().as_str().contains("since=3h"), "the link that was asked for is shown");

    // By keyboard: filter, leave the field, down the list, open, older and newer.
    browser.press("/").await;
    browser.press("UpstreamError").await;
    browser.sees("quoteFor").await;
    browser.press("\u{e00c}").await;
    browser.press("j").await;
    browser.press("\u{e007}").await;
    browser.sees("Occurrence 4 of 4").await;
    browser.sees("1 library frame").await;
    browser.press("[").await;
    browser.sees("Occurrence 3 of 4").await;
    let older = browser.driver.current_url().await.unwrap();
    assert!(older.as_str().contains("occurrence="), "the occurrence stands in the address: {older}");
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
    browser.sees("back to the last 24 h").await;
    assert!(browser.driver.current_url().await.unwrap().as_str().contains("from="));
    browser.named("link", "back to the last 24 h").await.click().await.unwrap();
    browser.named("link", "Errors").await.click().await.unwrap();
    browser.sees("What matters most first").await;

    // Out again.
    browser.find("button[aria-label^='Signed in as']").await.click().await.unwrap();
    browser.named("button", "Sign out").await.click().await.unwrap();
    browser.sees("Sign in to see what is failing.").await;
    browser.open(&format!("{}/errors", running.url)).await;
    browser.sees("Sign in to see what is failing.").await;
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
        fail(&running, "berths", "BerthClosed", &format!("berth {berth} is closed"), "").await;
    }
    browser.sees("Go on: 3 waiting").await;
    assert!(!browser.text().await.contains("BerthClosed"), "held, the page stands still");
    browser.named("button", "▶ Go on: 3 waiting").await.click().await.unwrap();
    browser.sees("BerthClosed").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn connect_makes_a_key_and_says_at_once_when_the_first_data_of_the_real_python_sdk_came() {
    let running = service().start().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.named("link", "Connect").await.click().await.unwrap();
    browser.sees("No service has sent anything yet").await;
    browser.find("input[placeholder=fares]").await.send_keys("fares").await.unwrap();
    browser.named("button", "Make a key").await.click().await.unwrap();
    browser.sees("Waiting for the first data of fares").await;
    let key = browser.find("pre[aria-label='Sender key']").await.text().await.unwrap();
    browser.sees(&format!("OTEL_EXPORTER_OTLP_ENDPOINT={}", running.url)).await;
    browser.sees(&format!("OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20{key}")).await;
    crate::sdk::send(&running.url, &key, "none");
    browser.sees("fares reports.").await;
    browser.sees("Nothing is missing for good answers.").await;
    browser.named("link", "To its errors").await.click().await.unwrap();
    browser.sees("ZeroDivisionError").await;
}

/// Follows the steps that Connect shows for a language, to the letter: with an app whose second of three quotes fails, and
/// with the guide's own job, which dies.
async fn follow_the_steps(language: &str, name: &str, app: &crate::sdk::App) {
    let running = service().start().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.named("link", "Connect").await.click().await.unwrap();
    browser.find("input[placeholder=fares]").await.send_keys(name).await.unwrap();
    browser.named("button", "Make a key").await.click().await.unwrap();
    browser.sees(&format!("Waiting for the first data of {name}")).await;
    browser.named("button", language).await.click().await.unwrap();
    browser.sees(app.started_by).await;
    let steps = browser.texts("[data-steps=run] pre").await;
    app.run(&format!("set -e\n{}\n", steps.join("\n")));
    browser.sees(&format!("{name} reports.")).await;
    let page = running.client_json(&["errors", "--service", name, "--environment", "production", "--in-version", "1.0.0"]);
    let errors = page["items"].as_array().unwrap();
    assert_eq!(errors.len(), 1, "{page}");
    assert_eq!((&errors[0]["type"], &errors[0]["count"]), (&app.thrown.into(), &1.into()), "{page}");
    assert!(errors[0]["own_frame"].as_str().unwrap().contains(app.function), "{page}");
    assert!((errors[0]["request_share"].as_f64().unwrap() - 1.0 / 3.0).abs() < 1e-9, "{page}");

    let job = browser.texts("[data-steps=job] pre").await;
    let set_up = &steps[..steps.len() - 1];
    assert!(!app.run(&format!("set -e\n{}\n{}\n", set_up.join("\n"), job.join("\n"))), "the job dies");
    let page = running.client_json(&["errors", "--service", name, "--where", "endpoint = \"settle ports\""]);
    let errors = page["items"].as_array().unwrap();
    assert_eq!(errors.len(), 1, "{page}");
    assert_eq!((&errors[0]["type"], &errors[0]["count"], &errors[0]["users"]), (&app.job_throws.into(), &1.into(), &1.into()), "{page}");
    assert!(errors[0]["own_frame"].as_str().unwrap().contains("settle"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_steps_for_rust_connect_an_app_whose_main_starts_them() {
    follow_the_steps("Rust", "berths", &crate::sdk::RUST).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_steps_for_python_connect_an_app_that_knows_nothing_of_telemetry() {
    follow_the_steps("Python", "fares", &crate::sdk::FLASK).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_steps_for_node_js_connect_an_app_that_knows_nothing_of_telemetry() {
    follow_the_steps("Node.js", "gangway", &crate::sdk::EXPRESS).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_text_is_shown_harmlessly_and_breaks_no_layout() {
    let running = service().start().await;
    let script = "<script>document.title = 'taken'</script><img src=x onerror=\"document.title='taken'\">";
    fail(&running, "berths", "Markup", script, script).await;
    fail(&running, "berths", "Escapes", "\u{1b}[2J\u{1b}]0;taken\u{7} \u{0}nul", "").await;
    fail(&running, "berths", "Long", &"x".repeat(100_000), &"y".repeat(100_000)).await;
    fail(&running, "\u{202e}edis gnorw", &"Ж".repeat(190), "\u{202e}\u{2066}right to left שלום", "").await;
    for (width, height) in [(1280, 800), (390, 844)] {
        let browser = signed_in(&running, width, height, "light").await;
        browser.sees("Markup").await;
        assert!(browser.overflow().await <= 0, "the list at {width}");
        for error in running.errors().await {
            browser.open(&format!("{}/errors/{}", running.url, error["ref"].as_str().unwrap())).await;
            browser.sees("Occurrence 1 of 1").await;
            assert!(browser.overflow().await <= 0, "{} at {width}", error["type"]);
            for tab in ["Request", "All data", "As sent"] {
                browser.named("button", tab).await.click().await.unwrap();
                assert!(browser.overflow().await <= 0, "{}, {tab} at {width}", error["type"]);
            }
            assert_eq!(browser.driver.title().await.unwrap(), "Outcrop");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn axe_finds_no_violation_on_any_page_light_dark_and_on_a_phone() {
    let running = with_failures().await;
    let reference = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let trace = running.client_json(&["requests"])["items"][0]["trace_id"].as_str().unwrap().to_owned();
    for (width, height, scheme) in [(1280, 800, "light"), (1280, 800, "dark"), (390, 844, "light")] {
        let browser = Browser::start(width, height, scheme).await;
        browser.open(&format!("{}/sign-in", running.url)).await;
        browser.find("input[type=email]").await;
        let mut found = browser.violations().await;
        browser.sign_in(&running.email, PASSWORD).await;
        browser.sees("errors in the last 24 h").await;
        for (page, shows) in [
            ("/errors".to_owned(), "errors in the last 24 h"),
            (format!("/errors/{reference}"), "Occurrence"),
            ("/connect".to_owned(), "Reporting"),
            ("/account".to_owned(), "Set a new password"),
            ("/grouping".to_owned(), "What was changed"),
            ("/services".to_owned(), "Folder the code runs in"),
            ("/senders".to_owned(), "Dropped as it comes in"),
            ("/deploys".to_owned(), "deploy"),
            ("/traffic".to_owned(), "of the requests to"),
            ("/traffic?view=requests".to_owned(), "Kept are failed and slow requests"),
            ("/traffic?view=logs".to_owned(), "line"),
            ("/traffic?view=logs&all=true".to_owned(), "line"),
            ("/traffic?view=calls".to_owned(), "call"),
            ("/traffic?view=statements".to_owned(), "statement"),
            ("/traffic?view=instances".to_owned(), "instance"),
            ("/traffic?view=passing".to_owned(), "requests a minute"),
            ("/now".to_owned(), "last 15 minutes"),
            (format!("/traces/{trace}"), "next and previous failure"),
        ] {
            browser.open(&format!("{}{page}", running.url)).await;
            browser.sees(shows).await;
            found.extend(browser.violations().await.into_iter().map(|violation| format!("{page}: {violation}")));
            assert!(browser.overflow().await <= 0, "{page} at {width}");
        }
        assert_eq!(found, Vec::<String>::new(), "{scheme} at {width}");
    }
}
