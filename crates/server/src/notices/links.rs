//! Links in notices that act for their recipient: signed, and good for a while.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use chrono::{DateTime, TimeDelta, Utc};
use hmac::{Hmac, KeyInit, Mac};
use outcrop_api::NoticeLinkAction;
use outcrop_core::Reference;
use outcrop_store::errors::handling::{self, Action, HandlingError};
use outcrop_store::notices::wishes;
use outcrop_store::people::installation;
use outcrop_store::{Database, StoreError, find, ids};
use serde::{Deserialize, Serialize};
use sha2::Sha256;

/// How long a link is good.
const GOOD_FOR: TimeDelta = TimeDelta::days(7);
/// How long an error is quiet by a link.
pub(crate) const QUIET_FOR: TimeDelta = TimeDelta::hours(24);

/// What a link does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Verb {
    /// Its recipient takes the error.
    Take,
    /// The error is quiet for a day.
    Quiet,
}

impl Verb {
    /// What it is called.
    pub(super) const fn label(self) -> &'static str {
        match self {
            Self::Take => "Take",
            Self::Quiet => "Quiet for 24 h",
        }
    }

    /// Its word on the wire.
    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::Take => "take",
            Self::Quiet => "quiet",
        }
    }
}

/// What a link says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Said {
    /// As whom it acts: a member's address.
    #[serde(rename = "m")]
    pub member: String,
    /// What it does.
    #[serde(rename = "v")]
    pub verb: Verb,
    /// To which error.
    #[serde(rename = "e")]
    pub error: Reference,
    /// Until when it is good, in seconds since 1970.
    #[serde(rename = "u")]
    until: i64,
}

/// What makes and reads links.
#[derive(Clone)]
pub(crate) struct Links {
    key: Vec<u8>,
    base: String,
    now: DateTime<Utc>,
}

impl Links {
    /// With a key, under an address, at a time.
    pub(crate) fn new(key: &[u8], base: &str, now: DateTime<Utc>) -> Self {
        Self {
            key: key.to_vec(),
            base: base.trim_end_matches('/').to_owned(),
            now,
        }
    }

    /// The link by which a member does something to an error. Its secret stands behind the `#`, which no browser sends to
    /// a server.
    pub(super) fn to(&self, member: &str, verb: Verb, error: Reference) -> Option<String> {
        let said = serde_json::to_vec(&Said {
            member: member.to_owned(),
            verb,
            error,
            until: (self.now + GOOD_FOR).timestamp(),
        });
        let said = BASE64.encode(said.ok()?);
        let signature = BASE64.encode(self.mac(&said)?.finalize().into_bytes());
        Some(format!("{}/notice-link#{said}.{signature}", self.base))
    }

    /// What a link's secret says, where it is good.
    pub(crate) fn read(&self, secret: &str) -> Option<Said> {
        let (said, signature) = secret.split_once('.')?;
        self.mac(said)?.verify_slice(&BASE64.decode(signature).ok()?).ok()?;
        let said: Said = serde_json::from_slice(&BASE64.decode(said).ok()?).ok()?;
        (said.until > self.now.timestamp()).then_some(said)
    }

    fn mac(&self, said: &str) -> Option<Hmac<Sha256>> {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key).ok()?;
        // The key signs nothing else that could be taken for a link.
        mac.update(b"notice link\0");
        mac.update(said.as_bytes());
        Some(mac)
    }
}

/// Why a link did nothing.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotDone {
    /// It is none of this installation's, was changed, or has expired.
    #[error("this link is good no more: open the error in the console")]
    GoodNoMore,
    /// Whom it was sent to may not do so any more, or the error is gone.
    #[error("{0}")]
    Gone(String),
    /// Somebody did something meanwhile.
    #[error("{0}")]
    Meanwhile(String),
    /// The database did not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Says what a link does, and does it where asked to.
///
/// # Errors
/// [`NotDone`] with the reason.
pub(crate) async fn follow(
    database: &Database,
    secret: &str,
    acts: bool,
    now: DateTime<Utc>,
) -> Result<NoticeLinkAction, NotDone> {
    let key = installation::link_key(database).await?;
    let said = Links::new(&key, "", now).read(secret).ok_or(NotDone::GoodNoMore)?;
    let recipients = wishes::recipients(database).await?;
    let member = recipients.into_iter().find(|member| member.email == said.member);
    let member = member.filter(|member| member.role != "viewer");
    let member = member.ok_or_else(|| NotDone::Gone(format!("{} may do nothing to errors any more", said.member)))?;
    let gone = || NotDone::Gone(format!("there is no error {}", said.error));
    let found = find::error(database, said.error).await?.ok_or_else(gone)?;
    if member.closed.contains(&found.service) {
        return Err(gone());
    }
    let reference = found.reference();
    let known = handling::of(database, Some(&[ids::number(reference)])).await?;
    let handling = known.values().next().cloned().unwrap_or_default();
    let action = match said.verb {
        Verb::Take => Action::Take(member.email.clone()),
        Verb::Quiet => Action::QuietUntil(now + QUIET_FOR),
    };
    if acts {
        let done = handling::act(database, &[reference], &action, (&member.email, now), None).await;
        done.map_err(|error| match error {
            HandlingError::Store(error) => NotDone::Store(error),
            other => NotDone::Meanwhile(other.to_string()),
        })?;
    }
    let sentence = match said.verb {
        Verb::Take => format!("{} takes {reference}.", member.email),
        Verb::Quiet => format!("{reference} is quiet for 24 h: nobody is told of it."),
    };
    let taken = handling
        .taken_by
        .as_ref()
        .map_or_else(|| "not taken".to_owned(), |by| format!("taken by {by}"));
    let state = handling.in_words(now).unwrap_or_else(|| "open".to_owned());
    Ok(NoticeLinkAction {
        member: member.email,
        verb: said.verb.word().to_owned(),
        reference: reference.to_string(),
        title: found.title,
        service: found.service,
        sentence,
        handling: format!("{state}, {taken}"),
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn links(key: &[u8], now: DateTime<Utc>) -> Links {
        Links::new(key, "https://outcrop.skerry.example/", now)
    }

    fn secret(links: &Links) -> String {
        let link = links
            .to("purser@skerry.example", Verb::Take, Reference::of_number(7))
            .unwrap();
        link.strip_prefix("https://outcrop.skerry.example/notice-link#")
            .unwrap()
            .to_owned()
    }

    #[test]
    fn a_link_says_what_it_was_made_for_until_it_expires() {
        let now = Utc::now();
        let secret = secret(&links(b"one", now));
        let said = links(b"one", now + TimeDelta::days(6)).read(&secret).unwrap();
        assert_eq!(
            (said.member.as_str(), said.verb, said.error),
            ("purser@skerry.example", Verb::Take, Reference::of_number(7))
        );
        assert_eq!(links(b"one", now + TimeDelta::days(8)).read(&secret), None);
        assert_eq!(links(b"another", now).read(&secret), None);
    }

    proptest! {
        #[test]
        fn a_link_that_was_changed_or_made_up_is_not_read(
            at in 0usize..100, to in "[A-Za-z0-9_.-]", made_up in ".{0,60}",
        ) {
            let links = links(b"one", Utc::now());
            let secret = secret(&links);
            let place = at % secret.len();
            let mut changed = secret.clone();
            changed.replace_range(place..=place, &to);
            prop_assert!(changed == secret || links.read(&changed).is_none());
            prop_assert_eq!(links.read(&made_up), None);
        }
    }
}
