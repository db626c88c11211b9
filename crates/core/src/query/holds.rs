//! Whether a value passes a check.

use std::cmp::Ordering;

use super::{Check, Comparison, Value, matches};
use crate::Timestamp;

impl Comparison {
    /// Whether it holds of a field that orders so beside the value.
    #[must_use]
    pub const fn holds(self, order: Ordering) -> bool {
        match self {
            Self::Equal => order.is_eq(),
            Self::NotEqual => order.is_ne(),
            Self::Less => order.is_lt(),
            Self::AtMost => order.is_le(),
            Self::Greater => order.is_gt(),
            Self::AtLeast => order.is_ge(),
        }
    }
}

impl Check {
    /// Whether it holds of a text. An empty text is one that is not set.
    #[must_use]
    pub fn holds_for_text(&self, text: &str) -> bool {
        match self {
            Self::Is(comparison, value) => comparison.holds(text.cmp(&value.text)),
            Self::Between(from, to) => *from.text <= *text && *text <= *to.text,
            Self::OneOf(values) => values.iter().any(|value| value.text == text),
            Self::Contains(part) => text.to_lowercase().contains(&part.to_lowercase()),
            Self::Like(pattern) => matches(pattern, text),
            Self::IsSet => !text.is_empty(),
        }
    }

    /// Whether it holds of a number.
    #[must_use]
    pub fn holds_for_number(&self, number: f64) -> bool {
        let compare = |value: &Value| value.number.and_then(|bound| number.partial_cmp(&bound));
        match self {
            Self::Is(comparison, value) => compare(value).is_some_and(|order| comparison.holds(order)),
            Self::Between(from, to) => {
                compare(from).is_some_and(Ordering::is_ge) && compare(to).is_some_and(Ordering::is_le)
            }
            Self::OneOf(values) => values.iter().any(|value| compare(value) == Some(Ordering::Equal)),
            Self::Contains(_) | Self::Like(_) => self.holds_for_text(&number.to_string()),
            Self::IsSet => true,
        }
    }

    /// Whether it holds of an OTLP severity number: severities compare by their names, `error` is 17 to 20.
    #[must_use]
    pub fn holds_for_severity(&self, severity: i16) -> bool {
        const NAMES: [&str; 6] = ["trace", "debug", "info", "warn", "error", "fatal"];
        let level = |text: &str| NAMES.iter().position(|name| name.eq_ignore_ascii_case(text));
        let Some(at) = usize::try_from(severity - 1)
            .ok()
            .map(|number| number / 4)
            .filter(|at| *at < NAMES.len())
        else {
            return false;
        };
        match self {
            Self::Is(comparison, value) => comparison.holds(Some(at).cmp(&level(&value.text))),
            Self::Between(from, to) => (level(&from.text)..=level(&to.text)).contains(&Some(at)),
            Self::OneOf(values) => values.iter().any(|value| level(&value.text) == Some(at)),
            other => other.holds_for_text(NAMES[at]),
        }
    }

    /// Whether it holds of a time, asked at another.
    #[must_use]
    pub fn holds_for_time(&self, at: Timestamp, now: Timestamp) -> bool {
        let compare = |value: &Value| value.time.map(|when| at.cmp(&when.resolve(now)));
        match self {
            Self::Is(comparison, value) => compare(value).is_some_and(|order| comparison.holds(order)),
            Self::Between(from, to) => {
                compare(from).is_some_and(Ordering::is_ge) && compare(to).is_some_and(Ordering::is_le)
            }
            Self::OneOf(values) => values.iter().any(|value| compare(value) == Some(Ordering::Equal)),
            Self::Contains(_) | Self::Like(_) => false,
            Self::IsSet => true,
        }
    }
}

/// The order of two versions by their dotted numbers: for those whose deploys are not known. Parts that are no numbers
/// compare as text and stand before numbers, as pre-releases do.
///
/// # Example
/// ```
/// use outcrop_core::query::dotted_order;
/// assert!(dotted_order("2.4.0", "2.10.0").is_lt() && dotted_order("2.4.0-rc1", "2.4.0").is_lt());
/// ```
#[must_use]
pub fn dotted_order(one: &str, other: &str) -> Ordering {
    let split = |version: &str| -> (Vec<u64>, String) {
        let bare = version.trim_start_matches('v');
        let (numbers, rest) = bare
            .find(|c: char| !c.is_ascii_digit() && c != '.')
            .map_or((bare, ""), |at| bare.split_at(at));
        (
            numbers.split('.').filter_map(|part| part.parse().ok()).collect(),
            rest.to_owned(),
        )
    };
    let ((numbers, rest), (other_numbers, other_rest)) = (split(one), split(other));
    numbers
        .cmp(&other_numbers)
        .then_with(|| match (rest.is_empty(), other_rest.is_empty()) {
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
            _ => rest.cmp(&other_rest),
        })
}
