//! The words of questions, and what may stand at a place.

use super::asked::Source;
use crate::query::{Completion, Field};

/// Words that begin a clause.
pub(super) const CLAUSES: [&str; 8] = ["by", "where", "each", "order by", "top", "over", "from", "against"];

/// Measures that stand alone.
pub(super) const ALONE: [&str; 8] = [
    "count", "failed", "share", "users", "errors", "services", "first", "last",
];

/// Measures of a field, which follows them.
pub(super) const OF_FIELD: [&str; 6] = ["distinct", "sum", "mean", "least", "most", "latest"];

/// Percentiles that are offered; any other may be written.
const PERCENTILES: [&str; 3] = ["p50", "p95", "p99"];

/// Groups that are no fields.
pub(super) const TIMES: [&str; 2] = ["hour_of_day", "day_of_week"];

/// What may stand at a place of a question that is being written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A measure.
    Measure,
    /// The source, after `of`.
    Source,
    /// A field of the source, to measure or to group by.
    Field(Source),
    /// One of these words.
    Words(Vec<&'static str>),
    /// A part of the predicate; its places are counted from the text's start.
    Predicate(Source, Completion),
    /// A duration such as `24h`.
    Duration,
    /// A time such as 2026-11-23T04:40:00Z.
    Time,
    /// Nothing: what stands before is no question, or ends one.
    Nothing,
}

/// Whether a name would be read as a word of the language or as a field.
pub(super) fn is_word(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let known = [
        CLAUSES.as_slice(),
        &ALONE,
        &OF_FIELD,
        &TIMES,
        &["of", "order", "up", "to", "before", "earlier"],
    ];
    known.concat().contains(&lower.as_str())
        || percentile(&lower).is_some()
        || !matches!(Field::of(name), Field::Attribute(_))
}

impl Place {
    /// The words of the language that may stand here.
    #[must_use]
    pub fn words(&self) -> Vec<&'static str> {
        match self {
            Self::Measure => [ALONE.as_slice(), &OF_FIELD, &PERCENTILES].concat(),
            Self::Source => Source::ALL.map(Source::word).to_vec(),
            Self::Field(_) => TIMES.to_vec(),
            Self::Words(words) => words.clone(),
            Self::Duration => vec!["1h", "24h", "7d", "30d"],
            Self::Predicate(..) | Self::Time | Self::Nothing => vec![],
        }
    }
}

/// `p95`, `p99.9` in tenths of a percent.
pub(super) fn percentile(word: &str) -> Option<u16> {
    let number = word.strip_prefix('p')?;
    let (whole, tenth) = number.split_once('.').unwrap_or((number, "0"));
    let is_digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if !is_digits(whole) || !is_digits(tenth) || whole.len() > 2 || tenth.len() > 1 {
        return None;
    }
    let tenths = whole.parse::<u16>().ok()? * 10 + tenth.parse::<u16>().ok()?;
    (tenths > 0).then_some(tenths)
}
