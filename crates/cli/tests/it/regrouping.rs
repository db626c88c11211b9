//! People's changes to grouping: tried first, then made; they hold for what is known and what comes, and are undone.

use std::collections::BTreeMap;

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

/// A log record with an exception thrown in a function of `tariff.py`.
async fn fail(running: &Running, function: &str, season: &str, n: u64) {
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap();
    let stack = format!(
        "Traceback (most recent call last):\n  File \"/srv/fares/app.py\", line 9, in dispatch\n    x\n  File \
         \"/srv/fares/rates/tariff.py\", line 92, in {function}\n    x\nKeyError: '{n}'"
    );
    let record = json!({"timeUnixNano": (now - n * 1_000_000_000).to_string(), "severityNumber": 17,
        "body": {"stringValue": format!("failed {n}")},
        "attributes": [text("exception.type", "KeyError"), text("exception.message", &n.to_string()),
            text("exception.stacktrace", &stack), text("season", season)]});
    let resource = json!({"attributes": [text("service.name", "fares"), text("service.version", "2.4.0")]});
    let body = json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": [record]}]}]});
    let answer = running
        .post("/v1/logs")
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
}

/// Counts by own frame, with the reference.
async fn errors(running: &Running) -> BTreeMap<String, (String, u64)> {
    let items = running.errors().await;
    let name = |item: &Value| {
        format!(
            "{} {}",
            item["own_frame"].as_str().unwrap_or_default(),
            item["title"].as_str().unwrap()
        )
    };
    items
        .iter()
        .map(|item| {
            (
                name(item),
                (
                    item["ref"].as_str().unwrap().to_owned(),
                    item["count"].as_u64().unwrap(),
                ),
            )
        })
        .collect()
}

async fn counts(running: &Running) -> Vec<u64> {
    let mut counts: Vec<u64> = errors(running).await.values().map(|(_, count)| *count).collect();
    counts.sort_unstable();
    counts
}

async fn reference_of(running: &Running, own_frame: &str) -> String {
    errors(running)
        .await
        .iter()
        .find(|(name, _)| name.contains(own_frame))
        .unwrap()
        .1
        .0
        .clone()
}

