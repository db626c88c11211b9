//! Names that tell secrets, and what stands in their place.

/// The reason of a removed client address.
pub(crate) const CLIENT_ADDRESS: &str = "client address";

/// What stands in the place of a removed value; the reason stands in it.
pub(crate) fn mark(reason: &str) -> String {
    format!("[removed: {reason}]")
}

/// Words that make a name secret, as they appear between the name's separators, with the reason they leave behind.
/// `key` alone is no secret ("primary key"): only with a word that makes it one.
pub(super) const SECRET_NAMES: &[(&[&str], &str)] = &[
    (
        &[
            "authorization",
            "authentication",
            "proxyauthorization",
            "auth",
            "bearer",
            "credential",
            "credentials",
        ],
        "credentials",
    ),
    (&["cookie", "cookies", "setcookie"], "cookie"),
    (
        &["password", "passwd", "passphrase", "pwd", "passcode", "pin", "otp"],
        "password",
    ),
    (
        &["sig", "amzsignature", "googsignature", "sharedaccesssignature"],
        "signature",
    ),
    (
        &["secret", "secrets", "clientsecret", "signingkey", "encryptionkey"],
        "secret",
    ),
    (
        &[
            "token",
            "tokens",
            "accesstoken",
            "refreshtoken",
            "idtoken",
            "jwt",
            "csrf",
            "xsrf",
            "csrftoken",
        ],
        "token",
    ),
    (
        &[
            "apikey",
            "apikeys",
            "accesskey",
            "accountkey",
            "secretkey",
            "privatekey",
            "sessionkey",
            "xapikey",
        ],
        "key",
    ),
    (&["sid", "sessionid", "session", "phpsessid", "jsessionid"], "session"),
    (
        &[
            "cardnumber",
            "creditcard",
            "cvv",
            "cvc",
            "iban",
            "bankaccount",
            "accountnumber",
        ],
        "payment data",
    ),
    (
        &["phone", "phonenumber", "telephone", "mobilenumber", "msisdn"],
        "phone number",
    ),
];

/// Says why a value under this name must go, if it must.
///
/// # Example: names in several dresses
/// ```
/// use outcrop_core::scrub::secret_name;
/// assert_eq!(secret_name("http.request.header.authorization"), Some("credentials"));
/// assert_eq!(secret_name("dbPassword"), Some("password"));
/// assert_eq!(secret_name("x-api-key"), Some("key"));
/// assert_eq!(secret_name("http.request.header.x-forwarded-for"), Some("client address"));
/// assert_eq!(secret_name("SMTP_PASS"), Some("password"));
/// assert_eq!(secret_name("X-Amz-Signature"), Some("signature"));
/// assert_eq!(secret_name("boarding.pass"), None);
/// assert_eq!(secret_name("session.duration"), None);
/// assert_eq!(secret_name("primary.key"), None);
/// ```
#[must_use]
pub fn secret_name(name: &str) -> Option<&'static str> {
    // Counts and lengths of secrets are none, and neither are the conventions' own harmless names.
    const HARMLESS_ENDS: &[&str] = &[
        "count", "length", "duration", "type", "expiry", "size", "ms", "limit", "usage", "total", "state", "name",
    ];
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
    if is_pass(words) {
        return Some("password");
    }
    is_named(words).then_some(CLIENT_ADDRESS)
}

/// `pass` alone, or after what one signs in to or as (`db_pass`, `SMTP_PASS`): a boarding pass, a
/// pass of a batch and a first pass are none.
pub(super) fn is_pass(words: &[&str]) -> bool {
    const OF: &[&str] = &[
        "admin", "auth", "basic", "database", "db", "ftp", "http", "imap", "ldap", "login", "mail", "mysql", "pg",
        "pop", "postgres", "proxy", "redis", "root", "service", "sftp", "smtp", "ssh", "sudo", "user",
    ];
    match words {
        [only] => only.eq_ignore_ascii_case("pass"),
        [.., of, last] => last.eq_ignore_ascii_case("pass") && OF.iter().any(|known| of.eq_ignore_ascii_case(known)),
        [] => false,
    }
}

/// Splits `dbPassword`, `DB_PASSWORD`, `http.request.header.x-api-key` into words.
pub(super) fn split_words(name: &str) -> impl Iterator<Item = &str> {
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

/// What a name ends with that holds a client's address, in words: OpenTelemetry's names of today
/// and before, headers that proxies add, and what frameworks call it.
pub(super) const NAMES: &[&[&str]] = &[
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

pub(super) fn is_named(words: &[&str]) -> bool {
    let is_end = |name: &&[&str]| {
        words.len() >= name.len()
            && words[words.len() - name.len()..]
                .iter()
                .zip(*name)
                .all(|(word, part)| word.eq_ignore_ascii_case(part))
    };
    NAMES.iter().any(is_end)
}
