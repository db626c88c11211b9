//! Stories of Connect: a key is made, the steps are followed, the first data is seen.

use crate::console::signed_in;
use crate::support::service;

#[tokio::test(flavor = "multi_thread")]
async fn connect_makes_a_key_and_says_at_once_when_the_first_data_of_the_real_python_sdk_came() {
    let running = service().start().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/connect", running.url)).await;
    browser.sees("No service has sent anything yet").await;
    browser
        .find("input[placeholder=fares]")
        .await
        .send_keys("fares")
        .await
        .unwrap();
    browser.named("button", "Make a key").await.click().await.unwrap();
    browser.sees("Waiting for the first data of fares").await;
    let key = browser.find("pre[aria-label='Sender key']").await.text().await.unwrap();
    browser
        .sees(&format!("OTEL_EXPORTER_OTLP_ENDPOINT={}", running.url))
        .await;
    browser
        .sees(&format!("OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20{key}"))
        .await;
    crate::sdk::send(&running.url, &key, "none");
    browser.sees("fares reports.").await;
    browser
        .sees("no metrics: no memory or processor beside its failures")
        .await;
    browser.named("link", "To its errors").await.click().await.unwrap();
    browser.sees("ZeroDivisionError").await;
}

/// Follows the steps that Connect shows for a language, to the letter: with an app whose second of
/// three quotes fails, and with the guide's own job, which dies.
async fn follow_the_steps(language: &str, name: &str, app: &crate::sdk::App) {
    let running = service().start().await;
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/connect", running.url)).await;
    browser
        .find("input[placeholder=fares]")
        .await
        .send_keys(name)
        .await
        .unwrap();
    browser.named("button", "Make a key").await.click().await.unwrap();
    browser.sees(&format!("Waiting for the first data of {name}")).await;
    browser.named("button", language).await.click().await.unwrap();
    browser.sees(app.started_by).await;
    let steps = browser.texts("[data-steps=run] pre").await;
    app.run(&format!("set -e\n{}\n", steps.join("\n")));
    browser.sees(&format!("{name} reports.")).await;
    let page = running.client_json(&[
        "errors",
        "--service",
        name,
        "--environment",
        "production",
        "--in-version",
        "1.0.0",
    ]);
    let errors = page["items"].as_array().unwrap();
    assert_eq!(errors.len(), 1, "{page}");
    assert_eq!(
        (&errors[0]["type"], &errors[0]["count"]),
        (&app.thrown.into(), &1.into()),
        "{page}"
    );
    assert!(
        errors[0]["own_frame"].as_str().unwrap().contains(app.function),
        "{page}"
    );
    assert!(
        (errors[0]["request_share"].as_f64().unwrap() - 1.0 / 3.0).abs() < 1e-9,
        "{page}"
    );

    let job = browser.texts("[data-steps=job] pre").await;
    let set_up = &steps[..steps.len() - 1];
    assert!(
        !app.run(&format!("set -e\n{}\n{}\n", set_up.join("\n"), job.join("\n"))),
        "the job dies"
    );
    let page = running.client_json(&["errors", "--service", name, "--where", "endpoint = \"settle ports\""]);
    let errors = page["items"].as_array().unwrap();
    assert_eq!(errors.len(), 1, "{page}");
    assert_eq!(
        (&errors[0]["type"], &errors[0]["count"], &errors[0]["users"]),
        (&app.job_throws.into(), &1.into(), &1.into()),
        "{page}"
    );
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
