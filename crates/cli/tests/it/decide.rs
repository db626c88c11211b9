//! Was it the deploy: what it brought, why an error is there, what got slower or better, what else
//! changed; and what people do then.

use std::fmt::Write as _;
use std::path::Path;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use git2::{Repository, Signature};
use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::{eventually, service};

/// One of a minute's requests: how long it took, and the line of app/tariff.py it failed at, if it did.
pub struct Request {
    millis: u64,
    fails_at: Option<u32>,
}

pub fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()
}

pub fn minute(ago: u64, version: &str, requests: &[Request]) -> Value {
    from((now() / 60 - ago) * 60, version, requests)
}

/// Requests from a second since 1970 on.
pub fn from(second: u64, version: &str, requests: &[Request]) -> Value {
    let start = second * 1_000_000_000;
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let spans: Vec<Value> = (0_u64..)
        .zip(requests)
        .map(|(number, request)| {
            let begin = start + number * 100_000_000;
            let events: Vec<Value> = request
                .fails_at
                .map(|line| {
                    let stack = format!(
                        "Traceback (most recent call last):\n  File \"/srv/fares/app/tariff.py\", \
                        line {line}, in quote_{line}\n    x\nNoFare: no fare"
                    );
                    json!({"name": "exception", "timeUnixNano": (begin + 5_000_000).to_string(),
                        "attributes": [text("exception.type", "NoFare"),
                        text("exception.message", "no fare"), text("exception.stacktrace", &stack)]})
                })
                .into_iter()
                .collect();
            json!({"traceId": format!("{:032x}", u128::from(start) << 32 | u128::from(number + 1)),
                "spanId": format!("{:016x}", start ^ (number + 1)),
                "name": "POST /v1/quotes", "kind": 2, "startTimeUnixNano": begin.to_string(),
                    "endTimeUnixNano": (begin + request.millis * 1_000_000).to_string(),
                "attributes": [text("http.route", "/v1/quotes"), text("season", if request.fails_at == Some(92) {
                    "winter" } else { "summer" })],
                "events": events, "status": if request.fails_at.is_some() { json!({"code": 2}) } else { json!({}) }})
        })
        .collect();
    let resource = json!({"attributes": [text("service.name", "fares"), text("service.version", version),
        text("deployment.environment.name", "production")]});
    json!({"resource": resource, "scopeSpans": [{"spans": spans}]})
}

pub async fn send(running: &Running, minutes: Vec<Value>) {
    for chunk in minutes.chunks(40) {
        let body = json!({"resourceSpans": chunk}).to_string();
        assert_eq!(
            running
                .post("/v1/traces")
                .header("content-type", "application/json")
                .body(body)
                .send()
                .await
                .unwrap()
                .status(),
            200
        );
    }
}

pub fn requests(count: u64, millis: u64, failing: &[u32]) -> Vec<Request> {
    (0..count)
        .map(|n| Request {
            millis: millis + n % 7,
            fails_at: failing.get(usize::try_from(n).unwrap()).copied(),
        })
        .collect()
}

