//! Requests that the service sends to other programs: to hosts that the installation names, and into private networks only
//! where it says so.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use reqwest::header::{HeaderMap, HeaderName, HeaderValue};
use reqwest::{Method, Url};
use serde_json::Value;

/// How long an answer may take, from looking the host up on.
const TIMEOUT: Duration = Duration::from_secs(10);
/// Bytes read of an answer at most: an id and an address take little.
const LONGEST_ANSWER: usize = 256 << 10;

/// Where requests may go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Allowed {
    /// Hosts, each with or without a port: `tracker.skerry.example`, `127.0.0.1:8480`.
    pub hosts: Vec<String>,
    /// Whether they may lie in private networks, or on this machine.
    pub private: bool,
}

/// A request to another program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Request {
    pub method: String,
    pub address: String,
    pub headers: Vec<(String, String)>,
    pub body: Option<Value>,
    /// Bytes sent in place of a body, where a signature is over them; their media type is a header.
    pub bytes: Option<Vec<u8>>,
}

/// What another program answered.
#[derive(Clone, Debug)]
pub(crate) struct Answer {
    pub status: u16,
    /// Null where the answer is no JSON.
    pub body: Value,
}

/// Why a request was not sent, or not answered.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Failed {
    /// The address is none that can be asked.
    #[error("`{0}` is no http or https address")]
    Address(String),
    /// The installation names other hosts.
    #[error("{0} is no host that this installation sends to; --outbound-host names those")]
    Host(String),
    /// It lies in a private network.
    #[error("{0} lies in a private network, and this installation does not send there; --outbound-private allows it")]
    Private(String),
    /// A header that is none.
    #[error("the header `{0}` cannot be sent")]
    Header(String),
    /// Nothing was answered.
    #[error("{host} did not answer: {why}")]
    Away {
        /// Who was asked.
        host: String,
        /// Why.
        why: String,
    },
}

impl Allowed {
    /// Whether requests to an address may be sent, as far as it is known without looking its host up.
    ///
    /// # Errors
    /// [`Failed`] with what is wrong with it.
    pub(crate) fn check(&self, address: &str) -> Result<Url, Failed> {
        let url = Url::parse(address).map_err(|_no_url| Failed::Address(address.to_owned()))?;
        let host = url.host_str().filter(|_| matches!(url.scheme(), "http" | "https"));
        let host = host.ok_or_else(|| Failed::Address(address.to_owned()))?;
        if !url.username().is_empty() || url.password().is_some() {
            return Err(Failed::Address(address.to_owned()));
        }
        let port = url.port_or_known_default().unwrap_or_default();
        let is_named = self.hosts.iter().any(|named| {
            let named = named.trim().to_ascii_lowercase();
            named == host || named == format!("{host}:{port}")
        });
        if is_named {
            Ok(url)
        } else {
            Err(Failed::Host(host.to_owned()))
        }
    }

    /// Sends a request and reads what is answered. Redirections are not followed: they lead elsewhere.
    pub(crate) async fn send(&self, request: &Request) -> Result<Answer, Failed> {
        let url = self.check(&request.address)?;
        let host = url.host_str().unwrap_or_default().to_owned();
        let away = |why: String| Failed::Away {
            host: host.clone(),
            why,
        };
        let headers = headers(&request.headers)?;
        let method = Method::from_bytes(request.method.as_bytes())
            .map_err(|_no_method| Failed::Header(request.method.clone()))?;
        let answered = tokio::time::timeout(TIMEOUT, async {
            let addresses = self.looked_up(&url, &host).await?;
            // The addresses that were looked at are those that are asked: a name may lead elsewhere a moment later.
            let client = reqwest::Client::builder()
                .redirect(reqwest::redirect::Policy::none())
                .no_proxy()
                .timeout(TIMEOUT)
                .resolve_to_addrs(host.trim_matches(['[', ']']), &addresses)
                .build()
                .map_err(|error| away(error.to_string()))?;
            let mut asked = client.request(method, url.clone()).headers(headers);
            if let Some(body) = &request.body {
                asked = asked.json(body);
            }
            if let Some(bytes) = &request.bytes {
                asked = asked.body(bytes.clone());
            }
            let mut answer = asked.send().await.map_err(|error| away(told(&error)))?;
            let status = answer.status().as_u16();
            let mut bytes = vec![];
            while let Some(part) = answer.chunk().await.map_err(|error| away(told(&error)))? {
                bytes.extend_from_slice(&part);
                if bytes.len() > LONGEST_ANSWER {
                    return Err(away(format!("its answer is longer than {LONGEST_ANSWER} bytes")));
                }
            }
            Ok(Answer {
                status,
                body: serde_json::from_slice(&bytes).unwrap_or_default(),
            })
        });
        answered
            .await
            .unwrap_or_else(|_elapsed| Err(away(format!("it took longer than {} s", TIMEOUT.as_secs()))))
    }

