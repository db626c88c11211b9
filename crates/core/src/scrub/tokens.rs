//! Tokens that say what they are by how they begin: their issuers give them a prefix so that they
//! are found where they should not be.

/// A prefix, the least number of characters after it, and whether those are letters and digits alone.
const PREFIXES: &[(&str, usize, Alphabet)] = &[
    ("AIza", 35, Alphabet::Url),
    ("AKIA", 16, Alphabet::Capitals),
    ("ASIA", 16, Alphabet::Capitals),
    ("SG.", 40, Alphabet::Url),
    ("dop_v1_", 40, Alphabet::Letters),
    ("ghp_", 30, Alphabet::Letters),
    ("gho_", 30, Alphabet::Letters),
    ("ghr_", 30, Alphabet::Letters),
    ("ghs_", 30, Alphabet::Letters),
    ("ghu_", 30, Alphabet::Letters),
    ("github_pat_", 30, Alphabet::Url),
    ("glpat-", 20, Alphabet::Url),
    ("hf_", 30, Alphabet::Letters),
    ("npm_", 30, Alphabet::Letters),
    ("outcrop-key-", 40, Alphabet::Url),
    ("outcrop-session-", 40, Alphabet::Url),
    ("outcrop-token-", 40, Alphabet::Url),
    ("pypi-", 40, Alphabet::Url),
    ("rk_live_", 16, Alphabet::Letters),
    ("sk-", 32, Alphabet::Url),
    ("sk_live_", 16, Alphabet::Letters),
    ("whsec_", 24, Alphabet::Letters),
    ("xoxa-", 20, Alphabet::Url),
    ("xoxb-", 20, Alphabet::Url),
    ("xoxp-", 20, Alphabet::Url),
    ("xoxs-", 20, Alphabet::Url),
    ("ya29.", 20, Alphabet::Url),
];

/// The characters of a token after its prefix.
#[derive(Clone, Copy)]
enum Alphabet {
    /// Capital letters and digits.
    Capitals,
    /// Letters and digits.
    Letters,
    /// Letters, digits, and what base64url and parts need: `-`, `_`, `.`.
    Url,
}

impl Alphabet {
    const fn holds(self, byte: u8) -> bool {
        match self {
            Self::Capitals => byte.is_ascii_uppercase() || byte.is_ascii_digit(),
            Self::Letters => byte.is_ascii_alphanumeric(),
            Self::Url => byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.'),
        }
    }
}

/// Whether a prefix begins with a byte: most bytes of a text are passed over by this.
pub(super) const fn may_begin(byte: u8) -> bool {
    matches!(
        byte,
        b'A' | b'S' | b'd' | b'g' | b'h' | b'n' | b'o' | b'p' | b'r' | b's' | b'w' | b'x' | b'y'
    )
}

/// The end of a token that begins here.
pub(super) fn token(bytes: &[u8], at: usize) -> Option<usize> {
    PREFIXES.iter().find_map(|(prefix, least, alphabet)| {
        let rest = bytes[at..].strip_prefix(prefix.as_bytes())?;
        let length = rest
            .iter()
            .position(|byte| !alphabet.holds(*byte))
            .unwrap_or(rest.len());
        // Words are no tokens: these hold a digit, as all but one in a million random ones of that length do.
        (length >= *least && rest[..length].iter().any(u8::is_ascii_digit)).then_some(at + prefix.len() + length)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_prefix_begins_with_a_byte_that_is_looked_at() {
        assert!(PREFIXES.iter().all(|(prefix, _, _)| may_begin(prefix.as_bytes()[0])));
    }
}