/// A repository in which two commits follow the revision `before`: one changed line 92 of
/// app/tariff.py, one another file.
fn repository(folder: &Path) {
    let repository = Repository::init(folder).unwrap();
    std::fs::create_dir(folder.join("app")).unwrap();
    let commit = |author: &str, summary: &str, file: &str, content: &str| {
        std::fs::write(folder.join(file), content).unwrap();
        let mut index = repository.index().unwrap();
        index.add_path(Path::new(file)).unwrap();
        index.write().unwrap();
        let tree = repository.find_tree(index.write_tree().unwrap()).unwrap();
        let by = Signature::now(author, "crew@skerry.example").unwrap();
        let parent = repository.head().ok().map(|head| head.peel_to_commit().unwrap());
        repository
            .commit(
                Some("HEAD"),
                &by,
                &by,
                summary,
                &tree,
                &parent.iter().collect::<Vec<_>>(),
            )
            .unwrap()
    };
    let lines = |changed: &str| {
        (1..=120).fold(String::new(), |mut text, n| {
            writeln!(
                text,
                "{}",
                if n == 92 {
                    changed.to_owned()
                } else {
                    format!("line {n}")
                }
            )
            .unwrap();
            text
        })
    };
    commit(
        "tariff clerk",
        "owners",
        "CODEOWNERS",
        "* @skerry/fares\n/app/tariff.py @skerry/tariff-desk\n",
    );
    let before = commit("tariff clerk", "tariffs", "app/tariff.py", &lines("return rate"));
    repository
        .tag_lightweight("before", &repository.find_object(before, None).unwrap(), false)
        .unwrap();
    commit(
        "quay master",
        "free metres differ by season",
        "app/tariff.py",
        &lines("return rate / metres"),
    );
    commit("tariff clerk", "quotes say their tariff", "app/quotes.py", "tariff\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deploy_is_held_against_what_was_before_and_the_commit_that_did_it_is_named() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    repository(folder.path());
    let mut minutes: Vec<Value> = (20..150)
        .map(|ago| {
            minute(
                ago,
                "2.3.9",
                &requests(8, 40, if ago > 60 && ago % 9 == 0 { &[30] } else { &[] }),
            )
        })
        .collect();
    minutes.extend((3..20).map(|ago| minute(ago, "2.4.0", &requests(8, 140, &[92]))));
    send(&running, minutes).await;
    let recorded = running.client(&[
        "deploy",
        "record",
        "fares@2.4.0",
        "--environment",
        "production",
        "--repo",
        folder.path().to_str().unwrap(),
        "--from",
        "before",
    ]);
    assert!(
        String::from_utf8_lossy(&recorded.stdout).starts_with("Recorded with 2 commits."),
        "{recorded:?}"
    );
    let wrong = running.client(&[
        "deploy",
        "record",
        "fares@2.4.0",
        "--environment",
        "production",
        "--repo",
        folder.path().to_str().unwrap(),
        "--from",
        "nowhere",
    ]);
    assert_eq!(wrong.status.code(), Some(2));
    let marked = running.client_json(&[
        "marker",
        "record",
        "mail relay moved",
        "--kind",
        "configuration",
        "--environment",
        "production",
    ]);
    assert_eq!(
        (&marked["check"]["outcome"], &marked["service"]),
        (&json!("too early"), &Value::Null)
    );

    let show = || running.client_json(&["deploy", "show", "fares@2.4.0", "--environment", "production"]);
    eventually("the new error is flagged", Duration::from_secs(90), || {
        show()["deploy"]["check"]["flags"]
            .as_array()
            .is_some_and(|flags| !flags.is_empty())
    })
    .await;
    let detail = show();
    let endpoint = &detail["endpoints"][0];
    assert_eq!(
        (&endpoint["endpoint"], &endpoint["changes"]),
        (&json!("/v1/quotes"), &json!(["fails more", "slower"])),
        "{endpoint}"
    );
    assert_eq!(
        (&endpoint["requests"], &endpoint["failed"], &endpoint["failed_before"]),
        (&json!(136), &json!(17), &json!(10))
    );
    assert_eq!(
        (&detail["stopped"][0]["count"], &detail["markers"][0]["title"]),
        (&json!(10), &json!("mail relay moved"))
    );
    let versions: std::collections::BTreeSet<&str> = detail["versions"]["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| step["version"].as_str().unwrap())
        .collect();
    assert_eq!(versions.into_iter().collect::<Vec<_>>(), ["2.3.9", "2.4.0"]);
    let first = &detail["commits"][0];
    assert_eq!(
        (
            &first["author"],
            &first["touches"][0]["distance"],
            &first["touches"][0]["owners"]
        ),
        (&json!("quay master"), &json!(0), &json!(["@skerry/tariff-desk"]))
    );
    assert_eq!(detail["commits"][1]["touches"], json!([]));

    let reference = detail["deploy"]["check"]["flags"][0]["ref"]
        .as_str()
        .unwrap()
        .to_owned();
    let why = running.client_json(&["why", &reference]);
    let told: Vec<&str> = why["sentences"]
        .as_array()
        .unwrap()
        .iter()
        .map(|sentence| sentence["text"].as_str().unwrap())
        .collect();
    assert!(
        told[0].starts_with("It began with fares 2.4.0: never seen in production before, first at"),
        "{told:?}"
    );
    assert!(
        told.contains(&"All cases have season = winter; usually 0.00 % of the requests do.")
            || told.iter().any(|text| text.contains("season = winter")),
        "{told:?}"
    );
    let id = first["id"].as_str().unwrap().get(..10).unwrap();
    let commit = format!(
        "Commit {id} by quay master, “free metres differ by season”, wrote the very line it fails at, app/tariff.py:92."
    );
    assert!(told.contains(&commit.as_str()), "{told:?}");
    assert!(
        told.last()
            .unwrap()
            .starts_with("History does not reach far: the first telemetry of fares came 2 h before it"),
        "{told:?}"
    );
    assert_eq!(why["owners"], json!(["@skerry/tariff-desk"]));

    let check = |kinds: &str| {
        running
            .client(&[
                "deploy",
                "check",
                "fares@2.4.0",
                "--environment",
                "production",
                "--fail-on",
                kinds,
            ])
            .status
            .code()
    };
    assert_eq!(
        (check("slower"), check("returned"), check("new")),
        (Some(1), Some(3), Some(1))
    );
    let listed = running.client_json(&["marker", "list"]);
    let number = listed["items"][0]["id"].to_string();
    assert!(running.client(&["marker", "remove", &number]).status.success());
    assert_eq!(running.client(&["marker", "remove", &number]).status.code(), Some(4));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_settled_quiet_or_taken_is_found_so_and_what_was_settled_comes_back_by_itself() {
    let running = service().start().await;
    let mut minutes: Vec<Value> = (20..90)
        .map(|ago| minute(ago, "2.3.9", &requests(4, 40, if ago % 10 == 0 { &[30] } else { &[] })))
        .collect();
    minutes.extend((3..20).map(|ago| {
        minute(
            ago,
            "2.4.0",
            &requests(4, 40, if ago % 10 == 0 { &[30, 60] } else { &[] }),
        )
    }));
    send(&running, minutes).await;
    let errors = running.errors().await;
    let of = |function: &str| {
        errors
            .iter()
            .find(|error| {
                error["own_frame"]
                    .as_str()
                    .is_some_and(|frame| frame.contains(function))
            })
            .unwrap()["ref"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let (known, fresh) = (of("quote_30"), of("quote_60"));
    let found = |predicate: &str| -> Vec<String> {
        let list = running.client_json(&["errors", "--where", predicate]);
        list["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|item| item["ref"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!((found("open").len(), found("settled or quiet or taken").len()), (2, 0));

    let act = |arguments: &[&str]| running.client_json(arguments);
    assert_eq!(act(&["take", &fresh, "deck team"])["taken_by"], "deck team");
    assert_eq!(act(&["quiet", &fresh, "--for", "2d"])["open"], false);
    assert_eq!(act(&["settle", &known, "2.4.1"])["settled_in"], "2.4.1");
    act(&["note", &known, "asked the tariff desk"]);
    assert_eq!(
        (
            found("taken by = 'deck team'"),
            found("quiet"),
            found("settled"),
            found("open")
        ),
        (vec![fresh.clone()], vec![fresh.clone()], vec![known.clone()], vec![])
    );
    let item = &running.client_json(&["errors", "--where", "settled"])["items"][0];
    assert_eq!(
        (&item["settled_in"], &item["taken_by"], &item["quiet_until"]),
        (&json!("2.4.1"), &Value::Null, &Value::Null)
    );
    assert_eq!(
        running
            .client(&["quiet", &fresh, "--until-where", "users >"])
            .status
            .code(),
        Some(2)
    );
    // Quiet until something holds for what occurs from now on: it does, and it speaks up by itself.
    act(&["quiet", &fresh, "--until-where", "count >= 2"]);
    act(&["reopen", &known]);
    act(&["settle", &known, "2.4.1"]);
    // What occurs in the minute in which an error is settled counts for neither side: the next one, then.
    while now() % 60 < 3 {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    let next = (now() / 60 + 1) * 60;
    send(&running, vec![from(next, "2.4.1", &requests(6, 40, &[30, 60, 60]))]).await;

    let state = |reference: &str| {
        let url = format!("/api/v1/errors/{reference}/handling");
        tokio::task::block_in_place(|| tokio::runtime::Handle::current().block_on(running.get(&url))).1
    };
    eventually("the quiet one speaks up", Duration::from_mins(1), || {
        state(&fresh)["open"] == true
    })
    .await;
    eventually("the settled one is back", Duration::from_secs(200), || {
        state(&known)["settled_in"].is_null()
    })
    .await;
    let back = state(&known);
    let history: Vec<String> = back["history"]
        .as_array()
        .unwrap()
        .iter()
        .map(|change| {
            format!(
                "{} {}",
                change["verb"].as_str().unwrap(),
                change["what"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(
        history,
        [
            "return 2.4.1",
            "settle 2.4.1",
            "reopen ",
            "note asked the tariff desk",
            "settle 2.4.1"
        ]
    );
    assert_eq!(found("returned"), vec![known.clone()]);
    let item = &running.client_json(&["errors", "--where", "returned"])["items"][0];
    assert_eq!(item["flags"], json!(["returned"]));
}
