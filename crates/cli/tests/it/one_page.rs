//! One error on one page: its source, variables, request, users, and the slices it falls into.

use std::path::Path;

use outcrop_testkit::Running;
use serde_json::{Value, json};

use crate::support::service;

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

/// A request that fails in a call to its database, told by two spans.
async fn fail(running: &Running, service: &str, n: u64, user: &str, commit: &str) {
    let now = u64::try_from(
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_nanos(),
    )
    .unwrap();
    let stack = "Traceback (most recent call last):\n  File \"/srv/fares/app/tariff.py\", line 3, in quote\n    \
        x\nTimeoutError: no connection";
    let frames = r#"[{"function": "quote", "variables": {"metres": 12, "db_password": "hunter2-of-skerry"}}]"#;
    let time = |millis: u64| (now - n * 1_000_000_000 + millis * 1_000_000).to_string();
    let entry = json!({"traceId": format!("{:032x}", n + 1), "spanId": format!("{:016x}", n + 1), "name": "GET \
        /v1/quotes", "kind": 2,
        "startTimeUnixNano": time(0), "endTimeUnixNano": time(20), "status": {"code": 2},
        "attributes": [text("http.request.method", "GET"), text("http.route", "/v1/quotes"), text("url.query",
            "metres=12&deck=car"), text("user.id", user),
            text("server.address", "api.skerry.example"), text("http.request.header.referer",
                "https://timetables.example/x")],
        "events": [{"name": "exception", "timeUnixNano": time(19), "attributes": [text("exception.type",
            "TimeoutError"),
            text("exception.message", "no \
                connection"), text("exception.stacktrace", stack), text("outcrop.frames", frames)]}]});
    let call = json!({"traceId": format!("{:032x}", n + 1), "spanId": format!("{:016x}", n + 1_001),
        "parentSpanId": format!("{:016x}", n + 1), "name": "SELECT",
        "kind": 3, "startTimeUnixNano": time(1), "endTimeUnixNano": time(18), "status": {"code": 2},
            "attributes": [text("db.system.name", "postgresql")]});
    let resource = json!({"attributes": [text("service.name", service), text("service.namespace", "skerry-line"),
        text("service.version", "2.4.0"),
        text("vcs.ref.head.revision", commit), text("cloud.region", if n.is_multiple_of(2) { "north" } else {
            "south" })]});
    let body = json!({"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": [entry, call]}]}]});
    let answer = running
        .post("/v1/traces")
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
}

/// A repository with two commits of one file; returns the first one's id.
fn repository(folder: &Path) -> String {
    let git = |arguments: &[&str]| {
        let done = std::process::Command::new("git")
            .args(["-c", "user.name=purser", "-c", "user.email=purser@skerry.example", "-C"])
            .arg(folder)
            .args(arguments)
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap().trim().to_owned()
    };
    git(&["init", "-q"]);
    std::fs::create_dir_all(folder.join("app")).unwrap();
    std::fs::write(
        folder.join("app/tariff.py"),
        "import rates\ndef quote(metres):\n    return rates.read(metres)\n",
    )
    .unwrap();
    git(&["add", "."]);
    git(&["commit", "-qm", "quotes"]);
    let first = git(&["rev-parse", "HEAD"]);
    std::fs::write(folder.join("app/tariff.py"), "# moved\n").unwrap();
    git(&["commit", "-qam", "moved"]);
    first
}

