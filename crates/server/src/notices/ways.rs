//! Ways that go to no single member: a text to a chat, and CloudEvents to a webhook, signed as RFC 9421 has it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use chrono::{DateTime, Utc};
use hmac::{Hmac, KeyInit, Mac};
use outcrop_api::NoticeWay;
use outcrop_core::template::{Facts, fill_json};
use outcrop_store::notices::outbox::Stored;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};

use super::letter::Letter;
use crate::outbound::{Allowed, Failed, Request, is_secret_name, secret_named};

/// Longest name of a way, in characters.
const NAME: usize = 60;
/// Longest body of a chat's template, in bytes.
const BODY: usize = 16 << 10;
/// Names that are ways already, or could be taken for whom a rule tells.
const TAKEN: [&str; 6] = ["mail", "browser", "ticket", "owner", "taker", "deployer"];

/// Why a way cannot be set, or a notice not be sent by it.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refused {
    /// The setting is wrong.
    #[error("{0}")]
    Setting(String),
    /// It may not be sent there, or was not answered.
    #[error(transparent)]
    Outbound(#[from] Failed),
    /// It was answered with a status that is no success.
    #[error("{host} answered {status}")]
    Status {
        /// Who.
        host: String,
        /// The status.
        status: u16,
    },
}

impl Refused {
    /// Whether it makes no sense to try again: the receiver wants nothing more (RFC 9110: 410).
    pub(super) const fn is_final(&self) -> bool {
        matches!(self, Self::Status { status: 410, .. })
    }
}

fn setting<T>(why: impl Into<String>) -> Result<T, Refused> {
    Err(Refused::Setting(why.into()))
}

/// Whether a way can be set.
///
/// # Errors
/// [`Refused`] with what is wrong with it.
pub(crate) fn check(name: &str, way: &NoticeWay, allowed: &Allowed) -> Result<(), Refused> {
    let is_named = !name.is_empty()
        && name.chars().count() <= NAME
        && name
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.'));
    if !is_named {
        return setting(format!(
            "a way has a name of up to {NAME} letters, digits, `-`, `_` and `.`"
        ));
    }
    if TAKEN.contains(&name) {
        return setting(format!("`{name}` means something else in a rule: choose another name"));
    }
    if way.secret.as_deref().is_some_and(|name| !is_secret_name(name)) {
        return setting("a secret's name has letters, digits and _ alone");
    }
    allowed.check(&address(way, "…")?)?;
    match way.kind.as_str() {
        "chat" => {
            let body = body(way);
            if body.to_string().len() > BODY {
                return setting(format!("a chat's body has at most {BODY} bytes"));
            }
            fill_json(&body, &facts(&Letter::default())).map_err(|error| Refused::Setting(error.to_string()))?;
            Ok(())
        }
        "webhook" if way.body.is_some() => setting("a webhook gets CloudEvents: only a chat has a body of its own"),
        "webhook" if way.secret.is_none() => setting("a webhook needs a secret, with which its notices are signed"),
        "webhook" if way.address.contains("{secret}") => {
            setting("a webhook's secret signs: it has no place in the address")
        }
        "webhook" => Ok(()),
        other => setting(format!("`{other}` is no kind of way; known are chat, webhook")),
    }
}

/// The address with its secret.
fn address(way: &NoticeWay, secret: &str) -> Result<String, Refused> {
    if way.kind == "chat" && way.secret.is_some() && !way.address.contains("{secret}") {
        return setting("the address of a chat with a secret has a place for it: {secret}");
    }
    if way.secret.is_none() && way.address.contains("{secret}") {
        return setting("the address has a place for a secret: name the secret");
    }
    Ok(way
        .address
        .replace("{secret}", &utf8_percent_encode(secret, SECRET).to_string()))
}

/// A secret may be a whole path.
const SECRET: &percent_encoding::AsciiSet = &NON_ALPHANUMERIC
    .remove(b'/')
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~');

fn body(way: &NoticeWay) -> Value {
    way.body.clone().unwrap_or_else(|| json!({"text": "{text}"}))
}

fn facts(letter: &Letter) -> Facts<'static> {
    let link = match letter.items.as_slice() {
        [only] => only.link.clone(),
        _ => letter.link.clone(),
    };
    [
        ("text", letter.in_brief()),
        ("subject", letter.subject.clone()),
        ("link", link.unwrap_or_default()),
    ]
    .into()
}

