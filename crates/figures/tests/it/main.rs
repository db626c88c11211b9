//! The workspace's own source code is within its limits.

use std::path::Path;

use outcrop_figures::{Workspace, docs, limits};

#[test]
fn the_source_code_is_within_its_limits() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let broken = limits::broken(&Workspace::read(&root).unwrap());
    assert!(
        broken.is_empty(),
        "past the limits of crates/figures/src/limits.rs:\n{}",
        broken.join("\n")
    );
}

#[test]
fn the_docs_links_lead_somewhere_and_their_text_breaks_at_100_columns() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mistakes = docs::mistakes(&root);
    assert!(mistakes.is_empty(), "{}", mistakes.join("\n"));
}

/// The names in a column of code that stands last in the rows of a page's tables.
fn named(page: &str) -> Vec<&str> {
    let rows = page
        .lines()
        .filter_map(|line| line.strip_suffix('|')?.rsplit('|').next());
    let parts = rows.flat_map(|last| last.split('`').skip(1).step_by(2));
    parts.collect()
}

#[test]
fn each_test_that_the_page_on_security_names_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = std::fs::read_to_string(root.join("docs/explanation/security.md")).unwrap();
    let workspace = Workspace::read(&root).unwrap();
    let tests = named(&page);
    assert!(tests.len() > 20, "{tests:?}");
    let is_there = |name: &&str| {
        let mut files = (workspace.packages.iter()).flat_map(|package| package.sources.iter().chain(&package.tests));
        files.any(|file| file.text.contains(&format!("fn {name}(")))
    };
    let missing: Vec<&str> = tests.into_iter().filter(|name| !is_there(name)).collect();
    assert_eq!(missing, Vec::<&str>::new());
}
