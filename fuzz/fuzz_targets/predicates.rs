//! Predicates: what is read holds or does not, a mistake has its place in the text, and a beginning can be completed.
#![no_main]

use outcrop_core::query::{Case, complete, parse, quoted};
use serde_json::Map;

libfuzzer_sys::fuzz_target!(|text: &str| {
    match parse(text) {
        Ok(predicate) => {
            let nothing = Map::new();
            let case = Case {
                namespace: "skerry",
                service: text,
                environment: "production",
                version: "2.4.0",
                type_name: "BerthTaken",
                message: text,
                title: "",
                severity: 17,
                trace: "",
                stack: None,
                attributes: &nothing,
                resource: &nothing,
            };
            let (_holds, _single, _line) = (predicate.holds(&case), predicate.for_single_occurrences(),
                predicate.for_log_lines());
        }
        Err(mistake) => {
            assert!(mistake.at <= text.len(), "{mistake:?} in {} bytes", text.len());
            let _shown = mistake.marked(text);
        }
    }
    for at in 0..=text.len().min(40) {
        let _completion = complete(text, at);
    }
    // Any text can be asked for, in quotes.
    let asked = format!("message = {}", quoted(text));
    assert!(parse(&asked).is_ok() || text.contains('\0') || text.len() > 1_000, "{asked}");
});