    async fn looked_up(&self, url: &Url, host: &str) -> Result<Vec<SocketAddr>, Failed> {
        let port = url.port_or_known_default().unwrap_or_default();
        let addresses: Vec<SocketAddr> = tokio::net::lookup_host((host.trim_matches(['[', ']']), port))
            .await
            .map_err(|error| Failed::Away {
                host: host.to_owned(),
                why: error.to_string(),
            })?
            .collect();
        if !self.private && addresses.iter().any(|address| is_private(address.ip())) {
            return Err(Failed::Private(host.to_owned()));
        }
        Ok(addresses)
    }
}

/// A secret by its name: of the environment, or of the service manager's credentials.
///
/// # Errors
/// A sentence that says where it was looked for.
pub(crate) fn secret_named(name: &str) -> Result<String, String> {
    let variable = format!("OUTCROP_SECRET_{}", name.to_ascii_uppercase());
    let of_manager = || {
        let folder = std::env::var_os("CREDENTIALS_DIRECTORY")?;
        std::fs::read_to_string(std::path::Path::new(&folder).join(name)).ok()
    };
    let found = std::env::var(&variable).ok().or_else(of_manager);
    found.map(|secret| secret.trim_end().to_owned()).ok_or_else(|| {
        format!("the secret `{name}` is not there: set {variable}, or the credential `{name}` of the service manager")
    })
}

/// Whether a text can be the name of a secret.
pub(crate) fn is_secret_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
}

fn headers(given: &[(String, String)]) -> Result<HeaderMap, Failed> {
    let mut headers = HeaderMap::new();
    for (name, value) in given {
        let refused = || Failed::Header(name.clone());
        let key = HeaderName::from_bytes(name.as_bytes()).map_err(|_no_name| refused())?;
        let value = HeaderValue::from_str(value).map_err(|_no_value| refused())?;
        headers.insert(key, value);
    }
    Ok(headers)
}

/// The error with its cause, without the address: it may hold a secret.
fn told(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    if std::ptr::eq(cause, error as &dyn std::error::Error) && error.is_timeout() {
        return "it took too long".to_owned();
    }
    cause.to_string()
}

/// Whether an address is not of the public internet: private, of this machine, of the link, shared, reserved, or one of
/// these wrapped in IPv6.
pub(crate) fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_private_v4(address),
        IpAddr::V6(address) => wrapped(address).map_or_else(|| is_private_v6(address), is_private_v4),
    }
}

fn is_private_v4(address: Ipv4Addr) -> bool {
    let [a, b, c, _] = address.octets();
    address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_broadcast()
        || address.is_multicast()
        || address.is_documentation()
        || a == 0
        || a >= 240
        || (a == 100 && (64..128).contains(&b))
        || (a == 192 && b == 0 && c == 0)
        || (a == 198 && (b == 18 || b == 19))
}

fn is_private_v6(address: Ipv6Addr) -> bool {
    let first = address.segments()[0];
    address.is_loopback()
        || address.is_unspecified()
        || address.is_multicast()
        || (first & 0xfe00) == 0xfc00
        || (first & 0xffc0) == 0xfe80
        || (first & 0xffc0) == 0xfec0
        || (first == 0x2001 && address.segments()[1] == 0xdb8)
}

