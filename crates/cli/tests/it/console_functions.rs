//! The console's functions that need no browser: its own tests, run by Cargo's runner.

#[test]
fn the_consoles_plain_functions_pass_their_own_tests() {
    let console = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console");
    let ran = std::process::Command::new("npm")
        .args(["run", "--silent", "test"])
        .current_dir(console)
        .output()
        .unwrap();
    assert!(
        ran.status.success(),
        "{}{}",
        String::from_utf8_lossy(&ran.stdout),
        String::from_utf8_lossy(&ran.stderr)
    );
}
