//! Addresses of clients: by the names they come under, and wherever else the same record repeats them.

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
                parts.filter(|part| part.parse::<IpAddr>().is_ok()).map(str::to_owned).collect::<Vec<_>>()
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
