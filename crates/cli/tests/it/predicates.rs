//! Predicates over recorded data: the command line and the API narrow to what holds.

use outcrop_testkit::{Running, recorded, restamped};
use serde_json::Value;

use crate::support::service;

async fn with_data() -> Running {
    let running = service().start().await;
    let bodies = [
        "three-services-1-gangway.traces.json",
        "three-services-2-sailings.traces.pb",
        "three-services-3-fares.traces.pb",
        "mixed-batch-gangway.traces.json",
        "user-headers-gangway.traces.json",
        "sql-error-manifest.traces.pb.gz",
        "cause-gangway-logs.logs.json",
    ];
    for body in restamped(&bodies.map(recorded)) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    running
}

fn matching(running: &Running, predicate: &str) -> Vec<Value> {
    let page = running.client_json(&["errors", "--where", predicate]);
    page["items"].as_array().unwrap().clone()
}

fn total(errors: &[Value]) -> i64 {
    errors.iter().map(|error| error["count"].as_i64().unwrap()).sum()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_predicate_narrows_to_the_occurrences_it_holds_for() {
    let running = with_data().await;
    let all = matching(&running, "count > 0");
    assert!(all.len() >= 5, "{all:#?}");

    // Each of these and its opposite share all occurrences out between them: nothing is lost, nothing counted twice.
    for test in [
        "service = fares",
        "service in (fares, gangway)",
        "version like '2.*'",
        "version >= 0.0.1",
        "uncaught",
        "severity >= error",
        "type contains error",
        "endpoint is set",
        "user is set",
        "http.response.status_code >= 500",
        "http.route like '/v1/*'",
        "function contains quote",
        "file like '*.py'",
        "telemetry.sdk.language = python",
        "kind = database",
        "first_seen > 1h ago",
        "attention >= 30",
        "\"a\"",
        "no.such.attribute is set",
    ] {
        let (holds, rest) = (matching(&running, test), matching(&running, &format!("not ({test})")));
        assert_eq!(total(&holds) + total(&rest), total(&all), "{test}");
    }
    let names = |errors: &[Value]| -> Vec<String> {
        let mut names: Vec<String> = errors
            .iter()
            .map(|error| error["service"].as_str().unwrap().to_owned())
            .collect();
        names.sort();
        names.dedup();
        names
    };
    assert_eq!(
        names(&matching(
            &running,
            "telemetry.sdk.language = python and service != sailings"
        )),
        ["fares"]
    );
    assert_eq!(
        names(&matching(&running, "file contains '.js' and not service = sailings")),
        ["gangway", "manifest"]
    );

    // Any attribute of an occurrence finds at least that occurrence, and the list of occurrences agrees with the count.
    let reference = all[0]["ref"].as_str().unwrap();
    let latest = &running.client_json(&["occurrences", reference])["items"][0];
    let full = running.client_json(&["occurrence", latest["id"].as_str().unwrap()]);
    let plain = full["attributes"]
        .as_object()
        .unwrap()
        .iter()
        .chain(full["resource"].as_object().unwrap());
    for (name, value) in plain.filter(|(_, value)| value.is_string() || value.is_number()) {
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned)
            .replace('\\', "\\\\")
            .replace('"', "\\\"");
        let predicate = format!("{reference} and {name} = \"{text}\"");
        let found = matching(&running, &predicate);
        assert!(total(&found) > 0, "{predicate}");
        let listed = running.client_json(&["occurrences", reference, "--where", &predicate]);
        assert_eq!(
            i64::try_from(listed["items"].as_array().unwrap().len()).unwrap(),
            total(&found),
            "{predicate}"
        );
        let shown = running.client_json(&["show", reference, "--where", &predicate]);
        assert_eq!(shown["count"].as_i64().unwrap(), total(&found), "{predicate}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mistake_is_marked_and_a_beginning_is_completed() {
    let running = with_data().await;
    let output = running.client(&["errors", "--where", "service = fares adn uncaught"]);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(
        said.contains("  service = fares adn uncaught\n                  ^^^\n")
            && said.contains("did you mean `and`?"),
        "{said}"
    );
    let (status, problem) = running.get("/api/v1/errors?where=servcie").await;
    assert_eq!(
        (status, &problem["code"], &problem["at"], &problem["length"]),
        (400, &"bad_predicate".into(), &0.into(), &7.into())
    );

    let offers = async |text: &str| {
        let query = format!(
            "/api/v1/predicate/complete?text={}",
            text.replace(' ', "%20").replace('"', "%22").replace('=', "%3D")
        );
        let (status, completion) = running.get(&query).await;
        assert_eq!(status, 200, "{completion}");
        completion["offers"]
            .as_array()
            .unwrap()
            .iter()
            .map(|offer| offer.as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert!(
        offers("ser").await.starts_with(&["service".to_owned()]),
        "{:?}",
        offers("ser").await
    );
    assert!(offers("http.ro").await.contains(&"http.route".to_owned()));
    assert_eq!(offers("service = far").await, ["fares"]);
    let routes = offers("http.route = \"/").await;
    assert!(
        !routes.is_empty() && routes.iter().all(|route| route.contains('/')),
        "{routes:?}"
    );
    assert_eq!(offers("service = fares a").await, ["and"]);
}
