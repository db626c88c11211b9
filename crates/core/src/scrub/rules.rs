//! What people add to the built-in scrubbing, for one service or for all.

use regex::{Regex, RegexBuilder};

use super::split_words;

/// Longest shape taken, in bytes.
pub const LONGEST_SHAPE: usize = 500;
/// Most memory a compiled shape may take, in bytes: it is tried on every text that comes in.
const MAX_COMPILED: usize = 1 << 20;

/// One thing people say of scrubbing.
#[derive(Clone, Debug)]
pub enum Rule {
    /// Values under names that end with these words are removed.
    Remove {
        /// The words, in small letters.
        words: Vec<String>,
        /// What the mark says.
        reason: String,
    },
    /// Values under names that end with these words stay, though a built-in name says otherwise.
    Keep {
        /// The words, in small letters.
        words: Vec<String>,
    },
    /// What a regular expression finds in any text is removed.
    Shape {
        /// The expression.
        shape: Regex,
        /// What the mark says.
        reason: String,
    },
}

/// A rule that cannot be used.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum BrokenRule {
    /// The name has no letter and no digit.
    #[error("a name needs letters or digits, such as `passport number`")]
    Nameless,
    /// The expression is longer than [`LONGEST_SHAPE`].
    #[error("a shape may have {LONGEST_SHAPE} bytes at most")]
    TooLong,
    /// The expression would find something in every text, even an empty one.
    #[error("this shape finds something in an empty text: it would put a mark everywhere")]
    Everywhere,
    /// The expression does not parse, or grows too large.
    #[error("this is no regular expression that can be used: {0}")]
    Shape(String),
}

/// The words of a name, whatever its dress: `passportNumber`, `passport_number` and `passport number` are alike.
fn words(name: &str) -> Result<Vec<String>, BrokenRule> {
    let words: Vec<String> = split_words(name).map(str::to_ascii_lowercase).collect();
    if words.is_empty() {
        Err(BrokenRule::Nameless)
    } else {
        Ok(words)
    }
}

impl Rule {
    /// Removes values by name.
    ///
    /// # Errors
    /// [`BrokenRule::Nameless`].
    pub fn remove(name: &str, reason: &str) -> Result<Self, BrokenRule> {
        Ok(Self::Remove {
            words: words(name)?,
            reason: reason.to_owned(),
        })
    }

    /// Keeps values by name.
    ///
    /// # Errors
    /// [`BrokenRule::Nameless`].
    pub fn keep(name: &str) -> Result<Self, BrokenRule> {
        Ok(Self::Keep { words: words(name)? })
    }

    /// Removes what an expression finds. It is of the kind that takes time in proportion to the text's length.
    ///
    /// # Errors
    /// [`BrokenRule`] when it cannot be used.
    pub fn shape(expression: &str, reason: &str) -> Result<Self, BrokenRule> {
        if expression.len() > LONGEST_SHAPE {
            return Err(BrokenRule::TooLong);
        }
        let shape = RegexBuilder::new(expression)
            .size_limit(MAX_COMPILED)
            .build()
            .map_err(|error| BrokenRule::Shape(error.to_string()))?;
        if shape.is_match("") {
            Err(BrokenRule::Everywhere)
        } else {
            Ok(Self::Shape {
                shape,
                reason: reason.to_owned(),
            })
        }
    }
}

/// The rules that hold for a service.
#[derive(Clone, Debug, Default)]
pub struct Rules(pub(super) Vec<Rule>);

/// What is said of a name.
pub(super) enum Said<'a> {
    Remove(&'a str),
    Keep,
}

impl Rules {
    pub(super) const fn none() -> Self {
        Self(Vec::new())
    }

    /// Whether there are any.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What is said of a name; to remove outweighs to keep.
    pub(super) fn of_name(&self, name: &str) -> Option<Said<'_>> {
        if self.0.is_empty() {
            return None;
        }
        let of_name: Vec<&str> = split_words(name).collect();
        let ends_with = |words: &[String]| {
            of_name.len() >= words.len()
                && of_name[of_name.len() - words.len()..]
                    .iter()
                    .zip(words)
                    .all(|(word, wanted)| word.eq_ignore_ascii_case(wanted))
        };
        let removed = self.0.iter().find_map(|rule| match rule {
            Rule::Remove { words, reason } if ends_with(words) => Some(Said::Remove(reason.as_str())),
            _ => None,
        });
        removed.or_else(|| {
            self.0
                .iter()
                .any(|rule| matches!(rule, Rule::Keep { words } if ends_with(words)))
                .then_some(Said::Keep)
        })
    }

    pub(super) fn shapes(&self) -> impl Iterator<Item = (&Regex, &str)> {
        self.0.iter().filter_map(|rule| match rule {
            Rule::Shape { shape, reason } => Some((shape, reason.as_str())),
            _ => None,
        })
    }
}