/// Sends a notice by a way. Returns what was answered.
///
/// # Errors
/// [`Refused`] with the reason.
pub(super) async fn send(
    way: &NoticeWay,
    notice: &Stored,
    letter: &Letter,
    (allowed, source): (&Allowed, &str),
    now: DateTime<Utc>,
) -> Result<String, Refused> {
    let secret = way
        .secret
        .as_deref()
        .map(secret_named)
        .transpose()
        .map_err(Refused::Setting)?;
    let address = address(way, secret.as_deref().unwrap_or_default())?;
    let request = if way.kind == "chat" {
        let body = fill_json(&body(way), &facts(letter)).map_err(|error| Refused::Setting(error.to_string()))?;
        Request {
            method: "POST".to_owned(),
            address,
            headers: vec![],
            body: Some(body),
            bytes: None,
        }
    } else {
        let event = cloud_event(notice, letter, source);
        signed(
            address,
            &event,
            (way.secret.as_deref().unwrap_or_default(), &secret.unwrap_or_default()),
            now,
        )?
    };
    let host = allowed
        .check(&request.address)?
        .host_str()
        .unwrap_or_default()
        .to_owned();
    let answer = allowed.send(&request).await?;
    if (200..300).contains(&answer.status) {
        return Ok(format!("{host} answered {}", answer.status));
    }
    Err(Refused::Status {
        host,
        status: answer.status,
    })
}

/// The notice as a CloudEvent in structured mode (CloudEvents 1.0). Its id and source are the same however often it is
/// tried: receivers tell repetitions by them.
fn cloud_event(notice: &Stored, letter: &Letter, source: &str) -> Vec<u8> {
    let subject = letter.thread().map(|error| error.to_string());
    let mut event = json!({
        "specversion": "1.0",
        "id": format!("notice-{}", notice.id),
        "source": source,
        "type": format!("outcrop.notice.{}", notice.reason),
        "time": notice.made_at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
        "datacontenttype": "application/json",
        "data": letter.as_data(notice),
    });
    if let Some(subject) = subject {
        event["subject"] = subject.into();
    }
    event.to_string().into_bytes()
}

