//! Commands that are run and watched: what they do passes through, and what becomes of them is told.

use std::io::{BufRead as _, BufReader, Read as _};
use std::os::unix::process::ExitStatusExt as _;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use outcrop_testkit::Running;

use crate::support::{eventually, service};

/// `outcrop run` of a shell script, with what it sends going to `url`.
fn run(url: &str, key: &str, folder: &Path, script: &str) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_outcrop"));
    command
        .args([
            "run",
            "--service",
            "settle",
            "--job",
            "close-day",
            "--url",
            url,
            "--in-version",
            "7.3.0",
        ])
        .env("OUTCROP_KEY", key)
        .env("XDG_STATE_HOME", folder)
        .stdin(Stdio::null());
    if !script.is_empty() {
        command.args(["--", "sh", "-c", script]);
    }
    command
}

fn of(output: &Output) -> (String, String) {
    (
        String::from_utf8_lossy(&output.stdout).into_owned(),
        String::from_utf8_lossy(&output.stderr).into_owned(),
    )
}

fn errors(running: &Running) -> Vec<(String, String, bool)> {
    let list = running.client_json(&["errors", "--service", "settle"]);
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let errors = list["items"].as_array().unwrap().iter();
    errors
        .map(|error| (text(&error["type"]), text(&error["title"]), error["uncaught"] == true))
        .collect()
}

const DIES: &str = "echo settled 12 of 40; echo opening the ledger >&2; printf 'Traceback (most recent call last):\\n  \
                    File \"/srv/settle.py\", line 12, in <module>\\n    settle()\\n  File \"/srv/settle.py\", line 8, in \
                    settle\\n    raise LedgerShut(berth)\\nLedgerShut: berth 7\\n' >&2; exit 3";

#[tokio::test(flavor = "multi_thread")]
async fn a_run_passes_through_and_what_it_died_of_is_an_uncaught_occurrence() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let run = |script: &str| run(&running.url, &running.key, folder.path(), script).output().unwrap();
    let well = run("echo settled 40; echo 'a warning' >&2; test -n \"$TRACEPARENT\"");
    assert_eq!(
        (well.status.code(), of(&well)),
        (Some(0), ("settled 40\n".to_owned(), "a warning\n".to_owned()))
    );

    let died = run(DIES);
    let (out, err) = of(&died);
    assert_eq!((died.status.code(), out.as_str()), (Some(3), "settled 12 of 40\n"));
    assert!(
        err.starts_with("opening the ledger\n") && err.ends_with("LedgerShut: berth 7\n"),
        "{err}"
    );

    let shut = run("echo 'tariffs of 2026 are missing' >&2; exit 4");
    assert_eq!(shut.status.code(), Some(4));
    let killed = run("kill -KILL $$");
    assert_eq!(
        killed.status.signal(),
        Some(9),
        "whoever waits sees the signal: {killed:?}"
    );
    let missing = Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(["run", "--service", "settle", "--url", &running.url, "--", "/srv/none"])
        .env("OUTCROP_KEY", &running.key)
        .output()
        .unwrap();
    assert_eq!(missing.status.code(), Some(127));

    eventually("the failures are listed", Duration::from_secs(20), || {
        errors(&running).len() == 4
    })
    .await;
    let mut listed = errors(&running);
    listed.sort();
    let expected = [
        ("LedgerShut", "LedgerShut: berth {n}", true),
        ("SIGKILL", "SIGKILL: nothing was written to standard error", true),
        (
            "exit code 127",
            "exit code 127: {path} could not be started: No such file or directory (os error {n})",
            true,
        ),
        ("exit code 4", "exit code 4: tariffs of {n} are missing", true),
    ];
    let expected = expected.map(|(type_name, title, uncaught)| (type_name.to_owned(), title.to_owned(), uncaught));
    assert_eq!(listed, expected);

    // Each run is a request of the service.
    let mut traffic = serde_json::Value::Null;
    eventually("the runs are counted", Duration::from_secs(20), || {
        traffic = running.client_json(&["endpoints", "--service", "settle"]);
        let items = traffic["items"].as_array().unwrap().iter();
        items.filter_map(|item| item["count"].as_u64()).sum::<u64>() == 5
    })
    .await;
    let job = traffic["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["endpoint"] == "close-day");
    assert_eq!(job.unwrap()["failed"], 3, "{traffic}");
}

