//! Cuts the text of a predicate into words.

use super::Mistake;

/// A piece of a predicate's text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Token {
    pub what: What,
    /// Where it stands, in bytes.
    pub at: usize,
    pub length: usize,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum What {
    /// A name, a word or a bare value.
    Word(String),
    /// Text in quotes, without them.
    Quoted(String),
    /// `=`, `!=`, `<`, `<=`, `>`, `>=`.
    Sign(&'static str),
    Open,
    Close,
    Comma,
}

/// Longest predicate, in bytes: people write lines, not pages.
pub(super) const MAX_LENGTH: usize = 4_096;

const SIGNS: &[&str] = &["!=", "<=", ">=", "=", "<", ">"];

/// Cuts a text into tokens.
pub(crate) fn tokens(text: &str) -> Result<Vec<Token>, Mistake> {
    if text.len() > MAX_LENGTH {
        return Err(Mistake {
            at: MAX_LENGTH,
            length: 0,
            message: format!("the text is longer than {MAX_LENGTH} bytes"),
        });
    }
    let mut tokens = vec![];
    let mut at = 0;
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let c = rest.chars().next().unwrap_or(' ');
        let (what, length) = match c {
            c if c.is_whitespace() => {
                at += c.len_utf8();
                continue;
            }
            '(' => (What::Open, 1),
            ')' => (What::Close, 1),
            ',' => (What::Comma, 1),
            '"' | '\'' => quoted(text, at, c)?,
            _ => sign_or_word(rest, at)?,
        };
        tokens.push(Token { what, at, length });
        at += length;
    }
    Ok(tokens)
}

fn sign_or_word(rest: &str, at: usize) -> Result<(What, usize), Mistake> {
    if let Some(sign) = SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
        return Ok((What::Sign(sign), sign.len()));
    }
    let ends = |c: char| c.is_whitespace() || matches!(c, '(' | ')' | ',' | '"' | '=' | '<' | '>' | '!');
    let end = rest.find(ends).unwrap_or(rest.len());
    if end == 0 {
        let c = rest.chars().next().unwrap_or(' ');
        return Err(Mistake {
            at,
            length: c.len_utf8(),
            message: format!("`{c}` is no sign of the language; different is written `!=`"),
        });
    }
    Ok((What::Word(rest.get(..end).unwrap_or_default().to_owned()), end))
}

/// Text in quotes; within it `\"` and `\\` stand for themselves.
fn quoted(text: &str, at: usize, quote: char) -> Result<(What, usize), Mistake> {
    let mut content = String::new();
    let mut chars = text.get(at + 1..).unwrap_or_default().char_indices();
    while let Some((offset, c)) = chars.next() {
        match c {
            '\\' => content.extend(chars.next().map(|(_, c)| c)),
            c if c == quote => return Ok((What::Quoted(content), offset + 2)),
            c => content.push(c),
        }
    }
    Err(Mistake {
        at,
        length: text.len() - at,
        message: format!("the text that begins here has no closing {quote}"),
    })
}
