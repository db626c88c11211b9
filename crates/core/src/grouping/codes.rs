//! Codes in messages that mean something: they tell defects apart where one generic client call fails in several ways.

use std::borrow::Cow;
use std::sync::LazyLock;

use aho_corasick::AhoCorasick;

/// HTTP statuses, SQLSTATEs and errno names that a message states as such, in the order they stand.
pub(super) fn in_message(message: &str) -> Vec<Cow<'_, str>> {
    let mut found: Vec<Cow<'_, str>> = Vec::new();
    // All codes hold a digit or begin with two capitals.
    if !message.as_bytes().windows(2).any(|pair| pair[0].is_ascii_digit() || pair[0] == b'E' && pair[1].is_ascii_uppercase()) {
        found.extend(broken_constraint(message).map(Cow::Borrowed));
        return found;
    }
    let mut previous = "";
    let mut before_that = "";
    for word in message.split(|c: char| !(c.is_alphanumeric() || c == '_')).filter(|word| !word.is_empty()) {
        let is_code = is_errno_name(word)
            || (is_http_error(word) && (names_a_status(previous) || names_a_status(before_that)))
            || (is_sqlstate(word) && (names_a_code(previous) || names_a_code(before_that)))
            || (previous == "Errno" && word.bytes().all(|b| b.is_ascii_digit()));
        if is_code && !found.iter().any(|known| known == word) {
            found.push(Cow::Borrowed(word));
        }
        before_that = previous;
        previous = word;
    }
    found.extend(broken_constraint(message).map(Cow::Borrowed));
    // `500 Server Error: …` begins with its status.
    let first = message.split(' ').next().unwrap_or_default();
    if is_http_error(first) && found.is_empty() {
        found.push(Cow::Borrowed(first));
    }
    found
}

/// The kind of SQL constraint a message says was broken (ISO/IEC 9075, class 23), for databases and drivers that give
/// no SQLSTATE.
fn broken_constraint(message: &str) -> Option<&'static str> {
    /// The first kind of which a phrase is there counts, wherever it stands.
    const PHRASES: &[(&str, &str)] = &[
        ("unique constraint", "unique"),
        ("duplicate key", "unique"),
        ("duplicate entry", "unique"),
        ("not null constraint", "not null"),
        ("not-null constraint", "not null"),
        ("cannot be null", "not null"),
        ("foreign key constraint", "foreign key"),
        ("check constraint", "check"),
        ("exclusion constraint", "exclusion"),
    ];
    static ANY: LazyLock<AhoCorasick> = LazyLock::new(|| {
        AhoCorasick::builder()
            .ascii_case_insensitive(true)
            .build(PHRASES.iter().map(|(phrase, _)| phrase))
            .expect("a list in the source is small")
    });
    // The first part of the message only: drivers put the reason first.
    let head = crate::text::prefix(message, 400);
    ANY.find_overlapping_iter(head).map(|found| found.pattern().as_usize()).min().map(|first| PHRASES[first].1)
}

/// Some SDKs put the error's code in the place of its type.
pub(super) fn in_type(sent_type: &str) -> Option<&str> {
    (is_sqlstate(sent_type) || is_errno_name(sent_type) || sent_type.starts_with("ERR_")).then_some(sent_type)
}

fn is_http_error(word: &str) -> bool {
    word.len() == 3 && matches!(word.as_bytes()[0], b'4' | b'5') && word.bytes().all(|b| b.is_ascii_digit())
}

fn names_a_status(word: &str) -> bool {
    const WORDS: &[&str] =
        &["status", "code", "answered", "returned", "responded", "response", "http", "got", "replied", "error", "with", "failed"];
    WORDS.iter().any(|known| word.eq_ignore_ascii_case(known))
}

/// Five digits or capitals with a digit in front, as SQL's standard has them (ISO/IEC 9075: class and subclass).
fn is_sqlstate(word: &str) -> bool {
    word.len() == 5
        && word.bytes().all(|b| b.is_ascii_digit() || b.is_ascii_uppercase())
        && word.bytes().any(|b| b.is_ascii_digit())
        && word.bytes().next().is_some_and(|b| b.is_ascii_digit() || matches!(b, b'X' | b'H' | b'P' | b'F'))
}

fn names_a_code(word: &str) -> bool {
    const WORDS: &[&str] = &["code", "sqlstate", "state", "error"];
    WORDS.iter().any(|known| word.eq_ignore_ascii_case(known))
}

/// `ECONNREFUSED` and its kin (POSIX.1-2017, errno.h).
fn is_errno_name(word: &str) -> bool {
    const NAMES: &[&str] = &[
        "ECONNREFUSED",
        "ECONNRESET",
        "ETIMEDOUT",
        "EPIPE",
        "ENOENT",
        "EACCES",
        "EPERM",
        "EHOSTUNREACH",
        "ENETUNREACH",
        "ENOTFOUND",
        "EAI_AGAIN",
        "EADDRINUSE",
        "ECONNABORTED",
        "EMFILE",
        "ENFILE",
        "ENOSPC",
        "EEXIST",
        "EISDIR",
        "ENOTDIR",
        "ENOTEMPTY",
        "EINVAL",
        "EIO",
        "ENOMEM",
        "EROFS",
        "EBUSY",
        "EAGAIN",
        "ENOTCONN",
        "ENOBUFS",
        "EPROTO",
    ];
    word.starts_with('E') && NAMES.contains(&word)
}
