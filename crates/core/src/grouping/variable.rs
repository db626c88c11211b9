//! What within a message changes from one occurrence to the next.

pub(super) const fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

pub(super) fn run(bytes: &[u8], from: usize, belongs: impl Fn(u8) -> bool) -> usize {
    bytes[from..]
        .iter()
        .position(|b| !belongs(*b))
        .map_or(bytes.len(), |n| from + n)
}

pub(super) type Found = Option<(usize, &'static str)>;

/// Whatever begins with a letter, digit or underscore.
pub(super) fn word(bytes: &[u8], at: usize, knows_letters: bool) -> Found {
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
pub(super) fn is_unspeakable(token: &[u8]) -> bool {
    if token.len() < 6 || token.len() > 32 || !token.iter().all(u8::is_ascii_uppercase) {
        return false;
    }
    let is_vowel = |b: &u8| matches!(b, b'A' | b'E' | b'I' | b'O' | b'U');
    let longest = token.split(is_vowel).map(<[u8]>::len).max().unwrap_or_default();
    longest >= 5 && !matches!(token, b"LENGTHS" | b"STRENGTHS" | b"RHYTHMS" | b"POSTSCRIPT")
}

/// A capitalised word between words that are not (`reload for zone Tern timed out`): somebody's or something's name.
/// The first word of a sentence, phrases in capitals (`Internal Server Error`) and types (`UpstreamError`) stay.
pub(super) fn name(message: &str, at: usize) -> Option<usize> {
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
pub(super) const BEFORE_NAMES: &[&str] = &["at", "of", "for", "in", "from", "near", "to", "by", "with", "and"];

/// The length of a name of two or three words (`Varnish Bay`), unless it is a phrase of a protocol (`Bad Gateway`).
pub(super) fn several_words(rest: &str) -> Option<usize> {
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

pub(super) fn is_email(token: &[u8]) -> bool {
    let Some(at) = token.iter().position(|b| *b == b'@') else {
        return false;
    };
    at > 0
        && token[at + 1..].contains(&b'.')
        && token[at + 1..]
            .iter()
            .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-'))
}

pub(super) fn is_uuid(token: &[u8]) -> bool {
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
pub(super) fn is_address(token: &[u8]) -> bool {
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
pub(super) fn time(bytes: &[u8], at: usize, end: usize) -> Found {
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
pub(super) const DURATIONS: &[&[u8]] = &[
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
pub(super) fn number(bytes: &[u8], at: usize) -> Found {
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
pub(super) fn in_groups(bytes: &[u8], at: usize, mut end: usize) -> usize {
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
pub(super) fn identifier(bytes: &[u8], at: usize) -> Found {
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
pub(super) fn path(bytes: &[u8], at: usize) -> Option<usize> {
    let mut end = run(bytes, at, |b| {
        !b.is_ascii_whitespace() && !matches!(b, b'"' | b'\'' | b'`' | b'(' | b')' | b'<' | b'>' | b',' | b';' | b'|')
    });
    while end > at && matches!(bytes[end - 1], b'.' | b':' | b'!' | b'?') {
        end -= 1;
    }
    (end > at + 1).then_some(end)
}

/// Longest quoted input looked for, in bytes.
pub(super) const MAX_QUOTED: usize = 1_000;

pub(super) fn quoted(bytes: &[u8], at: usize) -> Option<usize> {
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
pub(super) const MAX_DEPTH: usize = 32;

/// A bracketed list or JSON object. A plain word in brackets (`[Errno 5]`, `[cause]`, `{n}`) stays as it is.
pub(super) fn bracketed(bytes: &[u8], at: usize, open: u8, close: u8) -> Option<usize> {
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
