//! Places of frames, as they are written in stacks of unknown runtimes.

use super::search::Search as _;
use crate::stack::ends_with_any;
use crate::stack::lists::{Beginnings, Parts, anywhere, at_the_start};

pub(super) struct Location<'a> {
    pub(super) file: &'a str,
    pub(super) line: Option<u32>,
    pub(super) from: usize,
    pub(super) to: usize,
}

/// Longest path looked for, in bytes: a dot is not looked further back from.
pub(super) const MAX_PATH: usize = 256;

/// Dots looked at per line.
pub(super) const MAX_DOTS: usize = 64;

/// Endings of source files, where no folder says that it is a file.
pub(super) const ENDINGS: &[&str] = &[
    "ada", "adb", "ads", "bal", "bas", "c", "cc", "clj", "cljs", "cob", "coffee", "cpp", "cr", "cs", "cxx", "d",
    "dart", "el", "elm", "erl", "ex", "exs", "f", "f90", "fs", "fsx", "go", "groovy", "h", "hpp", "hs", "hx", "java",
    "jl", "js", "jsx", "kt", "kts", "lhs", "lisp", "lua", "m", "mjs", "ml", "mli", "mm", "mojo", "nim", "nims", "p6",
    "pas", "php", "pl", "pm", "pp", "ps1", "psm1", "py", "pyx", "r", "raku", "rakumod", "rb", "re", "res", "rkt", "rs",
    "s", "scala", "scm", "sh", "sml", "sol", "sql", "ss", "st", "swift", "tcl", "ts", "tsx", "v", "vala", "vb", "zig",
];

pub(super) fn has_source_ending(file: &str) -> bool {
    let Some((stem, ending)) = file.rsplit_once('.') else {
        return false;
    };
    let is_path = file.contains(['/', '\\']) && !file.holds("//") || file.starts_with("file:");
    !stem.is_empty()
        && !stem.ends_with(['/', '\\', ' '])
        && (1..=7).contains(&ending.len())
        && ending.starts_with(|c: char| c.is_ascii_alphabetic())
        && (is_path || ENDINGS.contains(&ending.to_ascii_lowercase().as_str()))
}

/// Finds the place of a line: a path with a source file's ending and a line after it.
pub(super) fn place(text: &str) -> Option<Location<'_>> {
    let bytes = text.as_bytes();
    let mut from = 0;
    // Each dot is looked at once, and what is around it only as far as the next blank.
    for _ in 0..MAX_DOTS {
        let dot = from + text.get(from..)?.find('.')?;
        from = dot + 1;
        let earliest = dot.saturating_sub(MAX_PATH);
        let begins = bytes[earliest..dot]
            .iter()
            .rposition(|b| {
                matches!(
                    b,
                    b' ' | b'\t' | b'(' | b'"' | b'\'' | b'`' | b'<' | b'[' | b',' | b'=' | b'@'
                )
            })
            .map_or(earliest, |at| earliest + at + 1);
        let ends = dot
            + 1
            + bytes[dot + 1..]
                .iter()
                .position(|b| !b.is_ascii_alphanumeric())
                .unwrap_or(bytes.len() - dot - 1);
        if ends - dot > 8 {
            continue;
        }
        let Some(file) = text.get(begins..ends) else { continue };
        if !has_source_ending(file) {
            continue;
        }
        if let Some((line, to)) = line_after(text, ends) {
            return Some(Location {
                file: file.trim_start_matches("file://"),
                line: Some(line),
                from: begins,
                to,
            });
        }
    }
    None
}

/// The line number behind a file's name: `:12:5`, `(12)`, `(12,5)`, ` line 12`, `", line 12`, ` 12:5`.
pub(super) fn line_after(text: &str, at: usize) -> Option<(u32, usize)> {
    let rest = text.get(at..)?;
    let skipped = rest.trim_start_matches(['"', '\'', '`', ',', ')', '>']);
    let skipped = skipped.trim_start();
    // OCaml says so of calls that the compiler did away with.
    let skipped = skipped.strip_prefix("(inlined), ").unwrap_or(skipped);
    let number = [":line ", ": line ", ":", "(", "[", "line ", "lines ", "#", "@"]
        .iter()
        .find_map(|mark| skipped.strip_prefix(mark))
        .or_else(|| {
            rest.starts_with(' ')
                .then_some(skipped)
                .filter(|rest| rest.trim_start_matches(|c: char| c.is_ascii_digit()).starts_with(':'))
        })?
        .trim_start();
    let digits = number.bytes().take_while(u8::is_ascii_digit).count();
    let line: u32 = number.get(..digits)?.parse().ok()?;
    let consumed = text.len() - number.len() + digits;
    // Column and closing bracket belong to the place.
    let tail = text.get(consumed..)?;
    let column = tail
        .bytes()
        .take_while(|b| b.is_ascii_digit() || matches!(b, b':' | b',' | b')' | b']' | b'-'))
        .count();
    Some((line, consumed + column))
}

/// Where runtimes and packages keep code that is not the service's, whatever the language.
pub(super) fn is_library_path(file: &str) -> bool {
    static PLACES: Parts = Parts::new(|| {
        anywhere(&[
            "/usr/",
            "/opt/",
            "/lib/",
            "/lib64/",
            "/libs/",
            "/vendor/",
            "/deps/",
            "/node_modules/",
            "/packages/",
            "/pkgs/",
            "/.nimble/",
            "/.pub-cache/",
            "/.cabal/",
            "/.stack/",
            "/.opam/",
            "/.julia/",
            "/.build/checkouts/",
            "/shards/",
            "/site-library/",
            "/stdlib/",
            "/runtime/",
            "/third_party/",
            "/nix/store/",
            "/build/",
            "/julia/",
            "/ghc",
            "/swift/",
        ])
    });
    static BEGINS: Beginnings = Beginnings::new(|| {
        at_the_start(&[
            "dart:",
            "package:flutter/",
            "package:shelf/",
            "package:http/",
            "./boot",
            "boot.jl",
            "stdlib.ml",
            "list.ml",
            "array.ml",
            "hashtbl.ml",
            "map.ml",
            "string.ml",
            "libraries/",
        ])
    });
    file.starts_with("./") && ends_with_any(file, &[".jl"]) || BEGINS.begin(file) || PLACES.is_in(file)
}
