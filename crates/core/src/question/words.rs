//! The words of questions, and which may follow at a place.

use super::read::Reader;
use super::{Source, read};
use crate::query::{Completion, Field, Wanted, complete};

/// Words that begin a clause.
pub(super) const CLAUSES: [&str; 8] = ["by", "where", "each", "order by", "top", "over", "from", "against"];

/// Measures that stand alone.
pub(super) const ALONE: [&str; 6] = ["count", "users", "errors", "services", "first", "last"];

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
        || read::percentile(&lower).is_some()
        || !matches!(Field::of(name), Field::Attribute(_))
}

/// What may stand at a place, given in bytes: where the word being written begins, what of it is written, what is wanted.
///
/// # Example
/// ```
/// use outcrop_core::question::{Place, Source, next_words};
/// assert_eq!(next_words("count of occurrences by ser", 27), (24, "ser".to_owned(), Place::Field(Source::Occurrences)));
/// ```
#[must_use]
pub fn next_words(text: &str, at: usize) -> (usize, String, Place) {
    let before = text.get(..at).unwrap_or(text);
    let nothing = (before.len(), String::new(), Place::Nothing);
    let from = before
        .rfind(|c: char| c.is_whitespace() || ",(".contains(c))
        .map_or(0, |last| last + 1);
    // Quotes may hold blanks: the predicate's own completion knows its values.
    let cut = before.get(..from).unwrap_or_default();
    if let Some(start) = predicate_start(before) {
        let source = Reader::source_of(before).unwrap_or(Source::Occurrences);
        let part = before.get(start..).unwrap_or_default();
        let within = complete(part, part.len());
        if !matches!(within.wanted, Wanted::Nothing) {
            let (begins, written) = (start + within.from, within.written.clone());
            let is_new_clause = within.wanted == Wanted::Connective;
            let completion = Completion { from: begins, ..within };
            if !is_new_clause || part.trim_end() == part {
                return (begins, written, Place::Predicate(source, completion));
            }
            let mut words = vec!["and", "or"];
            words.extend(Reader::clauses_left(before));
            return (begins, written, Place::Words(words));
        }
    }
    match Reader::place_after(cut) {
        Some(place) => (from, before.get(from..).unwrap_or_default().to_owned(), place),
        None => nothing,
    }
}

/// Where the predicate begins, if the text's end lies in it.
fn predicate_start(before: &str) -> Option<usize> {
    let start = Reader::predicate_of(before)?;
    before.get(start..).map(|_| start)
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", Place::Measure)]
    #[case("co", Place::Measure)]
    #[case("count, ", Place::Measure)]
    #[case("count ", Place::Words(vec!["of", ","]))]
    #[case("mean ", Place::Field(Source::Occurrences))]
    #[case("count of ", Place::Source)]
    #[case("count of lines by ", Place::Field(Source::Lines))]
    #[case("count of lines by service, ", Place::Field(Source::Lines))]
    #[case("count of lines over ", Place::Duration)]
    #[case("count of lines from ", Place::Time)]
    #[case("count of lines against ", Place::Words(vec!["before", "1d", "7d"]))]
    #[case("count of nobody by ", Place::Nothing)]
    fn what_may_follow_is_known(#[case] text: &str, #[case] expected: Place) {
        assert_eq!(next_words(text, text.len()).2, expected, "{text}");
    }

    #[test]
    fn a_clause_is_offered_once_and_within_the_predicate_its_own_words_are() {
        let (_, _, place) = next_words("count of occurrences by type over 7d ", 37);
        assert_eq!(place.words(), ["where", "each", "order by", "top", "against"]);
        let text = "count of occurrences where service = ";
        let (from, written, place) = next_words(text, text.len());
        assert_eq!((from, written.as_str()), (text.len(), ""));
        assert!(
            matches!(&place, Place::Predicate(_, completion) if completion.wanted == Wanted::Value(Field::Service)),
            "{place:?}"
        );
        let text = "count of occurrences where service = fares ";
        assert_eq!(
            next_words(text, text.len()).2.words(),
            ["and", "or", "by", "each", "order by", "top", "over", "from", "against"]
        );
    }
}
