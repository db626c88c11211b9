//! Message templates: what varies from case to case becomes a word in braces.

use crate::grouping::variable::{bracketed, is_word, name, number, path, quoted, word};

/// Longest part of a message that is looked at, in bytes: enough for any sentence, and a bound on hostile ones.
const MAX_MESSAGE_BYTES: usize = 2_000;

/// Returns the message with its variable parts replaced: `{n}`, `{id}`, `{uuid}`, `{hex}`, `{address}`, `{email}`,
/// `{url}`, `{path}`, `{time}`, `{duration}`, `{name}`, `{text}` for quoted input, `{list}`,
/// `{json}`. One pass, linear.
///
/// # Example: two cases, one template
/// ```
/// use outcrop_core::grouping::template;
/// assert_eq!(template("berth 7 is taken until 04:40"), "berth {n} is taken until {time}");
/// assert_eq!(template("berth 12 is taken until 23:15"), "berth {n} is taken until {time}");
/// ```
#[must_use]
pub fn template(message: &str) -> String {
    by(message, super::ALGORITHM)
}

/// The template as an algorithm of grouping makes it: the second knew no ids of letters alone.
pub(super) fn by(message: &str, algorithm: i16) -> String {
    let knows_letters = algorithm > 2;
    let message = crate::text::prefix(message, MAX_MESSAGE_BYTES);
    let bytes = message.as_bytes();
    let mut out = String::with_capacity(message.len());
    let mut at = 0;
    while at < bytes.len() {
        let byte = bytes[at];
        let begins = at == 0 || !is_word(bytes[at - 1]);
        let replaced = match byte {
            b'"' | b'\'' | b'`' if begins => quoted(bytes, at).map(|end| (end, "{text}")),
            b'[' => bracketed(bytes, at, b'[', b']').map(|end| (end, "{list}")),
            b'{' => bracketed(bytes, at, b'{', b'}').map(|end| (end, "{json}")),
            b'/' if begins => path(bytes, at).map(|end| (end, "{path}")),
            _ if begins && is_word(byte) => {
                word(bytes, at, knows_letters).or_else(|| name(message, at).map(|end| (end, "{name}")))
            }
            b'-' | b'+' if begins && bytes.get(at + 1).is_some_and(u8::is_ascii_digit) => number(bytes, at + 1),
            _ => None,
        };
        if let Some((end, name)) = replaced {
            out.push_str(name);
            at = end;
        } else {
            // Copy up to the next place where something may begin.
            let mut end = at + 1;
            while end < bytes.len() && (bytes[end] & 0xc0 == 0x80 || (is_word(bytes[end]) && is_word(bytes[end - 1]))) {
                end += 1;
            }
            out.push_str(message.get(at..end).unwrap_or_default());
            at = end;
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("connect ECONNREFUSED 127.0.0.1:7109", "connect ECONNREFUSED {address}")]
    #[case(
        "desk tide-40227.south.skerry.internal:53640 answered 404 for 5853cc4e-1eae-4b15-976f-278774e31468",
        "desk {address} answered {n} for {uuid}"
    )]
    #[case("manifest of SKLCSSF8 could not be closed", "manifest of {id} could not be closed")]
    #[case("purser@skerry.example has 31 messages", "{email} has {n} messages")]
    #[case("'2026-11-23'", "{text}")]
    #[case(
        "sheet /var/lib/skerry/scans/aa5f5c39.bin is 0xc0318ef6b7c8",
        "sheet {path} is {hex}"
    )]
    #[case(
        "connection drained after 39376ms, 6720 requests dropped",
        "connection drained after {duration}, {n} requests dropped"
    )]
    #[case("can't read 'crew' of utf8 text", "can't read {text} of utf8 text")]
    #[case(
        "refused {\"berth\": 7, \"pier\": [1, 2]} at 2026-11-23 04:40:07",
        "refused {json} at {time}"
    )]
    #[case("[Errno 5] winch 1 does not answer", "[Errno {n}] winch {n} does not answer")]
    #[case(
        "invalid literal for int() with base 10: \"x' OR 1=1\"",
        "invalid literal for int() with base {n}: {text}"
    )]
    #[case("reload for zone Tern timed out", "reload for zone {name} timed out")]
    #[case(
        "500 Server Error: Internal Server Error for url: http://pier-3/x",
        "{n} Server Error: Internal Server Error for url: {url}"
    )]
    #[case(
        "Cannot read: Berth of UpstreamError in SQL",
        "Cannot read: Berth of UpstreamError in SQL"
    )]
    #[case("wipe of SKPSYFEA refused", "wipe of {id} refused")]
    #[case("crate SKDGDMPF is stuck", "crate {id} is stuck")]
    #[case(
        "NOT NULL constraint of VARCHAR, TIMESTAMP in TRANSACTION",
        "NOT NULL constraint of VARCHAR, TIMESTAMP in TRANSACTION"
    )]
    #[case("заказ 42 не найден", "заказ {n} не найден")]
    fn variable_parts_become_words(#[case] message: &str, #[case] expected: &str) {
        assert_eq!(template(message), expected);
    }

    proptest! {
        #[test]
        fn any_message_is_taken(message in "(\\PC|['\"\\[\\]{}/:@0-9]){0,200}") {
            let _template = template(&message);
        }

        #[test]
        fn numbers_never_change_the_template(a in 0u64..10_000_000, b in 0u64..10_000_000) {
            let message = |n: u64| format!("sailing {n} has no vessel at pier-{n}, waited {n} ms");
            prop_assert_eq!(template(&message(a)), template(&message(b)));
        }
    }
}
