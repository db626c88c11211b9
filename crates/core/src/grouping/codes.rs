//! Codes in messages that mean something: they tell defects apart where one generic client call fails in several ways.

use std::borrow::Cow;
use std::sync::LazyLock;

use aho_corasick::AhoCorasick;

/// HTTP statuses, SQLSTATEs, errno names and statuses of RPCs that a message states as such, in the order they stand.
pub(super) fn in_message(message: &str) -> Vec<Cow<'_, str>> {
    by(message, super::ALGORITHM)
}

/// Statuses of RPCs in a message, as gRPC names them: after a word that says so (`code =
/// Unavailable`, `StatusCode.NOT_FOUND`), or in front of all else (`UNAVAILABLE: io exception`).
pub(super) fn of_rpc(message: &str) -> Vec<&'static str> {
    // All but the first, which says that nothing failed.
    const STATUSES: &[&str] = crate::telemetry::names::GRPC.split_at(1).1;
    let is_same = |word: &str, status: &str| {
        let bare = || status.chars().filter(|c| *c != '_');
        word == status
            || word.starts_with(|c: char| c.is_ascii_uppercase())
                && word.chars().any(|c| c.is_ascii_lowercase())
                && bare()
                    .map(|c| c.to_ascii_lowercase())
                    .eq(word.chars().map(|c| c.to_ascii_lowercase()))
    };
    let mut found = vec![];
    let mut previous = "";
    for (at, word) in message
        .split(|c: char| !(c.is_alphanumeric() || c == '_'))
        .filter(|word| !word.is_empty())
        .enumerate()
    {
        let is_said = ["statuscode", "code", "status", "grpc"]
            .iter()
            .any(|known| previous.eq_ignore_ascii_case(known));
        let is_first = at == 0
            && message.get(word.len()..).is_some_and(|rest| rest.starts_with(':'))
            && word.chars().all(|c| c.is_ascii_uppercase() || c == '_');
        if is_said || is_first {
            found.extend(
                STATUSES
                    .iter()
                    .find(|status| is_same(word, status))
                    .filter(|status| !found.contains(*status))
                    .copied(),
            );
        }
        previous = word;
    }
    found
}

/// The codes as an algorithm of grouping finds them.
pub(super) fn by(message: &str, algorithm: i16) -> Vec<Cow<'_, str>> {
    let mut found = codes(message, algorithm > 2);
    if algorithm > 2 {
        found.extend(of_rpc(message).into_iter().map(Cow::Borrowed));
    }
    found
}

fn codes(message: &str, knows_terms: bool) -> Vec<Cow<'_, str>> {
    let names_a_status = |word: &str| names_a_status(word) || knows_terms && word.split('_').any(names_a_status);
    let mut found: Vec<Cow<'_, str>> = Vec::new();
    // All codes hold a digit or begin with two capitals.
    if !message
        .as_bytes()
        .windows(2)
        .any(|pair| pair[0].is_ascii_digit() || pair[0] == b'E' && pair[1].is_ascii_uppercase())
    {
        found.extend(broken_constraint(message).map(Cow::Borrowed));
        return found;
    }
    let mut previous = "";
    let mut before_that = "";
    for word in message
        .split(|c: char| !(c.is_alphanumeric() || c == '_'))
        .filter(|word| !word.is_empty())
    {
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
    // In a tuple or a term it may stand first too: `(404, 'Not Found')`, `{503,…}`.
    let in_term = || {
        message
            .strip_prefix(['(', '{', '['])
            .and_then(|rest| rest.split([',', ' ']).next())
            .unwrap_or(first)
    };
    let first = if knows_terms { in_term() } else { first };
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
    ANY.find_overlapping_iter(head)
        .map(|found| found.pattern().as_usize())
        .min()
        .map(|first| PHRASES[first].1)
}

/// Some SDKs put the error's code in the place of its type.
pub(super) fn in_type(sent_type: &str) -> Option<&str> {
    (is_sqlstate(sent_type) || is_errno_name(sent_type) || sent_type.starts_with("ERR_")).then_some(sent_type)
}

fn is_http_error(word: &str) -> bool {
    word.len() == 3 && matches!(word.as_bytes()[0], b'4' | b'5') && word.bytes().all(|b| b.is_ascii_digit())
}

fn names_a_status(word: &str) -> bool {
    const WORDS: &[&str] = &[
        "status",
        "code",
        "answered",
        "returned",
        "responded",
        "response",
        "http",
        "got",
        "replied",
        "error",
        "with",
        "failed",
    ];
    WORDS.iter().any(|known| word.eq_ignore_ascii_case(known))
}

/// Five digits or capitals with a digit in front, as SQL's standard has them (ISO/IEC 9075: class and subclass).
fn is_sqlstate(word: &str) -> bool {
    word.len() == 5
        && word.bytes().all(|b| b.is_ascii_digit() || b.is_ascii_uppercase())
        && word.bytes().any(|b| b.is_ascii_digit())
        && word
            .bytes()
            .next()
            .is_some_and(|b| b.is_ascii_digit() || matches!(b, b'X' | b'H' | b'P' | b'F'))
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::sentence("the ledger answered 503", &["503"])]
    #[case::tuple("(404, 'Not Found')", &["404"])]
    #[case::term("{badmatch,{error,{http_status,404,<<\"gone\">>}}}", &["404"])]
    #[case::other_status("{badmatch,{error,{http_status,503,<<\"busy\">>}}}", &["503"])]
    #[case::second_line("RPC terminated with:\n\tstatus = StatusCode.UNAVAILABLE\n\tdetails = \"x\"", &["UNAVAILABLE"])]
    #[case::in_words("rpc error: code = NotFound desc = no such berth", &["NOT_FOUND"])]
    #[case::in_front("DEADLINE_EXCEEDED: deadline exceeded after 1.9s", &["DEADLINE_EXCEEDED"])]
    #[case::no_status("internal error: the unknown berth is not found", &[])]
    #[case::a_count("404 vehicles were turned away", &["404"])]
    #[case::no_code("berth 404 is taken", &[])]
    fn codes_are_found_where_a_message_states_them(#[case] message: &str, #[case] expected: &[&str]) {
        assert_eq!(in_message(message), expected);
    }

    #[test]
    fn the_algorithm_before_knew_neither_terms_nor_statuses_of_rpcs() {
        assert_eq!(by("{badmatch,{http_status,404}}", 2), Vec::<&str>::new());
        assert_eq!(by("code = Unavailable", 2), Vec::<&str>::new());
        assert_eq!(by("the ledger answered 503", 2), ["503"]);
    }
}
