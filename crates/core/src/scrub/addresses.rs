//! E-mail addresses, replaced by a pseudonym: users can still be counted and found, but not written to.

use std::borrow::Cow;
use std::collections::BTreeSet;

use crate::Digest;

/// The domain of pseudonyms. They have the form of an address, so that message templates stay what they are; `.invalid`
/// belongs to nobody (RFC 2606).
const DOMAIN: &str = "address-hidden.invalid";

/// Whose e-mail addresses are kept, and the key that pseudonyms of the others are made with.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Addresses {
    /// Random bytes of this installation: without them nobody can try addresses.
    pub key: [u8; 16],
    /// The services whose addresses are kept as they are.
    pub kept_for: BTreeSet<String>,
    /// Whether those of services without a word of their own are kept.
    pub kept_for_others: bool,
    /// The services whose addresses are hidden though others' are kept.
    pub hidden_for: BTreeSet<String>,
}

/// Hides all, under a key that everybody knows: for tests and dry runs.
pub const HIDDEN: Addresses = Addresses {
    key: [0; 16],
    kept_for: BTreeSet::new(),
    kept_for_others: false,
    hidden_for: BTreeSet::new(),
};

impl Addresses {
    /// Whether a service's addresses are hidden.
    #[must_use]
    pub fn hides(&self, service: &str) -> bool {
        !self.kept_for.contains(service) && (!self.kept_for_others || self.hidden_for.contains(service))
    }

    /// The pseudonym of an address: the same for the same address, whatever the case of its letters.
    #[must_use]
    pub fn pseudonym(&self, address: &str) -> String {
        let hash = crate::Hasher::default()
            .part(b"address")
            .part(&self.key)
            .part(address.to_ascii_lowercase().as_bytes())
            .finish();
        format!("{}@{DOMAIN}", crate::text::prefix(&Digest(hash.0).to_string(), 16))
    }

    /// The hash by which users are counted; 0 for none. It is keyed: with a copy of the database
    /// alone nobody can try who somebody is.
    #[must_use]
    pub fn user_hash(&self, user: Option<&str>) -> u64 {
        user.filter(|user| !user.is_empty()).map_or(0, |user| {
            // An address and its pseudonym are one user: whether it was hidden already, and is
            // hidden at all, makes no other of them.
            let hash = crate::Hasher::default()
                .part(b"user")
                .part(&self.key)
                .part(self.in_text(user).as_bytes())
                .finish();
            hash.short().max(1)
        })
    }

    /// The text with every address replaced; as it was where it holds none.
    ///
    /// # Example
    /// ```
    /// let hidden = outcrop_core::scrub::HIDDEN.in_text("no berth for purser@skerry.example at onClick@app.js:10:5");
    /// assert!(hidden.starts_with("no berth for ") && hidden.ends_with("@address-hidden.invalid at onClick@app.js:10:5"));
    /// ```
    #[must_use]
    pub fn in_text<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let mut clean = String::new();
        let mut copied = 0;
        for at in memchr::memchr_iter(b'@', text.as_bytes()) {
            if at >= copied
                && let Some((from, to)) = address_around(text.as_bytes(), at)
                && from >= copied
            {
                let part = |from: usize, to: usize| text.get(from..to).unwrap_or_default();
                clean.push_str(part(copied, from));
                clean.push_str(&self.pseudonym(part(from, to)));
                copied = to;
            }
        }
        if copied == 0 {
            return Cow::Borrowed(text);
        }
        clean.push_str(text.get(copied..).unwrap_or_default());
        Cow::Owned(clean)
    }
}

/// The bounds of the address around an `@`, where there is one. A place in a script (`name@file.js:10:5`) is none.
fn address_around(bytes: &[u8], at: usize) -> Option<(usize, usize)> {
    let is_local = |byte: &u8| byte.is_ascii_alphanumeric() || b"._%+-".contains(byte);
    let is_domain = |byte: &u8| byte.is_ascii_alphanumeric() || b".-".contains(byte);
    let from = bytes[..at]
        .iter()
        .rposition(|byte| !is_local(byte))
        .map_or(0, |before| before + 1);
    let length = bytes[at + 1..]
        .iter()
        .position(|byte| !is_domain(byte))
        .unwrap_or(bytes.len() - at - 1);
    let mut domain = &bytes[at + 1..at + 1 + length];
    while let [rest @ .., b'.' | b'-'] = domain {
        domain = rest;
    }
    let to = at + 1 + domain.len();
    let end = domain
        .iter()
        .rposition(|byte| *byte == b'.')
        .map(|dot| &domain[dot + 1..])?;
    let is_place = bytes.get(to) == Some(&b':') && bytes.get(to + 1).is_some_and(u8::is_ascii_digit);
    let is_address =
        from < at && end.len() >= 2 && end.iter().all(u8::is_ascii_alphabetic) && !domain.starts_with(b".");
    (is_address && !is_place && domain != DOMAIN.as_bytes()).then_some((from, to))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("purser@skerry.example", true)]
    #[case("mail to <purser+ramp@pier-3.skerry.example>.", true)]
    #[case("node_modules/@skerry/fares@1.2.3/index.js", false)]
    #[case("onClick@app.js:10:5", false)]
    #[case("@skerry.example", false)]
    #[case("purser@skerry", false)]
    fn addresses_are_told_from_what_looks_like_them(#[case] text: &str, #[case] is_address: bool) {
        let hidden = HIDDEN.in_text(text);
        assert_eq!(hidden != text, is_address, "{hidden}");
        assert_eq!(HIDDEN.in_text(&hidden), hidden, "a pseudonym stays what it is");
    }

    #[test]
    fn a_pseudonym_is_of_the_address_and_the_installation() {
        let ours = Addresses {
            key: [7; 16],
            ..Addresses::default()
        };
        assert_ne!(
            ours.user_hash(Some("u-7")),
            HIDDEN.user_hash(Some("u-7")),
            "users' hashes are this installation's own"
        );
        assert_eq!((ours.user_hash(None), ours.user_hash(Some(""))), (0, 0));
        let address = "purser@skerry.example";
        assert_eq!(
            ours.user_hash(Some(address)),
            ours.user_hash(Some(&ours.pseudonym(address)))
        );
        assert_eq!(
            ours.pseudonym("Purser@Skerry.example"),
            ours.pseudonym("purser@skerry.example")
        );
        assert_ne!(
            ours.pseudonym("purser@skerry.example"),
            HIDDEN.pseudonym("purser@skerry.example")
        );
        assert_eq!(
            crate::grouping::template(&ours.in_text("purser@skerry.example has 31 messages")),
            "{email} has {n} messages"
        );
    }
}
