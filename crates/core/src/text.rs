//! Cutting and cleaning text from senders, which is never trusted.

use serde_json::Value as Json;

/// Replaces NUL, which PostgreSQL cannot store, by U+FFFD.
pub fn without_nul(text: &mut String) {
    if memchr::memchr(0, text.as_bytes()).is_some() {
        *text = text.replace('\0', "\u{fffd}");
    }
}

/// Returns the longest prefix of at most `max` bytes that ends on a character's border.
#[must_use]
pub fn prefix(text: &str, max: usize) -> &str {
    if text.len() <= max {
        return text;
    }
    let end = (0..=max).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    text.get(..end).unwrap_or_default()
}

/// Returns the longest suffix of at most `max` bytes that begins on a character's border.
#[must_use]
pub fn suffix(text: &str, max: usize) -> &str {
    if text.len() <= max {
        return text;
    }
    let start = (text.len() - max..=text.len())
        .find(|at| text.is_char_boundary(*at))
        .unwrap_or(text.len());
    text.get(start..).unwrap_or_default()
}

/// Shortens in place to at most `max` bytes; returns whether anything was cut.
pub fn cut(text: &mut String, max: usize) -> bool {
    let keep = prefix(text, max).len();
    let is_longer = keep < text.len();
    text.truncate(keep);
    is_longer
}

/// Returns the text with control characters (terminal escapes, also C1 and bidirectional overrides) made visible,
/// safe to print on a terminal. Line breaks and tabs become spaces.
///
/// # Example: an escape sequence is shown, not obeyed
/// ```
/// assert_eq!(outcrop_core::text::printable("a\u{1b}[2Jb\nc"), "a\u{fffd}[2Jb c");
/// ```
#[must_use]
pub fn printable(text: &str) -> String {
    text.chars()
        .map(|c| {
            if matches!(c, '\n' | '\r' | '\t') {
                ' '
            } else {
                harmless(c)
            }
        })
        .collect()
}

/// Like [`printable`], but keeps line breaks and tabs: for blocks of text.
#[must_use]
pub fn printable_block(text: &str) -> String {
    text.chars()
        .map(|c| if matches!(c, '\n' | '\t') { c } else { harmless(c) })
        .collect()
}

fn harmless(c: char) -> char {
    let steers_direction =
        matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{061c}');
    if c.is_control() || steers_direction {
        '\u{fffd}'
    } else {
        c
    }
}

/// An attribute's value as text, without JSON's quotes.
#[must_use]
pub fn plain(value: &Json) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}
