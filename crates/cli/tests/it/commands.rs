//! What people read: tables, messages, exit codes.

use outcrop_testkit::{PASSWORD, Running, recorded, restamped};

use crate::support::{python_with, service};

/// Standard output with what differs from run to run taken out.
fn printed(running: &Running, arguments: &[&str]) -> String {
    let output = running.client(arguments);
    assert!(
        output.status.success(),
        "{arguments:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    let text = String::from_utf8(output.stdout).unwrap();
    let words = text.split_inclusive(char::is_whitespace).map(|word| {
        let bare = word.trim_end().trim_end_matches(',');
        let is_hex = bare.len() == 32 && bare.bytes().all(|b| b.is_ascii_hexdigit());
        let is_time = bare.len() == 10 && bare.starts_with("20") && bare.contains('-');
        let is_clock = bare.trim_end_matches([',', '.', ':']).ends_with('Z') && bare.contains(':');
        if is_hex || is_time || is_clock {
            word.replace(|c: char| c.is_ascii_hexdigit(), "0")
        } else {
            word.to_owned()
        }
    });
    // How long ago depends on how busy the machine is.
    let ages = words.collect::<String>();
    ["2 min", "3 min", "4 min"]
        .iter()
        .fold(ages, |text, age| text.replace(age, "1 min"))
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_and_occurrences_read_well_in_a_terminal() {
    let running = service().start().await;
    let empty = printed(&running, &["errors"]);
    assert!(
        empty.starts_with("No error occurred in the last 24h. A test report: outcrop send"),
        "{empty}"
    );
    for body in restamped(
        &[
            "three-services-3-fares.traces.pb",
            "user-headers-gangway.traces.json",
            "cause-gangway-logs.logs.json",
        ]
        .map(recorded),
    ) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    insta::assert_snapshot!("errors", printed(&running, &["errors"]));
    let page = running.client_json(&["errors", "--service", "fares"]);
    let reference = page["items"][0]["ref"].as_str().unwrap();
    insta::assert_snapshot!("show", printed(&running, &["show", reference]));
    let carried = printed(&running, &["show", reference, "--attributes"]);
    let row = |name: &str| {
        carried
            .lines()
            .find(|line| line.starts_with(name))
            .unwrap_or_else(|| panic!("{carried}"))
    };
    assert!(
        row("service.name").contains("fares") && row("service.name").ends_with("100 %"),
        "{carried}"
    );
    insta::assert_snapshot!("occurrences", printed(&running, &["occurrences", reference]));
    let occurrences = running.client_json(&["occurrences", reference]);
    insta::assert_snapshot!(
        "occurrence",
        printed(
            &running,
            &["occurrence", occurrences["items"][0]["id"].as_str().unwrap()]
        )
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_by_hand_is_counted_and_pages_follow_one_another() {
    let running = service().start().await;
    for port in 1..=5 {
        let sent = running.client(&[
            "send",
            "--service",
            "ledger",
            "--type",
            &format!("BatchStopped{}", ["A", "B", "C", "D", "E"][port - 1]),
            "--message",
            &format!("nightly batch stopped at port {port}"),
            "--severity",
            "fatal",
            "--user",
            "purser",
            &format!("port={port}"),
        ]);
        assert!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    }
    let mut seen = vec![];
    let mut cursor: Option<String> = None;
    loop {
        let mut arguments = vec!["errors", "--limit", "2"];
        if let Some(cursor) = &cursor {
            arguments.extend(["--cursor", cursor]);
        }
        let page = running.client_json(&arguments);
        seen.extend(
            page["items"]
                .as_array()
                .unwrap()
                .iter()
                .map(|error| error["type"].as_str().unwrap().to_owned()),
        );
        cursor = page["next"].as_str().map(str::to_owned);
        if cursor.is_none() {
            break;
        }
    }
    seen.sort();
    assert_eq!(
        seen,
        [
            "BatchStoppedA",
            "BatchStoppedB",
            "BatchStoppedC",
            "BatchStoppedD",
            "BatchStoppedE"
        ]
    );
    let page = running.client_json(&["errors", "--limit", "1"]);
    let first = printed(&running, &["errors", "--limit", "1"]);
    assert!(
        first.starts_with("The first 1 of 5 errors with 1 occurrence"),
        "{first}"
    );
    assert_eq!(page["items"][0]["severity"], "fatal");
    assert_eq!(page["items"][0]["users"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_usage_and_refusals_have_their_own_exit_codes_and_say_what_to_do() {
    let running = service().start().await;
    let cases: &[(&[&str], i32, &str)] = &[
        (&["errors", "--since", "soon"], 2, "write it like 30m, 24h or 7d"),
        (&["errors", "--limit", "0"], 2, "it must be 1 to 500"),
        (&["show", "kobal"], 2, "is no reference"),
        (&["show", "kobal-tirun"], 4, "there is no error kobal-tirun"),
        (&["occurrence", "xyz"], 2, "32 hex digits"),
        (
            &["send", "--service", "ledger", "--message", "x", "port"],
            2,
            "write it as key=value",
        ),
        (&["errors", "--url", "http://127.0.0.1:9"], 4, "cannot be reached"),
        (&["errors", "--token", "wrong"], 4, "token is not known"),
        (
            &["send", "--key", "wrong", "--service", "ledger", "--message", "x"],
            4,
            "sender key is not known",
        ),
        (
            &["admin", "token", "create", "nobody@skerry.example"],
            2,
            "there is no member",
        ),
        (&["admin", "key", "revoke", "nothing"], 2, "there is no key"),
        (&["serve", "--max-body", "big"], 2, "16MiB"),
    ];
    for (arguments, code, reason) in cases {
        let output = running.client(arguments);
        let said = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(*code), "{arguments:?}: {said}");
        assert!(said.contains(reason), "{arguments:?}: {said}");
    }
    let key = running
        .service()
        .succeed(&["admin", "key", "create", "short-lived"], "");
    let _said = running
        .service()
        .succeed(&["admin", "key", "revoke", "short-lived"], "");
    let refused = running.client(&["send", "--key", &key, "--service", "ledger", "--message", "x"]);
    assert_eq!(refused.status.code(), Some(4));
    let listed = running.service().succeed(&["admin", "key", "list"], "");
    assert!(
        listed.contains("short-lived") && listed.contains("revoked") && !listed.contains(&key),
        "{listed}"
    );
    let (status, problem) = running.get("/api/v1/errors?colour=red").await;
    assert_eq!((status, problem["code"].as_str()), (400, Some("bad_request")));
    let bare = reqwest::get(format!("{}/api/v1/errors", running.url)).await.unwrap();
    assert_eq!(
        (bare.status().as_u16(), bare.headers()["content-type"].to_str().unwrap()),
        (401, "application/problem+json")
    );
}

#[test]
fn grouping_needs_no_server() {
    let service = outcrop_testkit::Service::new(env!("CARGO_BIN_EXE_outcrop"), "");
    let line = |id: &str, at: u32, service: &str| {
        let stack = format!(
            "Traceback (most recent call last):\n  File \"/srv/{id}/fares/tariff.py\", line {at}, in quote\nKeyError: \
             '{id}'"
        );
        serde_json::json!({"id": id, "service": service, "runtime": "cpython", "type": "KeyError",
            "message": format!("'{id}'"), "stacktrace": stack})
        .to_string()
    };
    let input = [
        line("a", 7, "fares"),
        line("b", 9, "fares"),
        line("c", 9, "ledger"),
        String::new(),
        "{broken".to_owned(),
    ]
    .join("\n");
    let output = service.command(&["group"], &input);
    assert_eq!(
        output.status.code(),
        Some(2),
        "a line that cannot be read is no success"
    );
    assert!(String::from_utf8_lossy(&output.stderr).contains("line 5"));
    let groups: Vec<serde_json::Value> = String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    assert_eq!(groups.len(), 3);
    assert_eq!(groups[0]["group"], groups[1]["group"]);
    assert_ne!(groups[1]["group"], groups[2]["group"]);
    assert_eq!(groups[0]["own_frame"], "tariff.quote fares/tariff.py:7");
}

#[test]
fn grouping_follows_code_over_the_versions_in_any_order_of_lines() {
    let service = outcrop_testkit::Service::new(env!("CARGO_BIN_EXE_outcrop"), "");
    let line = |id: &str, version: &str, functions: &[&str]| {
        let frame = |function: &&str| format!("  File \"/srv/fares/tariff.py\", line 9, in {function}\n    x\n");
        let frames: Vec<String> = functions.iter().map(frame).collect();
        let stack = format!(
            "Traceback (most recent call last):\n{}KeyError: 'season'",
            frames.concat()
        );
        serde_json::json!({"id": id, "service": "fares", "version": version, "type": "KeyError",
            "message": "'season'", "stacktrace": stack})
        .to_string()
    };
    let mut lines = [
        line("new", "2.10.0", &["main", "quote", "timed", "per_metre"]),
        line("old", "2.9.0", &["main", "quote", "per_metre"]),
        line("other", "2.10.0", &["main", "refund", "share"]),
    ];
    for _ in 0..2 {
        let output = service.command(&["group"], &lines.join("\n"));
        let read = |line: &str| serde_json::from_str::<serde_json::Value>(line).unwrap();
        let mut groups: Vec<serde_json::Value> = String::from_utf8(output.stdout).unwrap().lines().map(read).collect();
        groups.sort_by_key(|group| group["id"].as_str().unwrap().to_owned());
        assert_eq!(groups[0]["group"], groups[1]["group"]);
        assert_eq!(groups[0]["moved"], "a frame tariff: timed was added");
        assert_ne!(groups[1]["group"], groups[2]["group"]);
        lines.reverse();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_profile_replaces_the_environment_and_serves_its_own_service_alone() {
    let running = service().start().await;
    let config = tempfile::tempdir().unwrap();
    let run = |arguments: &[&str], input: &str| {
        running.service().command_with(
            arguments,
            input,
            &[("XDG_CONFIG_HOME", config.path().to_str().unwrap())],
        )
    };
    let refused = run(&["login", &running.url, "--token-stdin"], "wrong\n");
    assert_eq!(
        refused.status.code(),
        Some(4),
        "{}",
        String::from_utf8_lossy(&refused.stderr)
    );
    assert_eq!(run(&["errors"], "").status.code(), Some(2), "nothing was kept");
    let done = run(
        &["login", &running.url, "--token-stdin"],
        &format!("{}\n", running.token),
    );
    assert!(
        String::from_utf8_lossy(&done.stdout).starts_with(&format!("You are {} (admin).", running.email)),
        "{done:?}"
    );
    assert!(run(&["errors", "--json"], "").status.success());
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(config.path().join("outcrop/profile.toml"))
            .unwrap()
            .permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    let elsewhere = run(&["errors", "--url", "http://127.0.0.1:9"], "");
    assert_eq!(
        elsewhere.status.code(),
        Some(2),
        "the token is not sent to another service"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn passwords_can_be_changed_and_guessing_them_is_slowed() {
    let running = service().start().await;
    let http = reqwest::Client::new();
    let sign_in = async |email: &str, password: &str| {
        let body = serde_json::json!({"email": email, "password": password}).to_string();
        http.post(format!("{}/api/v1/session", running.url))
            .header("content-type", "application/json")
            .body(body)
            .send()
            .await
            .unwrap()
    };
    let cookie = |answer: &reqwest::Response| {
        answer.headers()["set-cookie"]
            .to_str()
            .unwrap()
            .split(';')
            .next()
            .unwrap()
            .to_owned()
    };
    let (first, second) = (
        sign_in(&running.email, PASSWORD).await,
        sign_in(&running.email, PASSWORD).await,
    );
    let change = async |current: &str, new: &str| {
        let body = serde_json::json!({"current": current, "new": new}).to_string();
        let request = http
            .put(format!("{}/api/v1/session/password", running.url))
            .header("cookie", cookie(&first));
        request
            .header("content-type", "application/json")
            .body(body)
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(change(PASSWORD, "short").await, 400);
    assert_eq!(change("wrong password", "spring tide at ten").await, 401);
    assert_eq!(change(PASSWORD, "spring tide at ten").await, 204);
    let who = async |cookie: String| {
        http.get(format!("{}/api/v1/session", running.url))
            .header("cookie", cookie)
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(
        (who(cookie(&first)).await, who(cookie(&second)).await),
        (200, 401),
        "all other sessions have ended"
    );
    assert_eq!(sign_in(&running.email, "spring tide at ten").await.status(), 200);
    for (address, password) in [
        (running.email.as_str(), "spring tide at ten"),
        ("nobody@skerry.example", "whatever it is"),
    ] {
        for _ in 0..3 {
            assert_eq!(sign_in(address, "wrong password").await.status(), 401);
        }
        let slowed = sign_in(address, password).await;
        assert_eq!(slowed.status(), 429, "even the right one has to wait");
        assert!(slowed.headers().contains_key("retry-after"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn records_are_exported_to_a_file_and_gone_on_with_where_it_was_cut() {
    let running = service().start().await;
    for body in restamped(&[
        recorded("three-services-3-fares.traces.pb"),
        recorded("mixed-batch-gangway.traces.json"),
    ]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let folder = std::env::temp_dir().join(format!("outcrop-export-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("failures.jsonl");
    let path = file.to_str().unwrap();
    let export = |more: &[&str]| {
        let arguments = [&["export", "occurrences", "--since", "1h", "--out", path], more].concat();
        let output = running.client(&arguments);
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    let (code, said) = export(&[]);
    assert_eq!(code, Some(0), "{said}");
    let whole = std::fs::read_to_string(&file).unwrap();
    let count = whole.lines().count();
    assert!(
        count > 1 && said.contains(&format!("{count} occurrences were written to")),
        "{said}"
    );
    let listed = running.client_json(&["errors"]);
    let counts = listed["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| item["count"].as_u64().unwrap());
    assert_eq!(u64::try_from(count).unwrap(), counts.sum::<u64>());

    let (code, said) = export(&[]);
    assert!(
        code == Some(2) && said.contains("go on with --resume"),
        "{code:?} {said}"
    );
    // Cut in the middle of the second line, as by a full disk.
    let cut = whole.find('\n').unwrap() + 20;
    std::fs::write(&file, whole.get(..cut).unwrap()).unwrap();
    let (code, said) = export(&["--resume"]);
    assert_eq!(code, Some(0), "{said}");
    assert_eq!(std::fs::read_to_string(&file).unwrap(), whole);
    let (code, said) = export(&["--resume", "--where", "servcie = fares and"]);
    assert_eq!(code, Some(2), "{said}");

    // As a table, read by another library, from where it was cut.
    let table = folder.join("failures.parquet");
    std::fs::write(folder.join("failures.parquet.jsonl"), whole.get(..cut).unwrap()).unwrap();
    let path = table.to_str().unwrap();
    let arguments = ["export", "occurrences", "--since", "1h", "--out", path];
    let cut_short = running.client(&arguments);
    assert_eq!(cut_short.status.code(), Some(2), "what is there is not written over");
    let output = running.client(&[&arguments[..], &["--resume"]].concat());
    assert_eq!(output.status.code(), Some(0), "{output:?}");
    let script = "import json, sys, pyarrow.parquet as parquet\n\
        for row in parquet.read_table(sys.argv[1]).to_pylist():\n    \
            row['at'] = row['at'].strftime('%Y-%m-%dT%H:%M:%S.%f')[:-3] + 'Z'\n    \
            row['attributes'], row['resource'] = json.loads(row['attributes']), json.loads(row['resource'])\n    \
            print(json.dumps(row))";
    let python = python_with("pyarrow-1", &["pyarrow==22.0.0"]);
    let read = std::process::Command::new(python)
        .args(["-c", script, path])
        .output()
        .unwrap();
    assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    let records = |text: &str| -> Vec<serde_json::Value> {
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    assert_eq!(records(&String::from_utf8(read.stdout).unwrap()), records(&whole));
    let left: Vec<_> = std::fs::read_dir(&folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name())
        .collect();
    assert_eq!(left.len(), 2, "{left:?}");
    std::fs::remove_dir_all(&folder).unwrap();
}
