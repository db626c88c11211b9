//! *Now* against the lists that its numbers open.

use serde_json::json;

use super::reading::{fleet, get, reference};
use super::strangers::token_of;
use crate::answers::deploy_answers;
use crate::state::State;

#[tokio::test]
async fn each_number_of_a_service_is_that_of_the_list_it_opens() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let admin = token_of(&state, "harbour@skerry.example", "admin", false).await;
    for (call, body) in [
        ("POST /api/v1/teams", json!({"name": "tariff desk"})),
        (
            "PUT /api/v1/teams/tariff%20desk",
            json!({"members": [], "services": ["fares"]}),
        ),
        (
            "POST /api/v1/deploys",
            json!({"service": "fares", "version": "2.4.0", "environment": "production"}),
        ),
    ] {
        let (status, said) = super::ask(&state, Some(&admin), call, body.to_string()).await;
        assert!(status.is_success(), "{call}: {said}");
    }
    let (begun, checks) = deploy_answers::begin(&state.database, chrono::Utc::now())
        .await
        .unwrap()
        .unwrap();
    deploy_answers::keep(begun, &checks).await.unwrap();
    let now = get(&state, &token, "/api/v1/now").await;
    let services = now["fleet"].as_array().unwrap();
    let names: Vec<&str> = services.iter().map(|item| item["service"].as_str().unwrap()).collect();
    assert_eq!(names, ["fares", "berths"], "the one that fails comes first");
    let fares = &services[0];
    let endpoints = get(&state, &token, "/api/v1/endpoints?service=fares&since=1h").await;
    let counted: i64 = endpoints["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| item["count"].as_i64().unwrap())
        .sum();
    assert_eq!(fares["requests"], counted);
    assert_eq!((&fares["requests"], &fares["failed"]), (&json!(40), &json!(5)));
    let all = get(&state, &token, "/api/v1/traffic?service=fares&since=1h").await;
    assert_eq!(all, json!({"requests": 40, "failed": 5}));
    let sum = |steps: &str| -> i64 {
        let steps = fares[steps].as_array().unwrap();
        steps.iter().map(|step| step.as_i64().unwrap()).sum()
    };
    assert_eq!((sum("requests_by_step"), sum("failed_by_step")), (40, 5));
    assert!(fares["p95_ms"].as_f64().unwrap() > 1_000.0, "{fares}");
    assert_eq!(fares["versions"], json!([{"version": "2.4.0", "share": 1.0}]));
    assert_eq!(fares["owner"], "tariff desk");
    assert_eq!(services[1]["owner"], json!(null));
    let deploy = get(&state, &token, "/api/v1/deploys?service=fares&since=24h").await["items"][0].clone();
    for name in ["outcome", "sentence"] {
        assert_eq!(fares["deploy"][name], deploy["check"][name]);
    }
    // Narrowed, the others are not there.
    let one = get(&state, &token, "/api/v1/now?service=berths").await;
    assert_eq!(one["fleet"].as_array().unwrap().len(), 1);
    let elsewhere = get(&state, &token, "/api/v1/now?environment=staging").await;
    assert_eq!(elsewhere["fleet"], json!([]));
}

#[tokio::test]
async fn an_error_that_somebody_took_stands_below_until_it_is_handed_back() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let error = reference(&state, &token, "ZeroDivisionError").await;
    let told = async || {
        let now = get(&state, &token, "/api/v1/now").await;
        let of = |list: &str| -> Vec<String> {
            let items = now[list].as_array().unwrap().iter();
            items.map(|item| item["ref"].as_str().unwrap().to_owned()).collect()
        };
        let worst = now["fleet"][0]["worst"].clone();
        (of("items"), of("handled"), worst, now["handled"][0]["handled"].clone())
    };
    assert_eq!(told().await, (vec![error.clone()], vec![], json!("error"), json!(null)));
    let act = async |action: serde_json::Value| {
        let path = format!("POST /api/v1/errors/{error}/handling");
        let (status, said) = super::ask(&state, Some(&token), &path, action.to_string()).await;
        assert!(status.is_success(), "{said}");
    };
    act(json!({"verb": "take"})).await;
    let by = json!("taken by purser@skerry.example");
    assert_eq!(told().await, (vec![], vec![error.clone()], json!(null), by));
    act(json!({"verb": "hand_back"})).await;
    assert_eq!(told().await.0, [error]);
}
