//! Numbers that tell who somebody is: cards, phones, bank accounts.

pub(super) type Cut<'r> = Option<(usize, usize, &'r str)>;

pub(super) const fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

pub(super) fn end_of(bytes: &[u8], from: usize, belongs: impl Fn(u8) -> bool) -> usize {
    bytes[from..]
        .iter()
        .position(|b| !belongs(*b))
        .map_or(bytes.len(), |n| from + n)
}

pub(super) fn card(bytes: &[u8], at: usize) -> Cut<'static> {
    let mut digits = 0;
    let mut to = at;
    let mut end = at;
    while let Some(byte) = bytes.get(end) {
        match byte {
            b'0'..=b'9' => {
                digits += 1;
                to = end + 1;
            }
            b' ' | b'-' if bytes.get(end + 1).is_some_and(u8::is_ascii_digit) => {}
            _ => break,
        }
        if digits > 19 {
            return None;
        }
        end += 1;
    }
    if !(13..=19).contains(&digits) || bytes.get(to).is_some_and(|b| is_word(*b) || *b == b'.') {
        return None;
    }
    let number = std::str::from_utf8(&bytes[at..to]).ok()?;
    is_card_number(number).then_some((at, to, "card number"))
}

/// A phone number in its international form (ITU-T E.123): a plus sign, a country's code and the
/// rest, 8 to 15 digits with blanks, hyphens, dots or brackets between groups. Numbers without a
/// country are like any other number.
pub(super) fn phone(bytes: &[u8], at: usize) -> Cut<'static> {
    let (mut digits, mut to, mut end) = (0, at, at + 1);
    if !bytes.get(end).is_some_and(|b| matches!(b, b'1'..=b'9')) {
        return None;
    }
    while let Some(byte) = bytes.get(end) {
        match byte {
            b'0'..=b'9' => {
                digits += 1;
                to = end + 1;
            }
            b' ' | b'-' | b'.' | b'(' | b')' | b'/' if end == to || matches!(bytes[end - 1], b' ' | b')') => {}
            _ => break,
        }
        if digits > 15 {
            return None;
        }
        end += 1;
    }
    let is_followed = bytes.get(to).is_some_and(|b| is_word(*b) || matches!(b, b'%'));
    ((8..=15).contains(&digits) && !is_followed).then_some((at, to, "phone number"))
}

/// A bank account by its IBAN (ISO 13616): a country's letters, two check digits, up to 30 letters
/// and digits, in one piece or in groups of four; the remainder by 97 is 1.
pub(super) fn account(bytes: &[u8], at: usize) -> Cut<'static> {
    const LENGTHS: std::ops::RangeInclusive<usize> = 15..=34;
    let head = bytes.get(at..at + 4)?;
    if !(head[..2].iter().all(u8::is_ascii_uppercase) && head[2..].iter().all(u8::is_ascii_digit)) {
        return None;
    }
    let mut signs: Vec<u8> = Vec::with_capacity(34);
    let (mut found, mut end) = (None, at);
    while let Some(byte) = bytes.get(end) {
        match byte {
            b'A'..=b'Z' | b'0'..=b'9' => signs.push(*byte),
            // Groups are of four; the last may be shorter.
            b' ' if signs.len().is_multiple_of(4)
                && bytes
                    .get(end + 1)
                    .is_some_and(|b| b.is_ascii_uppercase() || b.is_ascii_digit()) => {}
            _ => break,
        }
        if signs.len() > *LENGTHS.end() {
            break;
        }
        end += 1;
        // A word in capitals may follow: the account ends where its sum is right.
        if LENGTHS.contains(&signs.len()) && !bytes.get(end).is_some_and(|b| is_word(*b)) && remainder(&signs) == 1 {
            found = Some((at, end, "bank account"));
        }
    }
    found
}

/// The remainder by 97 of an account's letters and digits, the first four moved to the end and
/// letters counted from 10 (ISO 7064, MOD 97-10).
pub(super) fn remainder(signs: &[u8]) -> u32 {
    let (front, rest) = signs.split_at(4);
    rest.iter().chain(front).fold(0, |sum, sign| {
        if sign.is_ascii_digit() {
            (sum * 10 + u32::from(sign - b'0')) % 97
        } else {
            (sum * 100 + u32::from(sign - b'A') + 10) % 97
        }
    })
}

/// Whether the digits form a card number: 13 to 19 of them, a major industry's first digit (ISO/IEC 7812: 3 to 6), the
/// Luhn check passed, and not the shape of a Unix time in milliseconds.
pub(super) fn is_card_number(number: &str) -> bool {
    let digits: Vec<u32> = number.chars().filter_map(|c| c.to_digit(10)).collect();
    if !(14..=19).contains(&digits.len()) || !(3..=6).contains(&digits[0]) {
        return false;
    }
    let sum: u32 = digits
        .iter()
        .rev()
        .enumerate()
        .map(|(at, digit)| {
            if at % 2 == 0 {
                *digit
            } else {
                digit * 2 / 10 + digit * 2 % 10
            }
        })
        .sum();
    sum.is_multiple_of(10)
}
