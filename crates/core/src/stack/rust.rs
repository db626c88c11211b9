//! Rust: panics of old and new toolchains with short and full backtraces, and backtraces that error types carry.

use std::borrow::Cow;

use super::lists::{Beginnings, Parts, anywhere, at_the_start};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, Relation, ends_with_any};

pub(super) struct Rust;

impl Dialect for Rust {
    fn runtime(&self) -> &'static str {
        "rust"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let panic = sign!("thread ")
            .find(text)
            .and_then(|at| Some(at + sign!(" panicked at ").find(text.get(at..)?)? + 1));
        let trace = sign!("tack backtrace:").find(text);
        if panic.is_none() && !(trace.is_some() || numbered(text)) {
            return None;
        }
        let (message, place) = match panic.and_then(|at| text.get(at..)) {
            Some(said) => panicked(said.strip_prefix("panicked at ").unwrap_or(said)),
            // The sign leaves out the first letter, which is a capital or not; a text may also have been cut there.
            None => (text.get(..trace.map_or(0, |at| at.saturating_sub(1)))?.trim(), None),
        };
        let mut frames = backtrace(text.get(trace.unwrap_or(0)..)?);
        // What prints or raises the panic stands above where it happened.
        let raised = frames.iter().rposition(is_raising);
        frames.drain(..raised.map_or(0, |at| at + 1));
        if frames.is_empty() {
            let (file, line) = place?;
            frames.push(Frame {
                file: Cow::Borrowed(file),
                line,
                own: is_own(file, ""),
                ..Frame::default()
            });
        }
        let mut parts = message.split("\n\nCaused by:\n");
        let head = parts.next().unwrap_or_default();
        let head = head.strip_prefix("Error: ").unwrap_or(head);
        let mut exceptions = vec![Exception {
            message: Cow::Borrowed(head),
            frames,
            ..Exception::default()
        }];
        exceptions.extend(
            parts
                .next()
                .into_iter()
                .flat_map(str::lines)
                .map(str::trim)
                .filter(|line| !line.is_empty())
                .map(|line| Exception {
                    relation: Relation::Cause,
                    message: Cow::Borrowed(
                        line.split_at_mark(": ")
                            .filter(|(number, _)| number.bytes().all(|b| b.is_ascii_digit()))
                            .map_or(line, |(_, rest)| rest),
                    ),
                    ..Exception::default()
                }),
        );
        Some(exceptions)
    }
}

/// A backtrace alone, as `std::backtrace` prints it; one whose upper frames were cut off begins
/// with a later number, and is known by the place below its first frame.
fn numbered(text: &str) -> bool {
    let text = text.trim_start();
    if text.starts_with("0: ") && sign!("\n   1: ").is_in(text) {
        return true;
    }
    let mut of_text = text.lines();
    let first = of_text
        .next()
        .and_then(|line| line.split_at_mark(": ")?.0.parse::<u32>().ok());
    let has_place = of_text
        .next()
        .is_some_and(|line| line.trim_start().starts_with("at ") && place(line).is_some());
    let second = of_text
        .next()
        .and_then(|line| line.trim_start().split_at_mark(": ")?.0.parse::<u32>().ok());
    has_place && first.is_some_and(|first| second == first.checked_add(1))
}

/// `'MESSAGE', src/deck.rs:52:29` as before Rust 1.73, `src/deck.rs:52:29:` and the message below it since.
fn panicked(said: &str) -> (&str, Option<(&str, Option<u32>)>) {
    if let Some(rest) = said.strip_prefix('\'') {
        let end = rest
            .find_mark("\nstack backtrace:")
            .or_else(|| rest.find_mark("\nnote: "))
            .unwrap_or(rest.len());
        let whole = rest.get(..end).unwrap_or(rest);
        return match whole.rsplit_at_mark("', ") {
            Some((message, place)) => (message, self::place(place.trim())),
            None => (whole.trim_end_matches('\''), None),
        };
    }
    let (place, rest) = said.split_once('\n').unwrap_or((said, ""));
    let end = rest
        .find_mark("\nstack backtrace:")
        .or_else(|| rest.find_mark("\nnote: "))
        .unwrap_or(rest.len());
    (
        rest.get(..end).unwrap_or(rest).trim_end(),
        self::place(place.trim_end_matches(':')),
    )
}

