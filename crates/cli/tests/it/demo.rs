//! The README's first command, with a smaller history.

use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// Starts `script/demo` and waits until it has printed the sign-in; returns it with all it printed.
fn start(folder: &Path) -> (Child, String) {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../script/demo");
    #[expect(
        clippy::zombie_processes,
        reason = "a demo that ends early fails the test; else `stop` waits for it"
    )]
    let mut child = Command::new(script)
        .args(["--listen", "127.0.0.1:0", "--minutes", "120"])
        .env("OUTCROP_DEMO_FOLDER", folder)
        .env("OUTCROP_BINARY", env!("CARGO_BIN_EXE_outcrop"))
        .stdout(Stdio::piped())
        .process_group(0)
        .spawn()
        .unwrap();
    let mut printed = String::new();
    for line in BufReader::new(child.stdout.take().unwrap()).lines() {
        let line = line.unwrap();
        printed.push_str(&line);
        printed.push('\n');
        if line.contains("Ctrl-C ends it") {
            return (child, printed);
        }
    }
    panic!("the demo ended early:\n{printed}");
}

fn stop(mut child: Child) {
    // As a terminal does with Ctrl-C: to the whole group.
    let group = format!("-{}", child.id());
    assert!(
        Command::new("kill")
            .args(["-INT", "--", &group])
            .status()
            .unwrap()
            .success()
    );
    child.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_loads_its_history_once_and_ends_all_that_it_started() {
    // Not below a home folder: PostgreSQL runs as another user.
    let folder = tempfile::Builder::new()
        .prefix("outcrop-demo-")
        .tempdir_in("/var/tmp")
        .unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let postgres = folder.path().join("postgres");
    let (child, printed) = start(&postgres);
    assert!(printed.contains("120 minutes of history loaded"), "{printed}");
    let address = printed
        .lines()
        .find_map(|line| line.strip_prefix("console   "))
        .unwrap()
        .to_owned();
    let http = reqwest::Client::new();
    let credentials = serde_json::json!({"email": "purser@skerry.example", "password": "low tide at noon"});
    let answer = http
        .post(format!("{address}/api/v1/session"))
        .header("content-type", "application/json")
        .body(credentials.to_string())
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 200);
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    for attribute in ["HttpOnly", "Secure", "SameSite=Strict"] {
        assert!(cookie.contains(attribute), "{cookie}");
    }
    let page: serde_json::Value = http
        .get(format!("{address}/api/v1/errors"))
        .header("cookie", cookie.split(';').next().unwrap())
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let types: Vec<&str> = page["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|error| error["type"].as_str())
        .collect();
    assert!(
        types.contains(&"decimal.DivisionByZero") && types.contains(&"UpstreamError"),
        "the story is there: {types:?}"
    );
    stop(child);
    assert!(!postgres.join("data/postmaster.pid").exists(), "PostgreSQL has ended");
    assert!(
        reqwest::get(format!("{address}/healthz")).await.is_err(),
        "the service has ended"
    );

    let (child, printed) = start(&postgres);
    assert!(
        !printed.contains("history loaded"),
        "the second start keeps its data:\n{printed}"
    );
    stop(child);
}
