//! Secrets out, before anything is stored: what was once written cannot be taken back.
//!
//! Two ways find them: by the name of the place (an attribute, a key in a form, in JSON, in a header), and by shape
//! (bearer credentials, card numbers, passwords within URLs). A removed value leaves a mark with the reason.

mod addresses;
mod shapes;

use crate::telemetry::{Attributes, LogRecord, Resource, Scope, Span, Value};

pub use addresses::{Addresses, HIDDEN};
pub use shapes::text;

/// What stands in the place of a removed value; the reason stands in it.
pub(crate) fn mark(reason: &str) -> String {
    format!("[removed: {reason}]")
}

/// Words that make a name secret, as they appear between the name's separators, with the reason they leave behind.
/// `key` alone is no secret ("primary key"): only with a word that makes it one.
const SECRET_NAMES: &[(&[&str], &str)] = &[
    (&["authorization", "authentication", "proxyauthorization", "auth", "bearer", "credential", "credentials"], "credentials"),
    (&["cookie", "cookies", "setcookie"], "cookie"),
    (&["password", "passwd", "passphrase", "pwd", "passcode", "pin", "otp"], "password"),
    (&["secret", "secrets", "clientsecret", "signingkey", "encryptionkey"], "secret"),
    (&["token", "tokens", "accesstoken", "refreshtoken", "idtoken", "jwt", "csrf", "xsrf", "csrftoken"], "token"),
    (&["apikey", "apikeys", "accesskey", "secretkey", "privatekey", "sessionkey", "xapikey"], "key"),
    (&["sid", "sessionid", "session", "phpsessid", "jsessionid"], "session"),
    (&["cardnumber", "creditcard", "cvv", "cvc", "iban"], "payment data"),
];

/// Says why a value under this name must go, if it must.
///
/// # Example: names in several dresses
/// ```
/// use outcrop_core::scrub::secret_name;
/// assert_eq!(secret_name("http.request.header.authorization"), Some("credentials"));
/// assert_eq!(secret_name("dbPassword"), Some("password"));
/// assert_eq!(secret_name("x-api-key"), Some("key"));
/// assert_eq!(secret_name("session.duration"), None);
/// assert_eq!(secret_name("primary.key"), None);
/// ```
#[must_use]
pub fn secret_name(name: &str) -> Option<&'static str> {
    // Counts and lengths of secrets are none, and neither are the conventions' own harmless names.
    const HARMLESS_ENDS: &[&str] =
        &["count", "length", "duration", "type", "expiry", "size", "ms", "limit", "usage", "total", "state", "name"];
    let mut words: [&str; 24] = [""; 24];
    let mut count = 0;
    for word in split_words(name) {
        if count == words.len() {
            words.rotate_left(1);
            count -= 1;
        }
        words[count] = word;
        count += 1;
    }
    let words = &words[..count];
    let last = words.last()?;
    let joined: String = words.concat().to_ascii_lowercase();
    for (secrets, reason) in SECRET_NAMES {
        let is_whole_word = |secret: &&str| words.iter().any(|word| word.eq_ignore_ascii_case(secret));
        let is_end = |secret: &&str| secret.len() > 4 && joined.ends_with(*secret);
        if secrets.iter().any(|secret| is_whole_word(secret) || is_end(secret)) {
            return (!HARMLESS_ENDS.iter().any(|end| last.eq_ignore_ascii_case(end))).then_some(*reason);
        }
    }
    None
}

/// Splits `dbPassword`, `DB_PASSWORD`, `http.request.header.x-api-key` into words.
fn split_words(name: &str) -> impl Iterator<Item = &str> {
    name.split(|c: char| !c.is_alphanumeric()).flat_map(|part| {
        let mut rest = part;
        std::iter::from_fn(move || {
            if rest.is_empty() {
                return None;
            }
            let border = rest
                .char_indices()
                .zip(rest.chars().skip(1))
                .find(|((_, before), after)| before.is_lowercase() && after.is_uppercase())
                .map_or(rest.len(), |((at, before), _)| at + before.len_utf8());
            let (word, tail) = rest.split_at_checked(border)?;
            rest = tail;
            Some(word)
        })
    })
}

/// Scrubs one value; `name` is the name of its place.
pub fn value(name: &str, value: &mut Value) {
    if let Some(reason) = secret_name(name)
        && !matches!(value, Value::Empty | Value::Bool(_))
    {
        *value = Value::String(mark(reason));
        return;
    }
    match value {
        Value::String(content) => {
            if let Some(clean) = text(content) {
                *content = clean;
            }
        }
        Value::Int(number) if shapes::is_card_number(&number.to_string()) => *value = Value::String(mark("card number")),
        Value::Array(items) => {
            for item in items {
                self::value(name, item);
            }
        }
        Value::Map(entries) => {
            for (key, entry) in entries {
                self::value(key, entry);
                scrub_string(key);
            }
        }
        Value::Bytes(bytes) => {
            // Bytes that are text may hold a form or a token.
            if let Ok(content) = std::str::from_utf8(bytes)
                && let Some(clean) = text(content)
            {
                *bytes = clean.into_bytes();
            }
        }
        Value::Empty | Value::Bool(_) | Value::Int(_) | Value::Double(_) => {}
    }
}

/// Scrubs a set of attributes.
pub fn attributes(attributes: &mut Attributes) {
    for (name, value) in &mut attributes.0 {
        self::value(name, value);
        scrub_string(name);
    }
}

/// Scrubs a resource.
pub fn resource(resource: &mut Resource) {
    attributes(&mut resource.attributes);
}

/// Scrubs a scope.
pub fn scope(scope: &mut Scope) {
    scrub_string(&mut scope.name);
    scrub_string(&mut scope.version);
    attributes(&mut scope.attributes);
}

/// Scrubs a span with all its events.
pub fn span(span: &mut Span) {
    scrub_string(&mut span.name);
    scrub_string(&mut span.status_message);
    attributes(&mut span.attributes);
    for event in &mut span.events {
        scrub_string(&mut event.name);
        attributes(&mut event.attributes);
    }
}

/// Scrubs a log record.
pub fn log_record(record: &mut LogRecord) {
    scrub_string(&mut record.severity_text);
    scrub_string(&mut record.event_name);
    value("body", &mut record.body);
    attributes(&mut record.attributes);
}

fn scrub_string(content: &mut String) {
    if let Some(clean) = text(content) {
        *content = clean;
    }
}