/// The IPv4 address that an IPv6 one stands for (RFC 4291, 6052, 3056), where it does.
fn wrapped(address: Ipv6Addr) -> Option<Ipv4Addr> {
    let of = |high: u16, low: u16| {
        let ([one, two], [three, four]) = (high.to_be_bytes(), low.to_be_bytes());
        Ipv4Addr::new(one, two, three, four)
    };
    match address.segments() {
        // No address, and this machine, are IPv6's own.
        [0, 0, 0, 0, 0, 0, 0, 0 | 1] => None,
        [0, 0, 0, 0, 0, 0 | 0xffff, high, low] | [0x64, 0xff9b, 0, 0, 0, 0, high, low] | [0x2002, high, low, ..] => {
            Some(of(high, low))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    #[rstest]
    #[case("10.1.2.3", true)]
    #[case("172.31.0.1", true)]
    #[case("192.168.0.1", true)]
    #[case("127.8.0.1", true)]
    #[case("169.254.169.254", true)]
    #[case("100.64.0.1", true)]
    #[case("0.0.0.0", true)]
    #[case("198.18.0.1", true)]
    #[case("255.255.255.255", true)]
    #[case("8.8.8.8", false)]
    #[case("100.128.0.1", false)]
    #[case("::1", true)]
    #[case("::", true)]
    #[case("fd00::1", true)]
    #[case("fe80::1", true)]
    #[case("::ffff:10.0.0.1", true)]
    #[case("::ffff:8.8.8.8", false)]
    #[case("64:ff9b::a00:1", true)]
    #[case("2002:7f00:1::", true)]
    #[case("2606:4700::1", false)]
    fn an_address_is_of_the_internet_or_private(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(is_private(address.parse().unwrap()), expected);
    }

    #[rstest]
    #[case::named("https://tracker.skerry.example/tickets", true)]
    #[case::named_in_capitals("https://TRACKER.skerry.example/tickets", true)]
    #[case::with_its_port("http://127.0.0.1:8480/tickets", true)]
    #[case::with_another_port("http://127.0.0.1:5432/", false)]
    #[case::a_part_of_a_name("https://tracker.skerry.example.evil.example/", false)]
    #[case::a_name_before_an_at("https://tracker.skerry.example@evil.example/", false)]
    #[case::with_a_password("https://u:p@tracker.skerry.example/", false)]
    #[case::another_protocol("file:///etc/passwd", false)]
    #[case::gopher("gopher://tracker.skerry.example/", false)]
    #[case::nothing("tracker.skerry.example", false)]
    fn only_named_hosts_are_asked(#[case] address: &str, #[case] expected: bool) {
        let allowed = Allowed {
            hosts: vec!["Tracker.skerry.example".to_owned(), "127.0.0.1:8480".to_owned()],
            private: true,
        };
        assert_eq!(allowed.check(address).is_ok(), expected);
    }

    /// Answers each request with a fixed text; returns where, and what the first one was.
    async fn answering(answer: &'static str) -> (u16, tokio::task::JoinHandle<String>) {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let asked = tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let mut bytes = vec![0; 65_536];
            let read = stream.read(&mut bytes).await.unwrap();
            stream.write_all(answer.as_bytes()).await.unwrap();
            String::from_utf8_lossy(&bytes[..read]).into_owned()
        });
        (port, asked)
    }

    fn request(port: u16, headers: &[(&str, &str)]) -> Request {
        Request {
            method: "POST".to_owned(),
            address: format!("http://127.0.0.1:{port}/tickets"),
            headers: headers
                .iter()
                .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
                .collect(),
            body: Some(serde_json::json!({"title": "no tariff"})),
            bytes: None,
        }
    }

    #[tokio::test]
    async fn a_request_goes_to_this_machine_only_where_private_networks_are_allowed() {
        let (port, asked) =
            answering("HTTP/1.1 201 Created\r\ncontent-length: 10\r\nconnection: close\r\n\r\n{\"id\": 71}").await;
        let mut allowed = Allowed {
            hosts: vec!["127.0.0.1".to_owned()],
            private: false,
        };
        let refused = allowed.send(&request(port, &[])).await;
        assert!(matches!(refused, Err(Failed::Private(_))), "{refused:?}");
        allowed.private = true;
        let answer = allowed
            .send(&request(port, &[("authorization", "Bearer x")]))
            .await
            .unwrap();
        assert_eq!((answer.status, &answer.body["id"]), (201, &serde_json::json!(71)));
        let asked = asked.await.unwrap();
        assert!(
            asked.starts_with("POST /tickets HTTP/1.1") && asked.contains("authorization: Bearer x"),
            "{asked}"
        );
    }

    #[tokio::test]
    async fn a_redirection_is_not_followed_and_a_header_cannot_hold_another() {
        let (port, asked) =
            answering("HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n").await;
        let allowed = Allowed {
            hosts: vec!["127.0.0.1".to_owned()],
            private: true,
        };
        let injected = allowed.send(&request(port, &[("x-note", "a\r\nx-other: b")])).await;
        assert!(matches!(injected, Err(Failed::Header(_))), "{injected:?}");
        assert_eq!(allowed.send(&request(port, &[])).await.unwrap().status, 302);
        drop(asked.await);
        let away = allowed.send(&request(port, &[])).await;
        assert!(matches!(away, Err(Failed::Away { .. })), "{away:?}");
    }
}
