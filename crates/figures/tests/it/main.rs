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
