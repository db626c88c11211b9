//! Each command that README, tutorial and guides show is understood, over one small fixed data set.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::printed::fixed;

/// Commands that are left out: they do not end by themselves, or need what only the reader has.
const LEFT_OUT: [&str; 13] = [
    "serve",
    "demo",
    "collect",
    "watch",
    "admin",
    "login",
    "--repo",
    "…",
    ".txt",
    "tracker.json",
    "$VERSION",
    "outcrop find",
    "again ID",
];

fn pages(root: &Path) -> Vec<PathBuf> {
    let mut pages = vec![root.join("README.md"), root.join("docs/tutorial.md")];
    let guides = std::fs::read_dir(root.join("docs/guides")).unwrap();
    pages.extend(guides.map(|entry| entry.unwrap().path()));
    pages.sort();
    pages
}

/// The commands of a page's code blocks, a line each.
fn commands(page: &str) -> Vec<String> {
    page.lines()
        .filter_map(|line| line.strip_prefix("    "))
        .map(str::trim)
        .filter(|line| line.starts_with("outcrop ") || line.contains("| outcrop "))
        .filter(|line| !LEFT_OUT.iter().any(|word| line.contains(word)))
        .map(str::to_owned)
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_of_the_guides_is_understood() {
    let running = fixed().await;
    let listed = running.client_json(&["errors", "--service", "fares"]);
    let reference = listed["items"][0]["ref"].as_str().unwrap();
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let binary = Path::new(env!("CARGO_BIN_EXE_outcrop")).parent().unwrap();
    let path = format!("{}:{}", binary.display(), std::env::var("PATH").unwrap());
    let before = |minutes: i64| (chrono::Utc::now() - chrono::TimeDelta::minutes(minutes)).to_rfc3339();
    // Some commands write files, which must not be there already.
    let folder = tempfile::tempdir().unwrap();
    let job = folder.path().join("settle.sh");
    std::fs::write(&job, "#!/bin/sh\nexit 0\n").unwrap();
    std::fs::set_permissions(&job, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let mut ran = 0;
    for page in pages(&root) {
        for command in commands(&std::fs::read_to_string(&page).unwrap()) {
            let line = command
                .replace("kobal-tirun", reference)
                .replace("--wait 30m", "--wait 1s");
            let output = Command::new("sh")
                .args(["-c", &line])
                .current_dir(folder.path())
                .env("PATH", &path)
                .env("OUTCROP_URL", &running.url)
                .env("OUTCROP_TOKEN", &running.token)
                .env("OUTCROP_KEY", &running.key)
                .env("STARTED", before(20))
                .env("ENDED", before(5))
                .env("XDG_CONFIG_HOME", "/nonexistent")
                .env("XDG_STATE_HOME", folder.path())
                .output()
                .unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            // 0 done or clear, 1 flagged, 3 too early; 4 where the example's numbers name nothing here.
            let is_understood = matches!(output.status.code(), Some(0 | 1 | 3 | 4)) && !said.contains("Usage:");
            assert!(is_understood, "{}: {command}\n{said}", page.display());
            ran += 1;
        }
    }
    assert!(ran > 40, "{ran} commands were found");
}