#[tokio::test(flavor = "multi_thread")]
async fn an_occurrence_shows_its_source_variables_and_request() {
    let folder = tempfile::tempdir().unwrap();
    let commit = repository(folder.path());
    let running = service()
        .start_with(&["--checkout", &format!("fares={}", folder.path().display())])
        .await;
    fail(&running, "fares", 1, "u-7", &commit).await;
    let template = "https://git.skerry.example/{service}/{revision}/{path}#L{line}";
    for arguments in [
        &["services", "set", "all", "--source-url", template][..],
        &["services", "set", "fares", "--source-root", "/srv/fares"],
    ] {
        assert!(running.client(arguments).status.success());
    }
    let bad = running.client(&[
        "services",
        "set",
        "fares",
        "--source-url",
        "https://git.skerry.example/{branch}/{path}",
    ]);
    assert!(bad.status.code() == Some(2) && String::from_utf8_lossy(&bad.stderr).contains("{branch} is not known"));

    let reference = running.errors().await[0]["ref"].as_str().unwrap().to_owned();
    let id = running.client_json(&["occurrences", &reference])["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let occurrence = running.client_json(&["occurrence", &id]);
    let frame = &occurrence["stack"]["exceptions"][0]["frames"][0];
    assert_eq!(
        frame["link"],
        format!("https://git.skerry.example/fares/{commit}/app/tariff.py#L3")
    );
    // At the commit that ran, not as it is checked out now.
    assert_eq!(
        frame["source"],
        json!({"first": 1, "lines": ["import rates", "def quote(metres):", "    return \
            rates.read(metres)"], "from": commit})
    );
    assert_eq!(
        frame["variables"],
        json!([{"name": "metres", "value": "12"}, {"name": "db_password", "value": "[removed: password]"}])
    );
    let parts: Vec<(&str, usize)> = occurrence["request"]
        .as_array()
        .unwrap()
        .iter()
        .map(|part| (part["title"].as_str().unwrap(), part["rows"].as_array().unwrap().len()))
        .collect();
    assert_eq!(
        parts,
        [
            ("Asked", 3),
            ("Query", 2),
            ("Who", 1),
            ("Client", 1),
            ("Times and sizes", 1),
            ("Headers", 1)
        ],
        "{:#}",
        occurrence["request"]
    );
    assert_eq!(occurrence["request"][3]["rows"][0]["label"], "referrer (foreign page)");
    let shown = String::from_utf8(running.client(&["occurrence", &id]).stdout).unwrap();
    assert!(
        shown.contains("> 3     return rates.read(metres)")
            && shown.contains("metres = 12")
            && shown.contains("referrer (foreign page)"),
        "{shown}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_are_sliced_by_any_field_and_by_saved_predicates() {
    let running = service().start().await;
    for n in 0..6 {
        fail(
            &running,
            if n < 4 { "fares" } else { "stowage" },
            n,
            &format!("u-{}", n / 2),
            "",
        )
        .await;
    }
    assert!(
        running
            .client(&[
                "services",
                "set",
                "all",
                "--instance-group",
                "cloud.region",
                "--customer",
                "user.id"
            ])
            .status
            .success()
    );
    let parts = |by: &str| {
        let list = running.client_json(&["parts", by]);
        let items = list["items"].as_array().unwrap().clone();
        items
            .iter()
            .map(|item| {
                (
                    item["value"].as_str().unwrap().to_owned(),
                    item["occurrences"].as_u64().unwrap(),
                )
            })
            .collect::<Vec<_>>()
    };
    let of = |expected: &[(&str, u64)]| {
        expected
            .iter()
            .map(|(value, count)| ((*value).to_owned(), *count))
            .collect::<Vec<_>>()
    };
    assert_eq!(parts("touches"), of(&[("database", 6)]));
    assert_eq!(parts("kind"), of(&[("timeout", 6)]));
    assert_eq!(parts("namespace"), of(&[("skerry-line", 6)]));
    assert_eq!(parts("group"), of(&[("north", 3), ("south", 3)]));
    assert_eq!(parts("customer"), of(&[("u-0", 2), ("u-1", 2), ("u-2", 2)]));
    assert_eq!(parts("service"), of(&[("fares", 4), ("stowage", 2)]));

    // People's weights move an error up or down, by its service and, above that, by its endpoint.
    let attention = || {
        let errors = running.client_json(&["errors", "--service", "stowage"]);
        errors["items"][0]["attention"]["score"].as_u64().unwrap()
    };
    let endpoint = running.client_json(&[
        "show",
        running.client_json(&["errors", "--service", "stowage"])["items"][0]["ref"]
            .as_str()
            .unwrap(),
    ])["endpoints"][0]["endpoint"]
        .as_str()
        .unwrap()
        .to_owned();
    let usual = attention();
    let set = |arguments: &[&str]| running.client(&[&["services", "set", "stowage"], arguments].concat());
    assert!(set(&["--weight", "1.5"]).status.success());
    assert!(attention() > usual, "{usual}");
    assert!(set(&["--endpoint-weight", &format!("{endpoint}=0.2")]).status.success());
    assert!(attention() < usual, "{usual}");
    let said = running.client_json(&["services", "show", "stowage"]);
    assert_eq!(
        (&said["weight"], &said["endpoint_weights"][0]["factor"]),
        (&json!(1.5), &json!(0.2)),
        "{said}"
    );
    assert!(
        set(&["--endpoint-weight", &format!("{endpoint}=1"), "--weight", "1"])
            .status
            .success()
    );
    // It depends on the time of day too: the hour may have turned in between.
    assert!(attention().abs_diff(usual) <= 1, "{usual}");
    let refused = set(&["--weight", "9"]);
    assert!(
        refused.status.code() == Some(2) && String::from_utf8_lossy(&refused.stderr).contains("it must be 0.1 to 4")
    );

    assert!(
        running
            .client(&["slices", "save", "north of fares", "service = fares and group = north"])
            .status
            .success()
    );
    let counted = |predicate: &str| {
        running.client_json(&["errors", "--where", predicate])["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|item| item["count"].as_u64().unwrap())
            .sum::<u64>()
    };
    assert_eq!(counted("slice = \"north of fares\""), 2);
    assert_eq!(counted("not slice = \"north of fares\" and touches = database"), 4);
    assert_eq!(counted("group = south and customer = u-0"), 1);
    let nested = running.client(&["slices", "save", "twice", "slice = \"north of fares\""]);
    assert!(String::from_utf8_lossy(&nested.stderr).contains("may not name another slice"));
    assert!(running.client(&["slices", "remove", "north of fares"]).status.success());
    assert_eq!(counted("slice = \"north of fares\""), 0);

    let fares = running.client_json(&["errors", "--service", "fares"])["items"][0]["ref"]
        .as_str()
        .unwrap()
        .to_owned();
    let page = running.client_json(&["users", &fares, "--limit", "1"]);
    assert_eq!(
        (
            &page["items"][0]["user"],
            &page["items"][0]["occurrences"],
            &page["items"][0]["errors"]
        ),
        (&"u-0".into(), &2.into(), &1.into())
    );
    let next = running.client_json(&[
        "users",
        &fares,
        "--limit",
        "5",
        "--cursor",
        page["next"].as_str().unwrap(),
    ]);
    assert_eq!(
        (
            next["items"].as_array().unwrap().len(),
            &next["items"][0]["user"],
            &next["next"]
        ),
        (1, &"u-1".into(), &Value::Null)
    );
}
