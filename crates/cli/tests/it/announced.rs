//! Deploys as pipelines announce them, and what is said over instances, restarts and late data.

use serde_json::{Value, json};

use crate::deploys::{minute, send};
use crate::support::service;

#[tokio::test(flavor = "multi_thread")]
async fn a_pipeline_announces_by_cdevents_with_a_token_that_is_good_for_nothing_else() {
    let running = service().start().await;
    let service = running.service();
    let token = service
        .succeed(&["admin", "token", "create", &running.email, "--pipeline"], "")
        .trim()
        .to_owned();
    let http = reqwest::Client::new();
    let url = |path: &str| format!("{}/api/v1{path}", running.url);
    let event = |kind: &str, version: &str| {
        json!({"context": {"version": "0.4.1", "id": "e-1", "source": "https://ci.skerry.example/run/7",
            "type": format!("dev.cdevents.{kind}"),
                "timestamp": chrono::Utc::now().to_rfc3339()},
            "subject": {"id": "fares", "type": "service",
                "content": {"environment": {"id": "production"},
                    "artifactId": format!("pkg:oci/fares@sha256%3A1f2e?tag={version}")}}})
    };
    let structured = |kind: &str, version: &str| {
        json!({"specversion": "1.0", "id": "e-1", "source": "ci", "type": format!("dev.cdevents.{kind}"),
            "datacontenttype": "application/json",
            "data": event(kind, version)})
    };
    let send = async |content_type: &str, body: Value| {
        let request = http
            .post(url("/cdevents"))
            .bearer_auth(&token)
            .header("content-type", content_type);
        let request = request
            .header("ce-id", "e-1")
            .header("ce-type", "x")
            .header("ce-source", "ci")
            .header("ce-specversion", "1.0");
        let answer = request.body(body.to_string()).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    // Binary, structured, batched.
    let binary = send("application/json", event("service.deployed.0.2.0", "2.3.9")).await;
    assert_eq!(binary, (200, json!({"recorded": 1, "other": []})));
    let upgraded = structured("service.upgraded.0.2.0", "2.4.0");
    assert_eq!(send("application/cloudevents+json", upgraded).await.0, 200);
    let batch = json!([
        structured("service.rolledback.0.2.0", "2.3.9"),
        structured("pipelineRun.finished.0.2.0", "1")
    ]);
    let (status, taken) = send("application/cloudevents-batch+json", batch).await;
    assert_eq!(
        (status, &taken["recorded"], &taken["other"]),
        (200, &json!(1), &json!(["dev.cdevents.pipelineRun.finished.0.2.0"]))
    );
    // A batch with a mistake changes nothing.
    let mut wrong = structured("service.deployed.0.2.0", "2.5.0");
    wrong["data"]["subject"]["content"]["artifactId"] = json!("pkg:oci/fares");
    let (status, problem) = send(
        "application/cloudevents-batch+json",
        json!([structured("service.deployed.0.2.0", "2.6.0"), wrong]),
    )
    .await;
    assert_eq!(status, 400);
    assert!(
        problem["detail"].as_str().unwrap().contains("names no version"),
        "{problem}"
    );

    let large = send(
        "application/cloudevents-batch+json",
        json!([{ "x": "y".repeat(1 << 20) }]),
    )
    .await;
    assert!(
        large.0 == 400 && large.1["detail"].as_str().unwrap().contains("larger than 1 MiB"),
        "{large:?}"
    );
    // Half a MiB is read, and told what is wrong with it.
    let (status, problem) = send(
        "application/cloudevents-batch+json",
        json!([{ "x": "y".repeat(1 << 19) }]),
    )
    .await;
    assert!(
        status == 400 && problem["detail"].as_str().unwrap().contains("cannot be read: "),
        "{problem}"
    );

    let listed = running.client_json(&["deploys", "--service", "fares"]);
    let of = |field: &str| {
        listed["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|item| item[field].clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(
        of("version"),
        [json!("2.3.9"), json!("2.4.0"), json!("2.3.9")],
        "{listed}"
    );
    assert_eq!(of("rollback")[0], json!(true), "{listed}");
    assert_eq!(of("link")[0], "https://ci.skerry.example/run/7");

    let get = async |path: &str| {
        http.get(url(path))
            .bearer_auth(&token)
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(
        get("/deploys/check?service=fares&version=2.4.0&environment=production").await,
        200
    );
    assert_eq!((get("/errors").await, get("/keys").await), (403, 403));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_instances_and_a_restart_say_each_flag_once() {
    const FLAGS: &str = "SELECT string_agg(kind, ' ') FROM flag";
    let service = service();
    let mut one = service.start().await;
    let two = service.start().await;
    let minutes = |ago: std::ops::Range<u64>, version: &'static str, failing: &'static [&'static str]| -> Vec<Value> {
        ago.map(|ago| {
            minute(
                ago,
                version,
                20,
                &failing.iter().map(|name| (*name, 1)).collect::<Vec<_>>(),
            )
        })
        .collect()
    };
    send(&one, minutes(40..100, "2.3.9", &["Timeout"])).await;
    send(&two, minutes(20..40, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    let flags = async || two.service().row(FLAGS).await;
    let once = [Some("new".to_owned())];
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    while flags().await != once {
        assert!(std::time::Instant::now() < until, "{:?}", flags().await);
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    // Killed in the middle, started again, with more of the same from both.
    one.kill_and_restart().await;
    send(&one, minutes(10..20, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    send(&two, minutes(3..10, "2.4.0", &["Timeout", "DivisionByZero"])).await;
    let has_all = "SELECT (sum(n) >= 37)::text FROM tally_day JOIN cause ON cause.id = cause_id JOIN error_group ON \
        error_group.id = error_id WHERE type = 'DivisionByZero'";
    assert_eq!(two.service().row(has_all).await, [Some("true".to_owned())]);
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    assert_eq!(flags().await, once);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_new_is_said_within_seconds_and_once() {
    const FLAGS: &str = "SELECT coalesce(string_agg(kind, ' '), '') FROM flag JOIN error_group ON error_group.id = \
        error_id WHERE type = 'Overbooked'";
    let running = service().start().await;
    send(
        &running,
        (2..100)
            .map(|ago| minute(ago, "2.3.9", 20, &[("Timeout", ago % 2)]))
            .collect(),
    )
    .await;
    // It has read what was: all of it occurred before what comes now.
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    let sent = std::time::Instant::now();
    send(&running, vec![minute(0, "2.3.9", 1, &[("Overbooked", 1)])]).await;
    while running.service().row(FLAGS).await != [Some("new".to_owned())] {
        // A minute is whole a minute after its end: so soon it is not.
        assert!(
            sent.elapsed() < std::time::Duration::from_secs(25),
            "not said within seconds"
        );
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    tokio::time::sleep(std::time::Duration::from_secs(12)).await;
    assert_eq!(running.service().row(FLAGS).await, [Some("new".to_owned())]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flag_that_late_data_proves_wrong_is_taken_back_for_all_to_see() {
    let running = service().start().await;
    let mut minutes: Vec<Value> = (40..100)
        .map(|ago| minute(ago, "2.3.9", 20, &[("Timeout", ago % 2)]))
        .collect();
    minutes.extend((3..40).map(|ago| minute(ago, "2.4.0", 20, &[("Timeout", ago % 2), ("DivisionByZero", 1)])));
    send(&running, minutes).await;
    let check = || {
        let output = running.client(&[
            "deploy",
            "check",
            "fares@2.4.0",
            "--environment",
            "production",
            "--fail-on",
            "new,surging",
            "--json",
        ]);
        serde_json::from_slice::<Value>(&output.stdout).unwrap_or_default()
    };
    let until = std::time::Instant::now() + std::time::Duration::from_secs(40);
    while check()["outcome"] != "flagged" {
        assert!(std::time::Instant::now() < until, "{}", check());
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    let reference = check()["flags"][0]["ref"].as_str().unwrap_or_default().to_owned();
    // A host was cut off: what it sends now occurred hours before the deploy.
    send(
        &running,
        (200..240)
            .map(|ago| minute(ago, "2.3.9", 20, &[("DivisionByZero", 1)]))
            .collect(),
    )
    .await;
    while check()["outcome"] == "flagged" {
        assert!(
            std::time::Instant::now() < until + std::time::Duration::from_secs(40),
            "{}",
            check()
        );
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    let answer = check();
    assert_eq!(answer["flags"], json!([]));
    assert_eq!(
        (&answer["withdrawn"][0]["ref"], &answer["withdrawn"][0]["flag"]),
        (&json!(reference), &json!("new"))
    );
    let shown = running.client(&["deploy", "check", "fares@2.4.0", "--environment", "production"]);
    let text = String::from_utf8(shown.stdout).unwrap();
    assert!(text.contains(&format!("taken back: new {reference}")), "{text}");
    // The error's own page says so too, and it is new no more.
    let error: Value = serde_json::from_slice(&running.client(&["show", &reference, "--json"]).stdout).unwrap();
    assert_eq!(error["flags"], json!([]));
    assert!(error["flagged"][0]["withdrawn_at"].is_string(), "{error}");
    assert_eq!(
        running
            .service()
            .row("SELECT count(*)::text FROM flag WHERE withdrawn_at IS NOT NULL")
            .await,
        [Some("1".to_owned())]
    );
}
