//! Writes questions as they are read.

use std::fmt;

use super::asked::{Against, Column, DISTINCT, Group, Measure, Order, Question, Window};
use super::words;
use crate::Timestamp;
use crate::query::Field;

/// A duration as it is written, in the largest unit that is whole.
struct Span(i64);

impl fmt::Display for Span {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = [(86_400_000, "d"), (3_600_000, "h"), (60_000, "m"), (1_000, "s")];
        let (length, word) = unit
            .into_iter()
            .find(|(length, _)| self.0 > 0 && self.0 % length == 0)
            .unwrap_or((1, "ms"));
        write!(formatter, "{}{word}", self.0 / length)
    }
}

/// A field's name, in quotes where it would be read as something else.
struct Name<'f>(&'f Field);

impl fmt::Display for Name<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = self.0.name();
        let is_plain = !name.is_empty()
            && name.chars().all(|c| c.is_alphanumeric() || "._-/:@".contains(c))
            && !(matches!(self.0, Field::Attribute(_)) && words::is_word(name));
        if is_plain {
            formatter.write_str(name)
        } else {
            formatter.write_str(&crate::query::quoted(name))
        }
    }
}

impl fmt::Display for Measure {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Count => formatter.write_str("count"),
            Self::Failed => formatter.write_str("failed"),
            Self::Share => formatter.write_str("share"),
            Self::First => formatter.write_str("first"),
            Self::Last => formatter.write_str("last"),
            Self::Distinct(field) => match DISTINCT.iter().find(|(_, known)| known == field) {
                Some((word, _)) => formatter.write_str(word),
                None => write!(formatter, "distinct {}", Name(field)),
            },
            Self::Sum(field) => write!(formatter, "sum {}", Name(field)),
            Self::Mean(field) => write!(formatter, "mean {}", Name(field)),
            Self::Least(field) => write!(formatter, "least {}", Name(field)),
            Self::Most(field) => write!(formatter, "most {}", Name(field)),
            Self::Latest(field) => write!(formatter, "latest {}", Name(field)),
            Self::Percentile(tenths, field) if tenths % 10 == 0 => {
                write!(formatter, "p{} {}", tenths / 10, Name(field))
            }
            Self::Percentile(tenths, field) => {
                write!(formatter, "p{}.{} {}", tenths / 10, tenths % 10, Name(field))
            }
        }
    }
}

impl fmt::Display for Group {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Field(field) => Name(field).fmt(formatter),
            Self::HourOfDay => formatter.write_str("hour_of_day"),
            Self::DayOfWeek => formatter.write_str("day_of_week"),
        }
    }
}

/// The parts of a question as they are written: what a form that changes one of them puts together again.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Parts {
    /// The measures.
    pub measures: Vec<String>,
    /// The source's word.
    pub source: &'static str,
    /// What it groups by.
    pub by: Vec<String>,
    /// The predicate.
    pub matching: Option<String>,
    /// The step over time.
    pub each: Option<String>,
    /// The column that orders the rows, and `up`.
    pub order: Option<String>,
    /// How many groups are shown.
    pub top: Option<u32>,
    /// The window, with the word that begins it: `over 7d`, `from … to …`.
    pub window: Option<String>,
    /// What it is compared with: `before`, `7d earlier`.
    pub against: Option<String>,
}

impl Question {
    /// Its parts as they are written.
    #[must_use]
    pub fn parts(&self) -> Parts {
        let written = |order: Order| {
            let column = match order.column {
                Column::Group(at) => self.by.get(at).map(ToString::to_string),
                Column::Measure(at) => self.measures.get(at).map(ToString::to_string),
            };
            let way = if order.up { " up" } else { "" };
            format!("{}{way}", column.unwrap_or_default())
        };
        Parts {
            measures: self.measures.iter().map(ToString::to_string).collect(),
            source: self.source.word(),
            by: self.by.iter().map(ToString::to_string).collect(),
            matching: self.matching.as_ref().map(|matching| matching.text.clone()),
            each: self.each.map(|step| Span(step).to_string()),
            order: self.order.map(written),
            top: self.top,
            window: self.window.map(|window| match window {
                Window::Last(millis) => format!("over {}", Span(millis)),
                Window::Fixed(from, to) => format!("from {} to {}", rfc3339(from), rfc3339(to)),
            }),
            against: self.against.map(|against| match against {
                Against::Before => "before".to_owned(),
                Against::Earlier(millis) => format!("{} earlier", Span(millis)),
            }),
        }
    }
}

impl fmt::Display for Question {
    /// Writes it as it is read: [`read`] of it is the same question.
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts = self.parts();
        write!(formatter, "{} of {}", parts.measures.join(", "), parts.source)?;
        if !parts.by.is_empty() {
            write!(formatter, " by {}", parts.by.join(", "))?;
        }
        let clauses = [
            (" where ", parts.matching),
            (" each ", parts.each),
            (" order by ", parts.order),
            (" top ", parts.top.map(|top| top.to_string())),
            (" ", parts.window),
            (" against ", parts.against),
        ];
        for (word, text) in clauses {
            if let Some(text) = text {
                write!(formatter, "{word}{text}")?;
            }
        }
        Ok(())
    }
}

fn rfc3339(at: Timestamp) -> String {
    chrono::DateTime::from_timestamp_millis(at.millis()).map_or_else(String::new, |at| {
        at.to_rfc3339_opts(chrono::SecondsFormat::AutoSi, true)
    })
}