fn change(running: &Running, arguments: &[&str]) -> Value {
    running.client_json(&[&["grouping"], arguments].concat())
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_joined_by_hand_are_one_until_it_is_undone() {
    let running = service().start().await;
    for (function, n) in [("quote", 1), ("quote", 2), ("quote", 3), ("refund", 4)] {
        fail(&running, function, "summer", n).await;
    }
    let (quote, refund) = (
        reference_of(&running, "quote").await,
        reference_of(&running, "refund").await,
    );
    let tried = change(&running, &["join", &quote, &refund, "--dry-run"]);
    assert_eq!(
        (&tried["id"], &tried["sentence"]),
        (&Value::Null, &"would join 2 errors into 1".into())
    );
    assert_eq!(counts(&running).await, [1, 3], "a dry run changes nothing");

    let made = change(&running, &["join", &quote, &refund]);
    fail(&running, "refund", "summer", 5).await;
    assert_eq!(counts(&running).await, [5]);
    // The reference that went in still leads somewhere.
    assert_eq!(running.client_json(&["show", &refund])["ref"], quote.as_str());
    let causes = running.client_json(&["grouping", "causes", &quote]);
    assert_eq!(
        causes["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|cause| cause["count"].as_u64().unwrap())
            .collect::<Vec<_>>(),
        [3, 2]
    );

    // A part is taken out again by its cause, into an error of its own; then each change is undone,
    // the later one first.
    let off = change(
        &running,
        &["split", &quote, "--cause", &causes["items"][1]["id"].to_string()],
    );
    assert_eq!(counts(&running).await, [2, 3]);
    assert_ne!(reference_of(&running, "refund").await, refund);
    let too_early = running.client(&["grouping", "undo", &made["id"].to_string()]);
    assert_eq!(too_early.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&too_early.stderr).contains("undo that one first"));
    for id in [&off["id"], &made["id"]] {
        assert!(running.client(&["grouping", "undo", &id.to_string()]).status.success());
    }
    assert_eq!(
        (counts(&running).await, reference_of(&running, "refund").await),
        (vec![2, 3], refund)
    );
    let history = running.client_json(&["grouping", "changes", &quote]);
    let undone = history["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|item| item["undone_by"].is_string())
        .count();
    assert_eq!(
        (history["items"].as_array().unwrap().len(), undone),
        (2, 2),
        "{history:#}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_split_by_an_attribute_keeps_its_largest_part_also_on_another_instance() {
    let mut running = service().start().await;
    for (season, n) in [("summer", 1), ("summer", 2), ("winter", 3)] {
        fail(&running, "quote", season, n).await;
    }
    let quote = reference_of(&running, "quote").await;
    let made = change(&running, &["split", &quote, "--by", "season"]);
    assert_eq!(
        made["split"][0]["parts"][0],
        json!({"title": "KeyError: {text} (season = winter)", "count": 1})
    );
    for (season, n) in [("summer", 4), ("winter", 5), ("spring", 6)] {
        fail(&running, "quote", season, n).await;
    }
    // Started anew, as another instance would be: the rule is in the database, not in a process.
    running.kill_and_restart().await;
    fail(&running, "quote", "winter", 7).await;
    let split = errors(&running).await;
    let of = |season: &str| {
        split
            .iter()
            .find(|(name, _)| name.contains(season))
            .map(|(_, (_, count))| *count)
    };
    assert_eq!(
        (
            of("winter"),
            of("spring"),
            split.values().find(|(reference, _)| *reference == quote).unwrap().1
        ),
        (Some(2), Some(1), 4)
    );

    assert!(
        running
            .client(&["grouping", "undo", &made["id"].to_string()])
            .status
            .success()
    );
    fail(&running, "quote", "winter", 8).await;
    // What was split off while the rule held comes back; a value first seen meanwhile had become an
    // error and stays one.
    assert_eq!(counts(&running).await, [1, 7]);
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_hold_for_what_is_known_and_make_no_new_error_of_it() {
    let running = service().start().await;
    for (function, n) in [("quote", 1), ("quote", 2), ("refund", 3), ("season_of", 4)] {
        fail(&running, function, "summer", n).await;
    }
    let quote = reference_of(&running, "quote").await;
    let joined = change(
        &running,
        &[
            "join-where",
            "fares",
            "function in (refund, season_of) and season = summer",
        ],
    );
    assert_eq!(joined["sentence"], "joined 2 errors into 1");
    fail(&running, "season_of", "summer", 5).await;
    fail(&running, "season_of", "winter", 6).await;
    // A cause goes over whole: what is known by it goes with it.
    assert_eq!(counts(&running).await, [2, 4], "{:?}", errors(&running).await);
    assert!(
        running
            .client(&["grouping", "undo", &joined["id"].to_string()])
            .status
            .success()
    );

    // Without the frames of tariff.py all were thrown by the same own code.
    let own_code = ["own-code", "fares", "--library", "rates/"];
    let tried = change(&running, &[&own_code[..], &["--dry-run"]].concat());
    assert_eq!(
        (&tried["sentence"], &tried["joined"][0]["into"]["ref"]),
        (&"would join 3 errors into 1".into(), &quote.as_str().into())
    );
    let made = change(&running, &own_code);
    fail(&running, "refund", "summer", 7).await;
    assert_eq!(counts(&running).await, [7]);
    let why = running.get(&format!("/api/v1/errors/{quote}/explanation")).await.1;
    assert!(
        why["counted"].to_string().contains("app:dispatch") || why["counted"].to_string().contains("app.py:dispatch"),
        "{why:#}"
    );

    assert!(
        running
            .client(&["grouping", "undo", &made["id"].to_string()])
            .status
            .success()
    );
    assert_eq!(counts(&running).await.iter().sum::<u64>(), 7);
    fail(&running, "season_of", "summer", 8).await;
    assert_eq!(
        counts(&running).await.len(),
        3,
        "undone, nothing is new: {:?}",
        errors(&running).await
    );

    for (arguments, said) in [
        (
            &["join-where", "fares", "count > 3"][..],
            "a rule looks at one occurrence as it comes in",
        ),
        (&["join-where", "fares", "season = monsoon"], "nothing to join"),
        (&["own-code", "ferries", "--own", "app"], "there is no service ferries"),
        (&["split", &quote, "--by", "colour"], "has colour"),
        (&["join", &quote, &quote], "at least one other error"),
        (&["undo", "4711"], "there is no change 4711"),
    ] {
        let refused = running.client(&[&["grouping"], arguments].concat());
        let message = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(
            refused.status.code() == Some(2) && message.contains(said),
            "{arguments:?}: {message}"
        );
    }
}
