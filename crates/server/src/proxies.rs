//! Where a request came from, when proxies stand in between.

use std::net::IpAddr;

use actix_web::http::header::HeaderMap;
use ipnet::IpNet;

/// The address of whoever sent a request: the peer's, or where the peer is a trusted proxy, the
/// last address that proxies name which is not itself a trusted one (`X-Forwarded-For`, else
/// `Forwarded` of RFC 7239). What an untrusted peer says of itself is not believed.
pub(crate) fn client(peer: Option<IpAddr>, headers: &HeaderMap, trusted: &[IpNet]) -> Option<IpAddr> {
    let is_trusted = |address: IpAddr| trusted.iter().any(|net| net.contains(&address.to_canonical()));
    let mut known = peer?.to_canonical();
    if !is_trusted(known) {
        return Some(known);
    }
    for named in forwarded(headers).into_iter().rev() {
        // A name, an obfuscated one or nonsense: what stands before it cannot be believed either.
        let Some(address) = named else { break };
        known = address.to_canonical();
        if !is_trusted(known) {
            break;
        }
    }
    Some(known)
}

/// The same for counting attempts: of IPv6 a network of 64 bits is one sender, who has all addresses in it.
pub(crate) fn counted(address: Option<IpAddr>) -> String {
    match address {
        Some(IpAddr::V6(address)) => format!("{:x}/64", u128::from(address) >> 64),
        Some(address) => address.to_string(),
        None => "unknown".to_owned(),
    }
}

/// The addresses that proxies name, the first hop first.
fn forwarded(headers: &HeaderMap) -> Vec<Option<IpAddr>> {
    let texts = |name: &str| {
        headers
            .get_all(name)
            .filter_map(|value| value.to_str().ok())
            .flat_map(|text| text.split(','))
            .collect::<Vec<_>>()
    };
    let named = texts("x-forwarded-for");
    if !named.is_empty() {
        return named.into_iter().map(address).collect();
    }
    let for_of = |hop: &str| {
        let pair = hop.split(';').find_map(|pair| {
            pair.trim()
                .split_once('=')
                .filter(|(name, _)| name.eq_ignore_ascii_case("for"))
        });
        pair.and_then(|(_, value)| address(value.trim_matches('"')))
    };
    texts("forwarded").into_iter().map(for_of).collect()
}

/// An address with or without a port: `192.0.2.7`, `192.0.2.7:4711`, `2001:db8::7`, `[2001:db8::7]:4711`.
fn address(text: &str) -> Option<IpAddr> {
    let text = text.trim();
    text.parse()
        .ok()
        .or_else(|| text.parse::<std::net::SocketAddr>().ok().map(|both| both.ip()))
        .or_else(|| text.strip_prefix('[')?.strip_suffix(']')?.parse().ok())
}

#[cfg(test)]
mod tests {
    use actix_web::http::header::{HeaderName, HeaderValue};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::no_proxy("192.0.2.1", "", "", "192.0.2.1")]
    #[case::an_untrusted_peer_names_another("192.0.2.1", "x-forwarded-for", "198.51.100.7", "192.0.2.1")]
    #[case::a_trusted_proxy("10.0.0.1", "x-forwarded-for", "198.51.100.7", "198.51.100.7")]
    #[case::two_trusted_proxies("10.0.0.1", "x-forwarded-for", "198.51.100.7, 10.0.0.2", "198.51.100.7")]
    #[case::a_sender_that_forges_a_hop("10.0.0.1", "x-forwarded-for", "203.0.113.9, 198.51.100.7", "198.51.100.7")]
    #[case::nonsense_in_between("10.0.0.1", "x-forwarded-for", "198.51.100.7, nobody, 10.0.0.2", "10.0.0.2")]
    #[case::the_standards_header("10.0.0.1", "forwarded", "for=198.51.100.7;proto=https", "198.51.100.7")]
    #[case::with_a_port("10.0.0.1", "forwarded", "For=\"[2001:db8::7]:4711\"", "2001:db8::7")]
    #[case::a_hidden_one("10.0.0.1", "forwarded", "for=_hidden", "10.0.0.1")]
    #[case::ipv4_in_ipv6("::ffff:10.0.0.1", "x-forwarded-for", "::ffff:198.51.100.7", "198.51.100.7")]
    fn a_request_came_from(#[case] peer: &str, #[case] header: &str, #[case] value: &str, #[case] expected: &str) {
        let mut headers = HeaderMap::new();
        if !header.is_empty() {
            headers.insert(
                HeaderName::try_from(header).unwrap(),
                HeaderValue::from_str(value).unwrap(),
            );
        }
        let trusted = ["10.0.0.0/8".parse().unwrap()];
        assert_eq!(
            client(Some(peer.parse().unwrap()), &headers, &trusted),
            Some(expected.parse().unwrap())
        );
    }

    #[test]
    fn a_network_of_ipv6_counts_as_one_sender() {
        let of = |text: &str| counted(Some(text.parse().unwrap()));
        assert_eq!(of("2001:db8::1"), of("2001:db8::ffff"));
        assert_ne!(of("2001:db8::1"), of("2001:db8:0:1::1"));
        assert_ne!(of("192.0.2.1"), of("192.0.2.2"));
    }
}
