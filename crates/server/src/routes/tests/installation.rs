//! What an installation says of itself: to whoever watches it, and to its admins.

use actix_web::http::StatusCode;
use actix_web::http::header::AUTHORIZATION;
use actix_web::test::TestRequest;

use super::strangers::token_of;
use super::{answer, ask, bounds, logs, post, text};
use crate::settings::MetricsKey;
use crate::state::State;

const KEY: &str = "of the harbour office";

fn scrape(key: &str) -> TestRequest {
    TestRequest::get()
        .uri("/metrics")
        .insert_header((AUTHORIZATION, format!("Bearer {key}")))
}

#[tokio::test]
async fn a_monitoring_system_reads_what_was_taken_and_refused() {
    let (state, _supervisor, _closing) =
        State::for_tests(|settings| settings.metrics_key = MetricsKey::new(KEY).ok()).await;
    let key = state.key("pier-9", bounds(None)).await;
    assert_eq!(
        answer(&state, post("/v1/logs", &key, logs("no tariff").to_string()))
            .await
            .0,
        StatusCode::OK
    );
    let refused = answer(
        &state,
        post("/v1/logs", "outcrop-key-of-nobody", logs("no tariff").to_string()),
    )
    .await;
    assert_eq!(refused.0, StatusCode::UNAUTHORIZED);
    let (status, said) = text(&state, scrape(KEY)).await;
    assert_eq!(status, StatusCode::OK);
    for line in [
        "outcrop_intake_requests_total{signal=\"logs\",protocol=\"http\",answer=\"taken\"} 1",
        "outcrop_intake_requests_total{signal=\"logs\",protocol=\"http\",answer=\"unknown_key\"} 1",
        "outcrop_intake_records_total{kind=\"failure\"} 1",
        "outcrop_batches_total{outcome=\"stored\"} 1",
        "outcrop_intake_waiting_requests 0",
        "outcrop_job_failures_in_a_row{name=\"writer 1\"} 0",
    ] {
        assert!(said.lines().any(|one| one == line), "no {line} in\n{said}");
    }
    for name in [
        "outcrop_stored_bytes{name=\"log lines\"} ",
        "process_resident_memory_bytes ",
        "outcrop_database_connections{",
    ] {
        assert!(said.lines().any(|one| one.starts_with(name)), "no {name} in\n{said}");
    }
    assert!(said.ends_with("# EOF\n"));
    assert!(
        !said.contains("fares") && !said.contains("pier-9"),
        "no name of a service or key: {said}"
    );
}

#[tokio::test]
async fn nobody_reads_them_without_the_key() {
    let (state, _supervisor, _closing) =
        State::for_tests(|settings| settings.metrics_key = MetricsKey::new(KEY).ok()).await;
    let (status, _, said) = answer(&state, scrape("of somebody else")).await;
    assert_eq!(
        (status, said["code"].as_str()),
        (StatusCode::UNAUTHORIZED, Some("unauthorized"))
    );
    assert_eq!(
        answer(&state, TestRequest::get().uri("/metrics")).await.0,
        StatusCode::UNAUTHORIZED
    );
    let (unset, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (status, _, said) = answer(&unset, scrape(KEY)).await;
    assert_eq!(
        (status, said["code"].as_str()),
        (StatusCode::NOT_FOUND, Some("no_metrics_key"))
    );
}

#[tokio::test]
async fn admins_are_told_what_is_wrong_and_what_to_do() {
    let (state, supervisor, _closing) = State::for_tests(|_| {}).await;
    let admin = token_of(&state, "purser@skerry.example", "admin", false).await;
    supervisor.run("flags", std::time::Duration::from_mins(1), || async {
        Err(outcrop_store::StoreError::Unusable("secret cause".to_owned()))
    });
    while state.health.troubles(crate::clock::now()).is_empty() {
        tokio::task::yield_now().await;
    }
    let (status, said) = ask(&state, Some(&admin), "GET /api/v1/installation", "").await;
    assert_eq!(status, StatusCode::OK, "{said}");
    let findings = said["findings"].as_array().unwrap();
    let of = |about: &str| findings.iter().find(|finding| finding["about"] == about).unwrap();
    assert_eq!(findings[0]["level"], "wrong", "the worst come first: {said}");
    assert!(
        of("jobs")["says"]
            .as_str()
            .unwrap()
            .starts_with("flags: failed once in a row"),
        "{said}"
    );
    assert!(
        of("jobs")["todo"].is_string() && !said.to_string().contains("secret cause"),
        "{said}"
    );
    assert_eq!(
        of("durability")["level"],
        "wrong",
        "the tests' database forgets what it was told: {said}"
    );
    let viewer = token_of(&state, "mate@skerry.example", "viewer", false).await;
    assert_eq!(
        ask(&state, Some(&viewer), "GET /api/v1/installation", "").await.0,
        StatusCode::FORBIDDEN
    );
}
