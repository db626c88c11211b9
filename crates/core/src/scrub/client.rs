//! Addresses of clients: by the names they come under, wherever else the same record's attributes
//! repeat them, and by shape in messages.
//!
//! What a message loses must not depend on the record it came in: a span names its client, the log
//! record of the same failure does not, and both must tell of one failure. So every public address
//! goes from messages, and no other.

use std::net::IpAddr;

use aho_corasick::AhoCorasick;

use super::{CLIENT_ADDRESS, mark, secret_name};
use crate::telemetry::{Attributes, Value};

/// Of these, the ones that name a server where the record tells of a call.
const PEERS: &[&str] = &["network.peer.address", "net.peer.ip", "net.sock.peer.addr"];

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

/// Addresses to be taken out of texts. Looking for all of them costs one pass over a text, however
/// many there are: a record may name thousands.
pub(super) struct Clients(Option<AhoCorasick>);

impl Clients {
    pub(super) fn new(mut addresses: Vec<String>) -> Self {
        addresses.sort_unstable();
        addresses.dedup();
        Self(
            (!addresses.is_empty())
                .then(|| AhoCorasick::new(addresses))
                .and_then(Result::ok),
        )
    }

    pub(super) const fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    /// Takes the addresses out of a text; `None` where none stands in it.
    pub(super) fn without(&self, text: &str) -> Option<String> {
        let mut clean = String::new();
        let mut from = 0;
        let places = self.0.as_ref()?.find_overlapping_iter(text).map(|place| place.range());
        for place in places.filter(|place| stands_alone(text.as_bytes(), place)) {
            if place.start >= from {
                clean.push_str(text.get(from..place.start)?);
                clean.push_str(&mark(CLIENT_ADDRESS));
                from = place.end;
            }
        }
        if from == 0 {
            return None;
        }
        clean.push_str(text.get(from..)?);
        Some(clean)
    }
}

/// Whether an address that was found in a text is not part of a longer word or address there.
fn stands_alone(text: &[u8], place: &std::ops::Range<usize>) -> bool {
    let belongs = |byte: u8| byte.is_ascii_alphanumeric() || byte == b':';
    let has_dots = text[place.clone()].contains(&b'.');
    let goes_on = match &text[place.end..] {
        [b'.', digit, ..] => digit.is_ascii_digit(),
        [b':', ..] => !has_dots,
        [byte, ..] => belongs(*byte),
        [] => false,
    };
    let before = text[..place.start].last();
    !goes_on && !before.is_some_and(|byte| belongs(*byte) && *byte != b':' || *byte == b'.')
}

/// Takes public addresses out of a message; `None` where none stands in it. Addresses of the own
/// network, of the machine itself and numbers of versions stay.
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
        let end = bytes[at..]
            .iter()
            .position(|byte| !belongs(byte))
            .map_or(bytes.len(), |length| at + length);
        let is_apart =
            |byte: Option<&u8>| !byte.is_some_and(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-'));
        let is_version = text
            .get(..at)
            .is_some_and(|before| before.trim_end().ends_with("version"));
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

/// How long the public address is that a word of digits, dots and colons begins with; a port or a
/// full stop may follow it.
fn public_address(word: &str) -> Option<usize> {
    let trimmed = word.trim_end_matches(['.', ':']);
    let without_port = trimmed
        .rsplit_once(':')
        .filter(|(address, port)| address.contains('.') && port.bytes().all(|byte| byte.is_ascii_digit()));
    let address = without_port.map_or(trimmed, |(address, _)| address);
    let is_public = match address.parse().ok()? {
        IpAddr::V4(v4) => {
            !(v4.is_private()
                || v4.is_loopback()
                || v4.is_link_local()
                || v4.is_unspecified()
                || v4.is_broadcast()
                || v4.octets()[0] == 0)
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
    #[case(
        "10.0.0.1",
        "GET from 10.0.0.1, then 10.0.0.12 and 110.0.0.1",
        "GET from [removed: client address], then [removed: client address] and 110.0.0.1"
    )]
    #[case(
        "2001:db8::7",
        "[2001:db8::7]:443 and 2001:db8::7:1",
        "[[removed: client address]]:443 and 2001:db8::7:1"
    )]
    #[case("10.0.0.1", "10.0.0.1:41000", "[removed: client address]:41000")]
    fn a_records_own_clients_go_wherever_they_stand_alone(
        #[case] named: &str,
        #[case] text: &str,
        #[case] expected: &str,
    ) {
        let clients = Clients::new(vec![named.to_owned(), "10.0.0.12".to_owned(), named.to_owned()]);
        assert_eq!(clients.without(text).as_deref(), Some(expected));
        assert_eq!(clients.without("no address"), None);
    }

    #[test]
    fn thousands_of_addresses_cost_one_pass_over_each_text() {
        let addresses = (0..40_000_u32)
            .map(|at| std::net::Ipv4Addr::from(0xCB00_0000 + at).to_string())
            .collect();
        let clients = Clients::new(addresses);
        let text = "203.0.9.9 ".repeat(800);
        let clean = (0..255)
            .filter_map(|_| clients.without(&text))
            .map(|clean| clean.len())
            .sum::<usize>();
        assert_eq!(clean, 255 * 800 * "[removed: client address] ".len());
    }

    #[rstest]
    #[case(
        "refused for 203.0.113.24:41000.",
        Some("refused for [removed: client address]:41000.")
    )]
    #[case("from 2001:db8:4af:1::7, twice", Some("from [removed: client address], twice"))]
    #[case("connect to 10.0.0.7:5432 refused; 127.0.0.1 and ::1 too", None)]
    #[case("app version 12.4.0.1 at 12:30:15", None)]
    #[case("core::fmt::write at fed::bad, v1.2.3.4", None)]
    fn public_addresses_go_from_messages_and_no_others(#[case] message: &str, #[case] expected: Option<&str>) {
        assert_eq!(without_public(message).as_deref(), expected);
    }
}