/// A request whose method, address, media type and content are signed with a shared key (RFC 9421, `hmac-sha256`), the
/// content by its digest (RFC 9530).
fn signed(address: String, bytes: &[u8], (name, key): (&str, &str), now: DateTime<Utc>) -> Result<Request, Refused> {
    const MEDIA_TYPE: &str = "application/cloudevents+json; charset=utf-8";
    let url = reqwest::Url::parse(&address).map_err(|_no_url| Failed::Address(address.clone()))?;
    let digest = format!("sha-256=:{}:", BASE64.encode(Sha256::digest(bytes)));
    let parameters = format!(
        "(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={};keyid=\"{name}\";alg=\"hmac-sha256\"",
        now.timestamp()
    );
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-type\": {MEDIA_TYPE}\n\"content-digest\": \
         {digest}\n\"@signature-params\": {parameters}"
    );
    let mut mac = Hmac::<Sha256>::new_from_slice(key.as_bytes())
        .map_err(|_no_key| Refused::Setting("the secret cannot sign".to_owned()))?;
    mac.update(base.as_bytes());
    let signature = BASE64.encode(mac.finalize().into_bytes());
    let headers = [
        ("content-type", MEDIA_TYPE.to_owned()),
        ("content-digest", digest),
        ("signature-input", format!("outcrop={parameters}")),
        ("signature", format!("outcrop=:{signature}:")),
    ];
    Ok(Request {
        method: "POST".to_owned(),
        address,
        headers: headers.map(|(name, value)| (name.to_owned(), value)).into(),
        body: None,
        bytes: Some(bytes.to_vec()),
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn allowed() -> Allowed {
        Allowed {
            hosts: vec!["chat.skerry.example".to_owned()],
            private: false,
        }
    }

    fn way(kind: &str, address: &str, secret: Option<&str>, body: Option<Value>) -> NoticeWay {
        NoticeWay {
            kind: kind.to_owned(),
            address: address.to_owned(),
            secret: secret.map(str::to_owned),
            body,
        }
    }

    const ROOM: &str = "https://chat.skerry.example/rooms/ops";

    #[rstest]
    #[case::a_chat("ops-room", way("chat", ROOM, None, None), None)]
    #[case::with_its_secret(
        "ops-room",
        way("chat", "https://chat.skerry.example/{secret}", Some("ops"), None),
        None
    )]
    #[case::with_its_form("ops-room", way("chat", ROOM, None, Some(json!([{"t": "{subject} {link}"}]))), None)]
    #[case::a_webhook("pager", way("webhook", ROOM, Some("pager"), None), None)]
    #[case::no_secret("pager", way("webhook", ROOM, None, None), Some("needs a secret"))]
    #[case::a_secret_in_the_address(
        "pager",
        way("webhook", "https://chat.skerry.example/{secret}", Some("a"), None),
        Some("signs")
    )]
    #[case::a_form("pager", way("webhook", ROOM, Some("a"), Some(json!({}))), Some("only a chat"))]
    #[case::an_unknown_place("ops-room", way("chat", ROOM, None, Some(json!("{user}"))), Some("`{user}` names"))]
    #[case::an_unknown_kind("ops-room", way("pigeon", ROOM, None, None), Some("no kind of way"))]
    #[case::another_host(
        "ops-room",
        way("chat", "https://elsewhere.example/", None, None),
        Some("--outbound-host")
    )]
    #[case::no_address("ops-room", way("chat", "ops", None, None), Some("no http or https address"))]
    #[case::no_place("ops-room", way("chat", ROOM, Some("ops"), None), Some("has a place for it"))]
    #[case::no_secret_for_it(
        "ops-room",
        way("chat", "https://chat.skerry.example/{secret}", None, None),
        Some("name the secret")
    )]
    #[case::a_word_of_rules("mail", way("chat", ROOM, None, None), Some("means something else"))]
    #[case::no_name("ops room", way("chat", ROOM, None, None), Some("a way has a name"))]
    fn a_way_is_checked_when_it_is_set(#[case] name: &str, #[case] way: NoticeWay, #[case] wrong: Option<&str>) {
        match (check(name, &way, &allowed()), wrong) {
            (Ok(()), None) => {}
            (Err(why), Some(part)) => assert!(why.to_string().contains(part), "{why}"),
            (said, _) => panic!("{said:?}"),
        }
    }

    /// The parts that RFC 9421 has a verifier read, put together by hand: an independent implementation checks them over
    /// the wire in the tests of the command line.
    #[test]
    fn a_signature_covers_method_address_media_type_content_and_time() {
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let address = "https://chat.skerry.example/rooms/ops?a=1".to_owned();
        let request = signed(address, b"{}", ("pager", "a key"), now).unwrap();
        let header = |name: &str| {
            let found = request.headers.iter().find(|(known, _)| known == name);
            found.map(|(_, value)| value.clone()).unwrap()
        };
        // The digest of `{}`, as `openssl dgst -sha256 -binary | base64` has it.
        assert_eq!(
            header("content-digest"),
            "sha-256=:RBNvo1WzZ4oRRq0W9+hknpT7T8If536DEMBg9hyq/4o=:"
        );
        assert_eq!(
            header("signature-input"),
            "outcrop=(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created=1796000000;keyid=\"pager\";\
             alg=\"hmac-sha256\""
        );
        let other = |key: &str, bytes: &[u8], at: DateTime<Utc>| {
            signed(
                "https://chat.skerry.example/rooms/ops?a=1".to_owned(),
                bytes,
                ("pager", key),
                at,
            )
            .unwrap()
            .headers
        };
        assert_eq!(other("a key", b"{}", now), request.headers);
        for changed in [
            other("another", b"{}", now),
            other("a key", b"{ }", now),
            other("a key", b"{}", now + chrono::TimeDelta::seconds(1)),
        ] {
            assert_ne!(changed[3], request.headers[3]);
        }
    }

    #[test]
    fn a_chats_text_stays_text_in_its_form() {
        let letter = Letter::for_tests("no \"tariff\"");
        let form = json!({"blocks": [{"text": "{subject}"}], "text": "{text}"});
        let filled = fill_json(&body(&way("chat", ROOM, None, Some(form))), &facts(&letter)).unwrap();
        assert_eq!(filled["blocks"][0]["text"], "no \"tariff\"");
    }
}
