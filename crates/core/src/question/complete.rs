//! Says what may follow in a question that is being written.

use super::asked::Source;
use super::read::Reader;
use super::words::Place;
use crate::query::{Completion, Wanted, complete};

/// What may stand at a place, given in bytes: where the word being written begins, what of it is written, and what is
/// wanted.
///
/// # Example
/// ```
/// use outcrop_core::question::{Place, Source, next_words};
/// let (from, written, place) = next_words("count of occurrences by ser", 27);
/// assert_eq!((from, written.as_str(), place), (24, "ser", Place::Field(Source::Occurrences)));
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
    if let Some(start) = Reader::predicate_of(before) {
        let source = Reader::source_of(before).unwrap_or(Source::Occurrences);
        let part = before.get(start..).unwrap_or_default();
        let within = complete(part, part.len());
        if within.wanted != Wanted::Nothing {
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::query::Field;

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