/// `src/deck.rs:52:29`.
fn place(text: &str) -> Option<(&str, Option<u32>)> {
    let (rest, last) = text.rsplit_once(':')?;
    match rest.rsplit_once(':') {
        Some((file, line)) if line.bytes().all(|b| b.is_ascii_digit()) => Some((file, line.parse().ok())),
        _ => Some((rest, last.parse().ok())),
    }
}

fn backtrace(text: &str) -> Vec<Frame<'_>> {
    let mut frames: Vec<Frame<'_>> = vec![];
    for line in lines(text) {
        let content = line.trim_start();
        if let Some(at) = content.strip_prefix("at ") {
            if let (Some(frame), Some((file, number))) = (frames.last_mut(), place(at.trim())) {
                frame.own = is_own(file, &frame.module);
                (frame.file, frame.line) = (Cow::Borrowed(file), number);
            }
        } else if let Some(name) = name(content) {
            let (module, function) = names(name);
            let own = is_own("", &module);
            frames.push(Frame {
                function,
                module,
                own,
                ..Frame::default()
            });
        }
    }
    frames
}

/// `12:     0x55b627fc6eda - cargo_deck::handle`: the symbol.
fn name(content: &str) -> Option<&str> {
    let (number, rest) = content.split_at_mark(": ")?;
    if number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let rest = rest.trim();
    match rest.split_at_mark(" - ") {
        Some((address, symbol)) if address.starts_with("0x") => Some(symbol),
        _ => Some(rest),
    }
}

/// `<cargo_deck[e28293b1aa0f68bd]::deck::Deck>::sum::{closure#0}` and
/// `cargo_deck::deck::Deck::sum::{{closure}}::h0a1b…` are both (`cargo_deck::deck`, `Deck::sum`):
/// hashes, type arguments, closures and the dress of the mangling go.
fn names(symbol: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    let mut plain = symbol
        .rsplit_at_mark("::")
        .filter(|(_, last)| is_hash(last))
        .map_or(symbol, |(rest, _)| rest);
    while let Some(rest) = plain.strip_suffix("::{{closure}}") {
        plain = rest;
    }
    if !plain.contains(['<', '[', '{', '(', '&', '*', ' ']) {
        // A type begins with a capital: it belongs to the function's name.
        let parts = plain.match_indices("::").map(|(at, _)| at);
        let of_type = parts
            .clone()
            .find(|at| plain.as_bytes().get(at + 2).is_some_and(u8::is_ascii_uppercase));
        return match of_type.or_else(|| parts.last()) {
            Some(at) => (
                Cow::Borrowed(plain.get(..at).unwrap_or_default()),
                Cow::Borrowed(plain.get(at + 2..).unwrap_or_default()),
            ),
            None => (Cow::Borrowed(""), Cow::Borrowed(plain)),
        };
    }
    undressed(symbol)
}

