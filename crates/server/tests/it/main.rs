//! The OpenAPI document in the repository is the one the handlers make.

use std::path::Path;

#[test]
fn the_openapi_document_is_current() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let made = format!("{}\n", outcrop_server::openapi().to_pretty_json().unwrap());
    if std::env::var_os("OUTCROP_UPDATE").is_some() {
        std::fs::write(&path, &made).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == made,
        "docs/openapi.json is out of date: OUTCROP_UPDATE=1 cargo test -p outcrop-server --test it"
    );
}
