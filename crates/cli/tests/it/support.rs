//! What the stories share.

use std::time::{Duration, Instant};

use outcrop_testkit::{Postgres, Service};
use serde_json::Value;

/// The service on a fresh database of the shared PostgreSQL.
pub fn service() -> Service {
    Service::new(env!("CARGO_BIN_EXE_outcrop"), Postgres::shared().database())
}

/// Waits until `holds`, which is asked twice a second; fails with `what` after `wait`.
pub async fn eventually(what: &str, wait: Duration, mut holds: impl FnMut() -> bool) {
    let until = Instant::now() + wait;
    while !holds() {
        assert!(Instant::now() < until, "{what}");
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}

/// What a list of errors says, less what differs from run to run: one line per error, sorted.
pub fn outline(errors: &[Value]) -> Vec<String> {
    let mut lines: Vec<String> = errors
        .iter()
        .map(|error| {
            let uncaught = if error["uncaught"] == true {
                "uncaught"
            } else {
                "caught"
            };
            let text = |name: &str| error[name].as_str().unwrap_or("—").to_owned();
            let versions = error["versions"]
                .as_array()
                .map(|versions| versions.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(","));
            format!(
                "{} {} | {} | {} | {uncaught} {} | {}x {} users {}",
                text("service"),
                text("type"),
                text("title"),
                text("own_frame"),
                text("severity"),
                error["count"],
                error["users"],
                versions.unwrap_or_default()
            )
        })
        .collect();
    lines.sort();
    lines
}

/// Python in a virtual environment below `target` with packages from PyPI, made once: the first to
/// come makes it, others wait.
pub fn python_with(name: &str, packages: &[&str]) -> std::path::PathBuf {
    static MAKING: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR")).join(name);
    let python = folder.join("bin/python");
    let _one_at_a_time = MAKING.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    if !folder.join("complete").exists() {
        let run = |command: &mut std::process::Command| {
            let output = command
                .output()
                .expect("python3 with venv is installed (script/test does it)");
            assert!(
                output.status.success(),
                "{command:?}: {}",
                String::from_utf8_lossy(&output.stderr)
            );
        };
        run(std::process::Command::new("python3").args(["-m", "venv"]).arg(&folder));
        run(std::process::Command::new(&python)
            .args(["-m", "pip", "install", "--quiet"])
            .args(packages));
        std::fs::write(folder.join("complete"), "").unwrap();
    }
    python
}

/// A folder of a name with packages from npm, made once.
pub fn node_with(name: &str, packages: &[&str]) -> std::path::PathBuf {
    static MAKING: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR")).join(name);
    let _one_at_a_time = MAKING.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    std::fs::create_dir_all(&folder).unwrap();
    if !folder.join("complete").exists() {
        std::fs::write(folder.join("package.json"), "{}").unwrap();
        let output = std::process::Command::new("npm")
            .args(["install", "--silent"])
            .args(packages)
            .current_dir(&folder)
            .output()
            .expect("npm is installed (script/test does it)");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        std::fs::write(folder.join("complete"), "").unwrap();
    }
    folder
}
