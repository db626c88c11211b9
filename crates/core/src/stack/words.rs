//! Names of functions among the words of a line.

use super::search::Search as _;
use crate::stack::ends_with_any;
use crate::stack::lists::{Beginnings, at_the_start};

/// Words around a function's name that are none.
const NOT_NAMES: &[&str] = &[
    "in",
    "at",
    "on",
    "of",
    "line",
    "lines",
    "file",
    "from",
    "by",
    "called",
    "function",
    "procedure",
    "method",
    "proc",
    "module",
    "character",
    "characters",
    "inlined",
    "raised",
    "sub",
    "block",
    "routine",
    "body",
    "unavailable",
    "external",
    "code",
    "current",
    "the",
    "and",
    "to",
    "with",
    "a",
    "an",
    "is",
    "error",
    "new",
    "async",
    "for",
    "column",
    "col",
    "offset",
];

/// The function's name in what is left of a line.
pub(super) fn name(text: &str) -> Option<&str> {
    // `dock - 12`, `+ 0x1f`: offsets into a symbol or a binary.
    let text = text.before_mark(" + ");
    let mut best: Option<&str> = None;
    let mut depth = 0_i32;
    let mut begins = None;
    let is_name = |word: &str| -> bool {
        word.chars().any(char::is_alphabetic)
            && !NOT_NAMES.contains(&word.to_ascii_lowercase().trim_end_matches(':'))
            && !word.starts_with("0x")
            && !ends_with_any(word, &[".dylib", ".so"])
            && !word.holds(".so.")
    };
    for (at, c) in text.char_indices().chain([(text.len(), ' ')]) {
        let belongs = c.is_alphanumeric()
            || matches!(
                c,
                '_' | '.' | ':' | '$' | '#' | '!' | '?' | '~' | '*' | '\'' | '-' | '@' | '%' | '/' | '\\'
            );
        if matches!(c, '(' | '<' | '[' | '{') && begins.is_some() {
            depth += 1;
        }
        if depth == 0 && belongs {
            begins.get_or_insert(at);
            continue;
        }
        if depth == 0
            && let Some(from) = begins.take()
        {
            let word = text
                .get(from..at)
                .unwrap_or_default()
                .trim_matches(['\'', ':', '.', '-', ',', '`']);
            if is_name(word) && best.is_none_or(|best| rank(word) > rank(best)) {
                best = Some(word);
            }
        }
        if matches!(c, ')' | '>' | ']' | '}') && depth > 0 {
            depth -= 1;
            if depth == 0 {
                // `name(arguments)` is complete.
                if let Some(from) = begins.take() {
                    let word = text
                        .get(from..)
                        .unwrap_or_default()
                        .split(['(', '<', '[', '{'])
                        .next()
                        .unwrap_or_default()
                        .trim_matches(['\'', ':', '-']);
                    if is_name(word) {
                        return Some(word);
                    }
                }
            }
        }
    }
    best
}

/// A scoped name says more than a bare word; of equals the first wins.
pub(super) fn rank(word: &str) -> u8 {
    u8::from(word.holds("::") || word.contains('.')) * 2
        + u8::from(word.contains(['_', '$', '#']) || word.chars().skip(1).any(char::is_uppercase))
}

/// The name without what a compiler numbers: hashes, closures, type arguments.
pub(super) fn bare_name(name: &str) -> &str {
    let name = name.strip_prefix("kfun:").unwrap_or(name);
    let name = name.split(['<', '(', '[', '{']).next().unwrap_or(name);
    let name = name
        .rsplit_at_mark("::h")
        .filter(|(_, hash)| hash.len() == 16)
        .map_or(name, |(name, _)| name);
    name.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, '$' | '_' | '.' | ':' | '#'))
        .trim_end_matches("lambda")
}

/// Names of the languages' own runtimes.
pub(super) fn is_own_name(name: &str) -> bool {
    static RUNTIME: Beginnings = Beginnings::new(|| {
        at_the_start(&[
            "std::",
            "std.",
            "core::",
            "__libc",
            "_start",
            "__gnu",
            "libc",
            "pthread",
            "start_thread",
            "clone",
            "abort",
            "raise",
            "swift_",
            "objc_",
            "Stdlib",
            "Base.",
            "GHC.",
            "kotlin.",
            "_dl_",
            "__cxa",
        ])
    });
    !RUNTIME.begin(name)
}
