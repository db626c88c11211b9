//! Completes a predicate at the cursor.

use super::lex::{Token, What, tokens};
use super::parse::Parser;
use super::{Field, parse};

/// What may stand at a place of a predicate that is being written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completion {
    /// Where the word being written begins, in bytes; the place itself where none is.
    pub from: usize,
    /// What of it is written, without an opening quote.
    pub written: String,
    /// What it may become.
    pub wanted: Wanted,
}

/// What is wanted at a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// The name of a field, state or attribute.
    Field,
    /// A check of this field: `=`, `in`, …
    Check(Field),
    /// A value of this field.
    Value(Field),
    /// `and`, `or`.
    Connective,
    /// Nothing: what stands before is no predicate.
    Nothing,
}

/// Says what may stand at a place, given in bytes, of a text.
///
/// # Example
/// ```
/// use outcrop_core::query::{Field, Wanted, complete};
/// let completion = complete("service = fares and version = 2.", 32);
/// assert_eq!((completion.from, completion.written.as_str(), completion.wanted), (30, "2.", Wanted::Value(Field::Version)));
/// ```
#[must_use]
pub fn complete(text: &str, at: usize) -> Completion {
    let before = text.get(..at).unwrap_or(text);
    // A quote that is still open is a value being written.
    let (mut read, open) = match tokens(before) {
        Ok(read) => (read, None),
        Err(mistake) => match tokens(before.get(..mistake.at).unwrap_or_default()) {
            Ok(read) => (
                read,
                before
                    .get(mistake.at..)
                    .map(|open| (mistake.at, open.trim_start_matches(['"', '\'']).to_owned())),
            ),
            Err(_) => {
                return Completion {
                    from: before.len(),
                    written: String::new(),
                    wanted: Wanted::Nothing,
                };
            }
        },
    };
    let (from, written) = match (open, read.last()) {
        (Some(open), _) => open,
        (
            None,
            Some(Token {
                what: What::Word(word),
                at,
                length,
            }),
        ) if at + length == before.len() => {
            let last = (*at, word.clone());
            read.pop();
            last
        }
        _ => (before.len(), String::new()),
    };
    let mut parser = Parser::new(&read, 0, before.len());
    let outcome = parser.any(0);
    let is_read = parser.next >= read.len();
    let wanted = match (outcome, parser.wanted) {
        (_, _) if !is_read => Wanted::Nothing,
        (_, parse::Wanted::Field) => Wanted::Field,
        (Err(mistake), parse::Wanted::Check(field)) if mistake.at == before.len() => Wanted::Check(field),
        (Err(mistake), parse::Wanted::Value(field)) if mistake.at == before.len() => Wanted::Value(field),
        (_, parse::Wanted::Connective) => Wanted::Connective,
        (_, parse::Wanted::Check(_) | parse::Wanted::Value(_)) => Wanted::Nothing,
    };
    Completion { from, written, wanted }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", 0, "", Wanted::Field)]
    #[case("ser", 0, "ser", Wanted::Field)]
    #[case("service ", 8, "", Wanted::Check(Field::Service))]
    #[case("service = ", 10, "", Wanted::Value(Field::Service))]
    #[case("service in (fares, st", 19, "st", Wanted::Value(Field::Service))]
    #[case("service = fares ", 16, "", Wanted::Connective)]
    #[case("service = fares and ", 20, "", Wanted::Field)]
    #[case("http.route = \"/v1/q", 13, "/v1/q", Wanted::Value(Field::Attribute("http.route".to_owned())))]
    #[case("service service ", 16, "", Wanted::Nothing)]
    fn what_may_follow_is_known(
        #[case] text: &str,
        #[case] from: usize,
        #[case] written: &str,
        #[case] wanted: Wanted,
    ) {
        assert_eq!(
            complete(text, text.len()),
            Completion {
                from,
                written: written.to_owned(),
                wanted
            }
        );
    }
}
