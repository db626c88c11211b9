//! Addresses of clients: by the names they come under, wherever else the same record's attributes repeat them, and by shape in messages.
//!
//! What a message loses must not depend on the record it came in: a span names its client, the log record of the same failure does not,
//! and both must tell of one failure. So every public address goes from messages, and no other.

use std::net::IpAddr;

use super::{CLIENT_ADDRESS, mark, secret_name};
use crate::telemetry::{Attributes, Value};

/// What a name ends with that holds a client's address, in words: OpenTelemetry's names of today and before, headers that
/// proxies add, and what frameworks call it.
const NAMES: &[&[&str]] = &[
    &["client", "address"],
    &["client", "ip"],
    &["client", "socket", "address"],
    &["network", "peer", "address"],
    &["net", "peer", "ip"],
    &["sock", "peer", "addr"],
    &["forwarded", "for"],
    &["real", "ip"],
    &["connecting", "ip"],
    &["header", "forwarded"],
    &["remote", "addr"],
    &["remote", "address"],
    &["remote", "ip"],
    &["user", "ip"],
];
/// Of these, the ones that name a server where the record tells of a call.
const PEERS: &[&str] = &["network.peer.address", "net.peer.ip", "net.sock.peer.addr"];

pub(super) fn is_named(words: &[&str]) -> bool {
    let is_end = |name: &&[&str]| {
        words.len() >= name.len() && words[words.len() - name.len()..].iter().zip(*name).all(|(word, part)| word.eq_ignore_ascii_case(part))
    };
    NAMES.iter().any(is_end)
}

/// Whether a name means the server called, on the span of a call.
pub(super) fn is_peer(name: &str) -> bool {
    PEERS.contains(&name)
}

/// The addresses that attributes give as their client's, as they are written there.
pub(super) fn named_in(attributes: &Attributes, is_removed: impl Fn(&str) -> bool, found: &mut Vec<String>) {
    for (name, value) in &attributes.0 {
        if secret_name(name) == Some(CLIENT_ADDRESS) && is_removed(name) {
            let one = |text: &str| {
                let parts = text.split([',', ' ', '"', ';', '=', '[', ']']);
                // The machine's own address stands for whoever is on it, its servers too.
                parts
                    .filter(|part| part.parse::<IpAddr>().is_ok_and(|address| !address.is_loopback()))
                    .map(str::to_owned)
                    .collect::<Vec<_>>()
            };
            match value {
                Value::String(text) => found.extend(one(text)),
                Value::Array(items) => found.extend(items.iter().flat_map(|item| one(&item.to_text()))),
                _ => {}
            }
        }
    }
}

/// Takes addresses out of a text; `None` where none stands in it.
pub(super) fn without(text: &str, addresses: &[String]) -> Option<String> {
    let mut clean: Option<String> = None;
    for address in addresses {
        let content = clean.as_deref().unwrap_or(text);
        let belongs = |byte: u8| byte.is_ascii_alphanumeric() || byte == b':';
        let goes_on = |rest: &[u8]| match rest {
            [b'.', digit, ..] => digit.is_ascii_digit(),
            [byte, ..] => belongs(*byte) && !matches!(rest, [b':', ..] if address.contains('.')),
            [] => false,
        };
        let bounded = |at: &usize| {
            let before = content.as_bytes()[..*at].last();
            !before.is_some_and(|byte| belongs(*byte) && *byte != b':' || *byte == b'.')
                && !goes_on(&content.as_bytes()[at + address.len()..])
        };
        let places: Vec<usize> = content.match_indices(address.as_str()).map(|(at, _)| at).filter(bounded).collect();
        if places.is_empty() {
            continue;
        }
        let mut next = String::with_capacity(content.len());
        let mut from = 0;
        for at in places {
            next.push_str(content.get(from..at)?);
            next.push_str(&mark(CLIENT_ADDRESS));
            from = at + address.len();
        }
        next.push_str(content.get(from..)?);
        clean = Some(next);
    }
    clean
}

/// Takes public addresses out of a message; `None` where none stands in it. Addresses of the own network, of the machine itself and numbers of
/// versions stay.
pub(super) fn without_public(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let belongs = |byte: &u8| byte.is_ascii_hexdigit() || matches!(byte, b'.' | b':');
    let mut clean = String::new();
    let (mut copied, mut at) = (0, 0);
    while at < bytes.len() {
        if !belongs(&bytes[at]) {
            at += 1;
            continue;
        }
        let end = bytes[at..].iter().position(|byte| !belongs(byte)).map_or(bytes.len(), |length| at + length);
        let is_apart = |byte: Option<&u8>| !byte.is_some_and(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-'));
        let is_version = text.get(..at).is_some_and(|before| before.trim_end().ends_with("version"));
        if !is_version
            && is_apart(at.checked_sub(1).and_then(|before| bytes.get(before)))
            && is_apart(bytes.get(end))
            && let Some(length) = text.get(at..end).and_then(public_address)
        {
            clean.push_str(text.get(copied..at)?);
            clean.push_str(&mark(CLIENT_ADDRESS));
            copied = at + length;
        }
        at = end;
    }
    if copied == 0 {
        return None;
    }
    clean.push_str(text.get(copied..)?);
    Some(clean)
}

/// How long the public address is that a word of digits, dots and colons begins with; a port or a full stop may follow it.
fn public_address(word: &str) -> Option<usize> {
    let trimmed = word.trim_end_matches(['.', ':']);
    let without_port =
        trimmed.rsplit_once(':').filter(|(address, port)| address.contains('.') && port.bytes().all(|byte| byte.is_ascii_digit()));
    let address = without_port.map_or(trimmed, |(address, _)| address);
    let is_public = match address.parse().ok()? {
        IpAddr::V4(v4) => {
            !(v4.is_private() || v4.is_loopback() || v4.is_link_local() || v4.is_unspecified() || v4.is_broadcast() || v4.octets()[0] == 0)
        }
        // Paths in code look like short ones: `fed::bad`.
        IpAddr::V6(v6) => {
            address.bytes().filter(|byte| *byte == b':').count() >= 3
                && !(v6.is_loopback() || v6.is_unspecified() || v6.is_unique_local() || v6.is_unicast_link_local())
        }
    };
    is_public.then_some(address.len())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("refused for 203.0.113.24:41000.", Some("refused for [removed: client address]:41000."))]
    #[case("from 2001:db8:4af:1::7, twice", Some("from [removed: client address], twice"))]
    #[case("connect to 10.0.0.7:5432 refused; 127.0.0.1 and ::1 too", None)]
    #[case("app version 12.4.0.1 at 12:30:15", None)]
    #[case("core::fmt::write at fed::bad, v1.2.3.4", None)]
    fn public_addresses_go_from_messages_and_no_others(#[case] message: &str, #[case] expected: Option<&str>) {
        assert_eq!(without_public(message).as_deref(), expected);
    }
}
