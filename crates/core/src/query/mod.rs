//! The predicate language: `service = fares and version >= 2.4.0 and not http.response.status_code in (404, 410)`.
//!
//! [`parse`] turns text into a checked [`Predicate`]; [`complete`] says what may follow at a place
//! of a text that is being written. What a predicate is tested on is not this crate's business.

mod case;
mod complete;
mod field;
mod holds;
pub(crate) mod lex;
mod parse;
pub(crate) mod values;

pub use case::{Case, Known, number_in};
pub use complete::{Completion, Wanted, complete};
pub use field::{Field, Kind, State};
pub use holds::dotted_order;
pub(crate) use parse::Parser;
pub use parse::parse;
pub use values::closest;

use crate::Timestamp;

/// What an occurrence, and the error it belongs to, is tested for.
#[derive(Clone, Debug, PartialEq)]
pub enum Predicate {
    /// All of these.
    All(Vec<Self>),
    /// Any of these.
    Any(Vec<Self>),
    /// Not this.
    Not(Box<Self>),
    /// One test.
    Test(Test),
}

impl Predicate {
    /// The same, asked by a member: `mine` is what they have taken.
    #[must_use]
    pub fn asked_by(self, member: &str) -> Self {
        let each = |parts: Vec<Self>| parts.into_iter().map(|part| part.asked_by(member)).collect();
        match self {
            Self::All(parts) => Self::All(each(parts)),
            Self::Any(parts) => Self::Any(each(parts)),
            Self::Not(part) => Self::Not(Box::new(part.asked_by(member))),
            Self::Test(test) if test.field == Field::State(State::Mine) => Self::Test(Test {
                field: Field::TakenBy,
                check: Check::Is(
                    Comparison::Equal,
                    Value {
                        text: member.to_owned(),
                        number: None,
                        time: None,
                    },
                ),
                at: test.at,
            }),
            Self::Test(test) => Self::Test(test),
        }
    }

    /// Where it says `mine`, which only somebody who asks can: neither a rule nor what several share can.
    #[must_use]
    pub fn says_mine(&self) -> Option<usize> {
        self.tests()
            .into_iter()
            .find(|test| test.field == Field::State(State::Mine))
            .map(|test| test.at)
    }
}

/// One test of one field.
#[derive(Clone, Debug, PartialEq)]
pub struct Test {
    /// What is looked at.
    pub field: Field,
    /// What must hold of it.
    pub check: Check,
    /// Where the field's name stands in the text, in bytes.
    pub at: usize,
}

/// What must hold of a field. A field that is not there fulfils none of these.
#[derive(Clone, Debug, PartialEq)]
pub enum Check {
    /// It compares so with a value. For versions the order is that of their deploys.
    Is(Comparison, Value),
    /// It lies between two values, both included.
    Between(Value, Value),
    /// It is one of these.
    OneOf(Vec<Value>),
    /// It holds this text, whatever the case.
    Contains(String),
    /// It matches this pattern as a whole: `*` stands for any text, `?` for one character.
    Like(String),
    /// It is there.
    IsSet,
}

/// How two values compare.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
}

/// A value as it was written, read as what the field's kind asks for.
#[derive(Clone, Debug, PartialEq)]
pub struct Value {
    /// As it was written, without quotes.
    pub text: String,
    /// As a number, where it is one; of a duration (`250ms`, `2s`) the milliseconds.
    pub number: Option<f64>,
    /// As a time, where the field holds one.
    pub time: Option<When>,
}

/// A point in time, fixed or counted back from when the question is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// Fixed.
    At(Timestamp),
    /// So many milliseconds ago.
    Ago(i64),
}

impl When {
    /// The point in time as seen from now.
    #[must_use]
    pub const fn resolve(self, now: Timestamp) -> Timestamp {
        match self {
            Self::At(at) => at,
            Self::Ago(millis) => now.plus_millis(-millis),
        }
    }
}

/// Why a text is no predicate.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct Mistake {
    /// Where it was noticed, in bytes from the start.
    pub at: usize,
    /// How many bytes it concerns; 0 at the end of the text.
    pub length: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

impl Mistake {
    /// The text with the place marked below it, for a terminal.
    ///
    /// # Example
    /// ```
    /// let text = "service = fares adn version = 2.4.0";
    /// let mistake = outcrop_core::query::parse(text).unwrap_err();
    /// assert_eq!(mistake.marked(text), "service = fares adn version = 2.4.0\n                ^^^\n`adn` is not expected here: `and`, `or` or the end may follow; did you mean `and`?");
    /// ```
    #[must_use]
    pub fn marked(&self, text: &str) -> String {
        let before = text.get(..self.at).unwrap_or(text).chars().count();
        let length = text
            .get(self.at..self.at + self.length)
            .map_or(1, |part| part.chars().count())
            .max(1);
        format!("{text}\n{}{}\n{}", " ".repeat(before), "^".repeat(length), self.message)
    }
}

impl Predicate {
    /// All tests, in the order they stand.
    #[must_use]
    pub fn tests(&self) -> Vec<&Test> {
        match self {
            Self::All(parts) | Self::Any(parts) => parts.iter().flat_map(Self::tests).collect(),
            Self::Not(part) => part.tests(),
            Self::Test(test) => vec![test],
        }
    }
}

/// A value as it must be written in quotes.
#[must_use]
pub fn quoted(value: &str) -> String {
    format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Whether a text matches a pattern of [`Check::Like`], in time linear in their product at worst.
///
/// # Example
/// ```
/// use outcrop_core::query::matches;
/// assert!(matches("GET /v1/quotes/*", "GET /v1/quotes/{sailing}"));
/// assert!(!matches("2.4.?", "2.4.10"));
/// ```
#[must_use]
pub fn matches(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    let (mut p, mut t) = (0, 0);
    // Where the last `*` stood and how much of the text it has taken.
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some('*') => {
                star = Some((p, t));
                p += 1;
            }
            Some(c) if *c == '?' || *c == text[t] => {
                p += 1;
                t += 1;
            }
            _ => {
                let Some((at, taken)) = star else { return false };
                star = Some((at, taken + 1));
                (p, t) = (at + 1, taken + 1);
            }
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}