#[tokio::test(flavor = "multi_thread")]
async fn signals_reach_the_command_and_it_decides_how_it_ends() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let script = "trap 'echo told >&2; exit 7' TERM; echo ready; while :; do sleep 0.1; done";
    let mut child = run(&running.url, &running.key, folder.path(), script)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut ready = String::new();
    BufReader::new(child.stdout.take().unwrap())
        .read_line(&mut ready)
        .unwrap();
    assert_eq!(ready, "ready\n");
    kill(Pid::from_raw(child.id().try_into().unwrap()), Signal::SIGTERM).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(7));
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert_eq!(said, "told\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_network_runs_are_kept_and_sent_with_a_later_one() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let kept = || {
        let folders = std::fs::read_dir(folder.path().join("outcrop/runs"))
            .into_iter()
            .flatten()
            .flatten();
        folders
            .flat_map(|folder| std::fs::read_dir(folder.path()).unwrap())
            .count()
    };
    // Nobody listens at port 9 of this machine.
    let nowhere = "http://127.0.0.1:9";
    for _ in 0..3 {
        let away = run(nowhere, &running.key, folder.path(), DIES).output().unwrap();
        assert_eq!(away.status.code(), Some(3));
        let (_, err) = of(&away);
        assert!(
            err.contains("cannot be reached") && err.contains("sent with the next one"),
            "{err}"
        );
    }
    assert_eq!(kept(), 3);
    // The same folder, now that the service is there under that address.
    let of_nowhere = folder.path().join("outcrop/runs/http___127.0.0.1_9");
    let address: String = running
        .url
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' })
        .collect();
    std::fs::rename(of_nowhere, folder.path().join("outcrop/runs").join(address)).unwrap();
    let sent = run(&running.url, &running.key, folder.path(), "").output().unwrap();
    assert_eq!(of(&sent).0, "3 runs sent; none is kept.\n");
    assert_eq!(kept(), 0);
    eventually("the kept runs are counted", Duration::from_secs(20), || {
        let list = running.client_json(&["errors", "--service", "settle"]);
        list["items"][0]["count"] == 3
    })
    .await;
    let unknown = run(&running.url, "outcrop-key-of-nobody", folder.path(), "exit 0")
        .output()
        .unwrap();
    assert_eq!(
        (unknown.status.code(), kept()),
        (Some(0), 1),
        "a wrong key costs no run: {unknown:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hundred_megabytes_pass_through_in_bounded_memory() {
    let running = service().start().await;
    let folder = tempfile::tempdir().unwrap();
    let script =
        "yes 'settling berth seven of forty' | head -c 100000000 >&2; echo >&2; echo the ledger is full >&2; exit 1";
    let mut child = run(&running.url, &running.key, folder.path(), script)
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut written = child.stderr.take().unwrap();
    let (mut bytes, mut peak) = (0_usize, 0_u64);
    let mut buffer = vec![0; 1 << 20];
    let until = Instant::now() + Duration::from_mins(1);
    loop {
        let read = written.read(&mut buffer).unwrap();
        if read == 0 {
            break;
        }
        bytes += read;
        let said = std::fs::read_to_string(&status).unwrap_or_default();
        let resident = said
            .lines()
            .find_map(|line| line.strip_prefix("VmRSS:")?.trim().strip_suffix(" kB")?.parse().ok());
        peak = peak.max(resident.unwrap_or_default());
        assert!(Instant::now() < until, "{bytes} bytes after a minute");
    }
    assert_eq!(child.wait().unwrap().code(), Some(1));
    assert_eq!(bytes, 100_000_000 + "\nthe ledger is full\n".len());
    assert!(peak < 100_000, "{peak} kB");
    eventually("the failure is listed", Duration::from_secs(20), || {
        errors(&running)
            .iter()
            .any(|(_, title, _)| title == "exit code 1: the ledger is full")
    })
    .await;
}
