//! What shells and `man` read of the command line, and what is opened by its reference.

use std::process::Command;

use outcrop_testkit::{recorded, restamped};
use rstest::rstest;

use crate::support::{eventually, service};

fn outcrop(arguments: &[&str]) -> String {
    let output = Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(arguments)
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap()
}

/// What bash offers for a line that is being written.
fn offered(words: &[&str]) -> Vec<String> {
    let script = "source <(\"$1\" completions bash); shift; COMP_WORDS=(\"$@\"); COMP_CWORD=$(($# - 1)); \
                  _outcrop outcrop \"${COMP_WORDS[COMP_CWORD]}\" \"${COMP_WORDS[COMP_CWORD - 1]}\"; printf '%s\\n' \"${COMPREPLY[@]}\"";
    let output = Command::new("bash")
        .args(["-c", script, "bash", env!("CARGO_BIN_EXE_outcrop")])
        .args(words)
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(str::to_owned)
        .collect()
}

#[rstest]
#[case(&["outcrop", "erro"], "errors")]
#[case(&["outcrop", "errors", "--env"], "--environment")]
#[case(&["outcrop", "deploy", "ch"], "check")]
#[case(&["outcrop", "send", "--service", "fares", "--sev"], "--severity")]
fn bash_completes_commands_and_options(#[case] words: &[&str], #[case] expected: &str) {
    let all = offered(words);
    assert!(all.iter().any(|word| word == expected), "{all:?}");
}

#[rstest]
#[case("zsh", "#compdef outcrop")]
#[case("fish", "complete -c outcrop")]
fn other_shells_have_theirs(#[case] shell: &str, #[case] holds: &str) {
    let script = outcrop(&["completions", shell]);
    assert!(script.contains(holds) && script.contains("deploys"), "{script:.300}");
}

#[test]
fn the_manual_has_a_page_for_each_command_with_its_examples() {
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("man1");
    let said = outcrop(&["manual", "--to", to.to_str().unwrap()]);
    assert!(said.contains(" pages written. Read the first: man "), "{said}");
    let page = |name: &str| std::fs::read_to_string(to.join(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
    assert!(page("outcrop.1").contains("deploys"));
    for (name, holds) in [
        ("outcrop-errors.1", "Examples:"),
        ("outcrop-deploy-check.1", "deploy"),
        ("outcrop-run.1", "crontab"),
    ] {
        assert!(
            page(name).starts_with('.') && page(name).contains(holds),
            "{name}: {}",
            page(name)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_found_has_an_address() {
    let running = service().start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let mut reference = String::new();
    eventually("the error is listed", std::time::Duration::from_secs(20), || {
        let list = running.client_json(&["errors"]);
        reference = list["items"][0]["ref"].as_str().unwrap_or_default().to_owned();
        !reference.is_empty()
    })
    .await;
    let output = running.client(&["open", "--print", &reference]);
    let said = String::from_utf8(output.stdout).unwrap();
    assert_eq!(said.trim_end(), format!("{}/errors/{reference}", running.url));
    let output = running.client(&["open", "--print", "nothing-known-is-called-so"]);
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(said.contains("`outcrop find` says where it looks"), "{said}");
}