fn undressed(symbol: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    let mut plain = String::with_capacity(symbol.len());
    let mut depth = 0_usize;
    let mut chars = symbol.chars().peekable();
    // `<Type as Trait>::method` is the type's method; other angle brackets hold type arguments.
    let mut is_self_type = vec![];
    let mut is_in_trait = false;
    while let Some(c) = chars.next() {
        match c {
            '<' if plain.is_empty() && depth == is_self_type.len() => {
                is_self_type.push(true);
                depth += 1;
            }
            '<' => depth += 1,
            '>' if depth > 0 => {
                depth -= 1;
                if depth < is_self_type.len() {
                    is_self_type.pop();
                    is_in_trait = false;
                }
            }
            '[' | '{' => {
                let close = if c == '[' { ']' } else { '}' };
                let mut open = 1;
                for next in chars.by_ref() {
                    open += usize::from(next == c);
                    open -= usize::from(next == close);
                    if open == 0 {
                        break;
                    }
                }
            }
            _ if depth > is_self_type.len() || is_in_trait => {}
            ' ' if chars.peek() == Some(&'a') && !is_self_type.is_empty() => is_in_trait = true,
            '&' | '*' | '(' | ')' | ' ' => {}
            _ => plain.push(c),
        }
    }
    let parts: Vec<&str> = plain
        .split("::")
        .filter(|part| !part.is_empty() && !is_hash(part))
        .collect();
    // A type begins with a capital: it belongs to the function's name.
    let first = parts
        .iter()
        .position(|part| part.starts_with(|c: char| c.is_ascii_uppercase()))
        .unwrap_or(parts.len().saturating_sub(1));
    let (module, function) = parts.split_at(first);
    (Cow::Owned(module.join("::")), Cow::Owned(function.join("::")))
}

fn is_hash(part: &str) -> bool {
    part.len() == 17 && part.starts_with('h') && part.bytes().skip(1).all(|b| b.is_ascii_hexdigit())
}

fn is_raising(frame: &Frame<'_>) -> bool {
    let module = frame.module.as_ref();
    let function = frame.function.as_ref();
    // `std::panicking::try` also stands at the outer end: it is what catches a panic.
    let is_catching = function.starts_with("try")
        || function.starts_with("catch_unwind")
        || module.holds("::try")
        || module.holds("catch_unwind");
    function == "rust_begin_unwind"
        || !is_catching && (module.starts_with("std::panicking") || module.starts_with("core::panicking"))
        || module.starts_with("std::backtrace")
        || module.starts_with("backtrace::")
        || module.starts_with("anyhow")
        || module.starts_with("eyre")
}

/// The C library below `main` names its files without a root.
static C_LIBRARY: Beginnings = Beginnings::new(|| {
    at_the_start(&[
        "library/",
        "nptl/",
        "./nptl/",
        "csu/",
        "./csu/",
        "../csu/",
        "../sysdeps/",
        "./sysdeps/",
        "sysdeps/",
        "/build/glibc",
    ])
});

static LIBRARIES: Parts = Parts::new(|| {
    anywhere(&[
        "/rustc/",
        "/rustc-",
        "/.cargo/",
        "/cargo/registry/",
        "/cargo/git/",
        "/rustlib/",
        "/vendor/",
        "/library/",
    ])
});

const CRATES: &[&str] = &[
    "std",
    "core",
    "alloc",
    "__rustc",
    "proc_macro",
    "tokio",
    "hyper",
    "axum",
    "actix_web",
    "actix_http",
    "actix_rt",
    "tower",
    "futures",
    "futures_util",
    "futures_core",
    "rayon",
    "rayon_core",
    "crossbeam",
    "serde",
    "serde_json",
    "sqlx",
    "diesel",
    "reqwest",
    "tonic",
    "tracing",
    "log",
    "anyhow",
    "eyre",
    "backtrace",
];

/// Cargo's registry, git checkouts and the toolchain's own sources are the library's; without a file the crate decides.
fn is_own(file: &str, module: &str) -> bool {
    if file.is_empty() {
        let krate = module.before_mark("::");
        return !krate.is_empty() && !krate.starts_with('_') && !CRATES.contains(&krate);
    }
    ends_with_any(file, &[".rs"]) && !C_LIBRARY.begin(file) && !LIBRARIES.is_in(file)
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_text_that_was_cut_within_its_first_word_is_read() {
        let cut = "tack backtrace:\n   0: cargo_deck::deck::handle\n             at src/deck.rs:52:29\n";
        let read = crate::stack::read(cut).unwrap();
        assert_eq!((read.top().message.as_ref(), read.frame_count()), ("", 1));
    }
}
