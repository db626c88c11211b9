//! Message templates: what varies from case to case becomes a word in braces.

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

const fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

fn run(bytes: &[u8], from: usize, belongs: impl Fn(u8) -> bool) -> usize {
    bytes[from..]
        .iter()
        .position(|b| !belongs(*b))
        .map_or(bytes.len(), |n| from + n)
}

type Found = Option<(usize, &'static str)>;

/// Whatever begins with a letter, digit or underscore.
fn word(bytes: &[u8], at: usize, knows_letters: bool) -> Found {
    // Everything up to the next blank or bracket, less what a sentence puts after it.
    let mut end = at;
    let (mut slashes, mut has_digit, mut has_at) = (0, false, false);
    while let Some(byte) = bytes.get(end) {
        match byte {
            b'"' | b'\'' | b'`' | b'(' | b')' | b'<' | b'>' | b'[' | b']' | b'{' | b'}' | b',' | b';' | b'|' | b'=' => {
                break;
            }
            b'0'..=b'9' => has_digit = true,
            b'/' => slashes += 1,
            b'@' => has_at = true,
            blank if blank.is_ascii_whitespace() => break,
            _ => {}
        }
        end += 1;
    }
    while end > at && matches!(bytes[end - 1], b'.' | b':' | b'!' | b'?') {
        end -= 1;
    }
    let token = &bytes[at..end];
    if slashes >= 2 && token.windows(3).any(|w| w == b"://") {
        return Some((
            run(bytes, at, |b| {
                !b.is_ascii_whitespace() && !matches!(b, b'"' | b'\'' | b'<' | b'>' | b')')
            }),
            "{url}",
        ));
    }
    if has_at && is_email(token) {
        return Some((end, "{email}"));
    }
    if !has_digit {
        if knows_letters && is_unspeakable(token) {
            return Some((end, "{id}"));
        }
        // A path without a leading slash: `var/lib/scan.bin`; `and/or` has no second slash.
        return (slashes >= 2).then_some((end, "{path}"));
    }
    if is_uuid(token) {
        return Some((end, "{uuid}"));
    }
    if let Some(found) = time(bytes, at, end) {
        return Some(found);
    }
    if is_address(token) {
        return Some((end, "{address}"));
    }
    if token[0].is_ascii_digit()
        && let Some(found) = number(bytes, at)
    {
        return Some(found);
    }
    if slashes > 0 && token.len() > 3 {
        return Some((end, "{path}"));
    }
    identifier(bytes, at)
}

/// Whether a word is an id of letters alone, such as a booking's `SKPSYFEA`: capitals that no word
/// has in this order, having no vowel among six, or five others in a row. Names of errors
/// (`ECONNREFUSED`) and of SQL have vowels enough.
fn is_unspeakable(token: &[u8]) -> bool {
    if token.len() < 6 || token.len() > 32 || !token.iter().all(u8::is_ascii_uppercase) {
        return false;
    }
    let is_vowel = |b: &u8| matches!(b, b'A' | b'E' | b'I' | b'O' | b'U');
    let longest = token.split(is_vowel).map(<[u8]>::len).max().unwrap_or_default();
    longest >= 5 && !matches!(token, b"LENGTHS" | b"STRENGTHS" | b"RHYTHMS" | b"POSTSCRIPT")
}

/// A capitalised word between words that are not (`reload for zone Tern timed out`): somebody's or something's name.
/// The first word of a sentence, phrases in capitals (`Internal Server Error`) and types (`UpstreamError`) stay.
fn name(message: &str, at: usize) -> Option<usize> {
    let before = message.get(..at)?.strip_suffix(' ')?;
    let previous = before.rsplit(' ').next()?;
    let rest = message.get(at..)?;
    let token = rest.get(
        ..rest
            .find(|c: char| !c.is_alphanumeric() && c != '_')
            .unwrap_or(rest.len()),
    )?;
    let mut letters = token.chars();
    let is_capitalised = letters.next()?.is_uppercase() && token.len() > 1 && letters.all(char::is_lowercase);
    if is_capitalised
        && BEFORE_NAMES.contains(&previous)
        && let Some(length) = several_words(rest)
    {
        return Some(at + length);
    }
    let follows = rest
        .get(token.len()..)?
        .strip_prefix(' ')
        .and_then(|next| next.chars().next());
    let is_alone = previous.starts_with(char::is_lowercase)
        && previous.ends_with(|c: char| c.is_lowercase() || c == ',')
        && !follows.is_some_and(char::is_uppercase);
    (is_capitalised && is_alone).then_some(at + token.len())
}

/// Words that a place's or a person's name follows.
const BEFORE_NAMES: &[&str] = &["at", "of", "for", "in", "from", "near", "to", "by", "with", "and"];

/// The length of a name of two or three words (`Varnish Bay`), unless it is a phrase of a protocol (`Bad Gateway`).
fn several_words(rest: &str) -> Option<usize> {
    const PHRASES: &[&str] = &[
        "Error",
        "Errors",
        "Gateway",
        "Request",
        "Requests",
        "Found",
        "Unavailable",
        "Timeout",
        "Entity",
        "Required",
        "Allowed",
        "Acceptable",
        "Failed",
        "Large",
        "Conflict",
        "Exception",
        "Content",
        "Type",
        "Fields",
        "Version",
        "Authentication",
    ];
    let is_part = |word: &str| {
        let mut letters = word.chars();
        word.len() > 1
            && letters.next().is_some_and(char::is_uppercase)
            && letters
                .all(|c| c.is_lowercase() || matches!(c, '-' | '\'') || c.is_uppercase() && word.contains(['-', '\'']))
    };
    let mut length = 0;
    let mut words = 0;
    for word in rest.split(' ').take(3) {
        let bare = word.trim_end_matches([',', '.', ':', ';']);
        if !is_part(bare) || PHRASES.contains(&bare) {
            if PHRASES.contains(&bare) {
                return None;
            }
            break;
        }
        length += usize::from(words > 0) + bare.len();
        words += 1;
        if bare.len() < word.len() {
            break;
        }
    }
    (words > 1).then_some(length)
}

fn is_email(token: &[u8]) -> bool {
    let Some(at) = token.iter().position(|b| *b == b'@') else {
        return false;
    };
    at > 0
        && token[at + 1..].contains(&b'.')
        && token[at + 1..]
            .iter()
            .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-'))
}

fn is_uuid(token: &[u8]) -> bool {
    token.len() == 36
        && token.iter().enumerate().all(|(at, b)| {
            if matches!(at, 8 | 13 | 18 | 23) {
                *b == b'-'
            } else {
                b.is_ascii_hexdigit()
            }
        })
}

/// An IPv4 or IPv6 address or a host, with or without a port.
fn is_address(token: &[u8]) -> bool {
    let host_end = token.iter().rposition(|b| *b == b':').unwrap_or(token.len());
    let (host, port) = token.split_at(host_end);
    let has_port = port.len() > 1 && port[1..].iter().all(u8::is_ascii_digit);
    let is_v4 = |host: &[u8]| {
        let parts: Vec<&[u8]> = host.split(|b| *b == b'.').collect();
        parts.len() == 4
            && parts
                .iter()
                .all(|part| (1..=3).contains(&part.len()) && part.iter().all(u8::is_ascii_digit))
    };
    let is_v6 = token.iter().filter(|b| **b == b':').count() >= 2
        && token.iter().all(|b| b.is_ascii_hexdigit() || matches!(b, b':' | b'.'));
    let is_host = |host: &[u8]| {
        host.contains(&b'.')
            && host
                .iter()
                .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-'))
            && host[0].is_ascii_alphabetic()
    };
    is_v4(host)
        || is_v4(token)
        || is_v6
        || (has_port && (is_host(host) || host == b"localhost"))
        || (is_host(token) && token.iter().filter(|b| **b == b'.').count() >= 2 && token.contains(&b'-'))
}

/// `2026-11-23`, `2026-11-23T04:40:00Z`, `2026-11-23 04:40`, `04:40`, `04:40:07.218`.
fn time(bytes: &[u8], at: usize, end: usize) -> Found {
    let token = &bytes[at..end];
    let digits = |text: &[u8]| !text.is_empty() && text.iter().all(u8::is_ascii_digit);
    let is_date = |text: &[u8]| {
        text.len() >= 10
            && digits(&text[..4])
            && matches!(text[4], b'-' | b'/' | b'.')
            && digits(&text[5..7])
            && text[7] == text[4]
            && digits(&text[8..10])
    };
    let is_day_first = |text: &[u8]| {
        text.len() == 10
            && digits(&text[..2])
            && matches!(text[2], b'-' | b'/' | b'.')
            && digits(&text[3..5])
            && text[5] == text[2]
            && digits(&text[6..])
    };
    let is_clock = |text: &[u8]| {
        text.len() >= 5
            && digits(&text[..2])
            && text[2] == b':'
            && digits(&text[3..5])
            && text[5..]
                .iter()
                .all(|b| b.is_ascii_digit() || matches!(b, b':' | b'.' | b'Z' | b'+' | b'-'))
    };
    if is_clock(token) {
        return Some((end, "{time}"));
    }
    if is_date(token) || is_day_first(token) {
        // The time of day may follow after a blank.
        let next = run(bytes, end, |b| b == b' ');
        let next_end = run(bytes, next, |b| !b.is_ascii_whitespace() && b != b',' && b != b')');
        let clock = bytes.get(next..next_end).is_some_and(is_clock);
        return Some((if next == end + 1 && clock { next_end } else { end }, "{time}"));
    }
    None
}

/// Units that make a number a duration.
const DURATIONS: &[&[u8]] = &[
    b"ms",
    b"s",
    b"us",
    b"ns",
    b"m",
    b"h",
    b"sec",
    b"secs",
    b"min",
    b"mins",
    b"seconds",
    b"minutes",
    b"hours",
    b"milliseconds",
];

/// `12`, `1,204`, `3.5`, `1.2e-7`, `250ms`, `0x7f3a`, `12 %`; what follows without a gap and is no unit makes it an id.
fn number(bytes: &[u8], at: usize) -> Found {
    if bytes[at] == b'0' && matches!(bytes.get(at + 1), Some(b'x' | b'X')) {
        let end = run(bytes, at + 2, |b| b.is_ascii_hexdigit());
        return (end > at + 2).then_some((end, "{hex}"));
    }
    let mut end = run(bytes, at, |b| b.is_ascii_digit());
    end = in_groups(bytes, at, end);
    while matches!(bytes.get(end), Some(b'.' | b',' | b'_' | b'\''))
        && bytes.get(end + 1).is_some_and(u8::is_ascii_digit)
    {
        end = run(bytes, end + 1, |b| b.is_ascii_digit());
    }
    if matches!(bytes.get(end), Some(b'e' | b'E')) {
        let digits = end + 1 + usize::from(matches!(bytes.get(end + 1), Some(b'-' | b'+')));
        let exponent = run(bytes, digits.min(bytes.len()), |b| b.is_ascii_digit());
        if exponent > digits && !bytes.get(exponent).is_some_and(|b| is_word(*b)) {
            end = exponent;
        }
    }
    let tail = run(bytes, end, is_word);
    if tail == end {
        let hyphen = matches!(bytes.get(end), Some(b'-')) && bytes.get(end + 1).is_some_and(|b| is_word(*b));
        return if hyphen {
            identifier(bytes, at)
        } else {
            Some((end, "{n}"))
        };
    }
    let unit = bytes[end..tail].to_ascii_lowercase();
    if DURATIONS.contains(&unit.as_slice()) {
        return Some((tail, "{duration}"));
    }
    if unit.len() <= 3
        && unit.iter().all(u8::is_ascii_alphabetic)
        && matches!(
            unit.as_slice(),
            b"b" | b"kb"
                | b"mb"
                | b"gb"
                | b"kib"
                | b"mib"
                | b"gib"
                | b"th"
                | b"st"
                | b"nd"
                | b"rd"
                | b"px"
                | b"km"
                | b"kg"
        )
    {
        return Some((end, "{n}"));
    }
    identifier(bytes, at)
}

/// The end of a number whose thousands are set apart by blanks, as many languages write it: `13
/// 401,41`; the blank may be one that does not break (U+00A0, U+202F).
fn in_groups(bytes: &[u8], at: usize, mut end: usize) -> usize {
    if end - at > 3 {
        return end;
    }
    loop {
        let rest = &bytes[end..];
        let blank = [b" ".as_slice(), "\u{a0}".as_bytes(), "\u{202f}".as_bytes()]
            .iter()
            .find(|blank| rest.starts_with(blank))
            .map(|blank| blank.len());
        let Some(blank) = blank else { return end };
        let group = run(bytes, end + blank, |b| b.is_ascii_digit());
        if group - end - blank != 3 || bytes.get(group).is_some_and(|b| is_word(*b)) {
            return end;
        }
        end = group;
    }
}

/// A word with digits in it. Short lower-case names with a digit or two (`utf8`, `http2`, `sha256`) are names.
fn identifier(bytes: &[u8], at: usize) -> Found {
    let mut end = run(bytes, at, |b| is_word(b) || b == b'-');
    while end > at && bytes[end - 1] == b'-' {
        end -= 1;
    }
    let token = &bytes[at..end];
    if !token.iter().any(u8::is_ascii_digit) {
        return None;
    }
    let letters = token.iter().take_while(|b| b.is_ascii_lowercase()).count();
    let is_name = letters >= 1 && token.len() - letters <= 3 && token[letters..].iter().all(u8::is_ascii_digit);
    if is_name {
        return None;
    }
    let is_hex = token.len() >= 8 && token.iter().all(u8::is_ascii_hexdigit);
    Some((end, if is_hex { "{hex}" } else { "{id}" }))
}

/// A slash and what follows: `/var/lib/skerry/scans/aa5f5c39.bin`.
fn path(bytes: &[u8], at: usize) -> Option<usize> {
    let mut end = run(bytes, at, |b| {
        !b.is_ascii_whitespace() && !matches!(b, b'"' | b'\'' | b'`' | b'(' | b')' | b'<' | b'>' | b',' | b';' | b'|')
    });
    while end > at && matches!(bytes[end - 1], b'.' | b':' | b'!' | b'?') {
        end -= 1;
    }
    (end > at + 1).then_some(end)
}

/// Longest quoted input looked for, in bytes.
const MAX_QUOTED: usize = 1_000;

fn quoted(bytes: &[u8], at: usize) -> Option<usize> {
    let quote = bytes[at];
    let limit = bytes.len().min(at + MAX_QUOTED);
    let mut end = at + 1;
    while end < limit {
        if bytes[end] == b'\\' {
            end += 2;
            continue;
        }
        // A quote closes only where the word ends: the ' of `can't` does not.
        if bytes[end] == quote && !bytes.get(end + 1).is_some_and(|b| is_word(*b)) {
            return Some(end + 1);
        }
        end += 1;
    }
    None
}

/// Deepest nesting followed in lists and JSON.
const MAX_DEPTH: usize = 32;

/// A bracketed list or JSON object. A plain word in brackets (`[Errno 5]`, `[cause]`, `{n}`) stays as it is.
fn bracketed(bytes: &[u8], at: usize, open: u8, close: u8) -> Option<usize> {
    let mut depth = 0;
    for (offset, byte) in bytes[at..].iter().enumerate() {
        if *byte == open {
            depth += 1;
            if depth > MAX_DEPTH {
                return None;
            }
        } else if *byte == close {
            depth -= 1;
            if depth == 0 {
                let inner = &bytes[at + 1..at + offset];
                let begins_value = inner.first().is_none_or(|b| matches!(b, b'"' | b'\'' | b'{' | b'['));
                let is_data = begins_value
                    || inner.contains(&b',')
                    || (open == b'{' && inner.contains(&b':'))
                    || inner.iter().all(u8::is_ascii_digit);
                return is_data.then_some(at + offset + 1);
            }
        }
    }
    None
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
