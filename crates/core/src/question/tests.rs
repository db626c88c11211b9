//! Questions are read as they are written, and mistakes in them are told with their place.

use proptest::prelude::*;
use rstest::rstest;

use super::asked::{Against, Column, Group, Matching, Measure, Order, Question, Source, Window};
use super::{next_words, read};
use crate::query::{Field, parse};

#[rstest]
#[case("count of occurrences")]
#[case("count, users, errors of occurrences by service, version over 7d")]
#[case("distinct season, p95 duration, p99.9 duration of occurrences by \"by\", hour_of_day top 5")]
#[case("sum bytes, mean bytes, least bytes, most bytes of lines by host where severity >= warn and \"no tariff\"")]
#[case("count of occurrences where duration from 1s to 2s each 1h from 2026-11-23T00:00:00Z to 2026-11-24T00:00:00Z")]
#[case("count, latest message, first, last of occurrences by error order by last top 10 against before")]
#[case("count of occurrences by version order by version up against 7d earlier")]
#[case(
    "p95 number_1, sum number_2 of lines by service where number_1 > 5 and template = \"took {duration}, {n} left\""
)]
#[case("count, failed, share, p95 duration of requests by endpoint, \"failed\" each 5m order by share top 5")]
#[case("count, p95 duration of occurrences by endpoint order by p95 duration over 90m")]
fn questions_are_written_as_they_are_read(#[case] text: &str) {
    let question = read(text).unwrap_or_else(|mistake| panic!("{}", mistake.marked(text)));
    assert_eq!(question.to_string(), text);
}

#[test]
fn clauses_stand_in_any_order() {
    let one = read("count of lines by host where severity = error each 1h over 2d top 3").unwrap();
    let other = read("COUNT OF lines TOP 3 over 2d each 1h where severity = error by host").unwrap();
    assert_eq!(one, other);
}

#[rstest]
#[case("", 0, "expected a measure")]
#[case("cuont of occurrences", 0, "did you mean `count`?")]
#[case("count occurrences", 6, "expected `of`")]
#[case("count of occurences", 9, "did you mean `occurrences`?")]
#[case("count of occurrences by", 23, "the question ends here")]
#[case("count of occurrences by type, type", 30, "named twice")]
#[case("count of occurrences by a, b, c, d, e", 36, "4 fields at most")]
#[case("count of occurrences by open", 24, "use it after `where`")]
#[case("count of lines by endpoint", 18, "lines have no `endpoint`")]
#[case("count of lines where uncaught", 21, "lines have no `uncaught`")]
#[case("count of lines where slice = edge", 21, "lines have no `slice`")]
#[case("errors of lines", 0, "lines have no `error`")]
#[case("mean number_1 of lines", 5, "add `where template")]
#[case("mean number_1 of lines where template contains took", 5, "add `where template")]
#[case(
    "mean number_3 of lines where template = \"{n} of {n}\"",
    5,
    "`number_1` to `number_2`"
)]
#[case("count of lines where number_2 > 1 and template = \"{n}\"", 21, "one number")]
#[case("mean number_1 of lines where template = gone", 5, "no number")]
#[case("count, share of occurrences", 7, "ask `of requests`")]
#[case("count of requests by type", 21, "requests have no `type`")]
#[case("count of requests where uncaught", 24, "requests have no `uncaught`")]
#[case("count of occurrences wehre type = x", 21, "did you mean `where`?")]
#[case("count of occurrences where servcie", 27, "did you mean `service`?")]
#[case("count of occurrences where service = fares and", 46, "the predicate ends here")]
#[case("count of occurrences top 5", 21, "add `by`")]
#[case("count of occurrences by type top 500", 33, "1 to 200")]
#[case("count of occurrences each 1m over 7d", 21, "10080 such steps")]
#[case(
    "count of occurrences by type each 5m top 200 over 2d",
    29,
    "200 groups over 576 steps"
)]
#[case("count of occurrences each 2d", 21, "longer than the window")]
#[case("count of occurrences over 24 h", 26, "a duration such as")]
#[case("count of occurrences over 1h over 2h", 29, "said twice")]
#[case("count of occurrences over 1h from 2026-11-23 to 2026-11-24", 29, "said twice")]
#[case("count of occurrences from 2026-11-24 to 2026-11-23", 26, "ends a minute after")]
#[case("count of occurrences order by users", 30, "a column of this question: count")]
#[case("count of occurrences against 7d", 31, "expected `earlier`")]
#[case("p0 duration of occurrences", 0, "expected a measure")]
fn mistakes_say_where_and_what(#[case] text: &str, #[case] at: usize, #[case] part: &str) {
    let mistake = read(text).unwrap_err();
    assert!(mistake.at == at && mistake.message.contains(part), "{mistake:?}");
}

fn fields() -> impl Strategy<Value = Field> {
    let named = prop::sample::select(vec![
        Field::Service,
        Field::Version,
        Field::Message,
        Field::Type,
        Field::User,
    ]);
    let sent = "[a-z]{1,4}([._][a-z]{1,3})?|by|where|count|p95|season of year|ö\"\\\\".prop_map(Field::Attribute);
    let sent = sent.prop_filter(
        "an attribute's name",
        |field| matches!(field, Field::Attribute(name) if matches!(Field::of(name), Field::Attribute(_))),
    );
    prop_oneof![named, sent]
}

fn measures() -> impl Strategy<Value = Measure> {
    prop_oneof![
        Just(Measure::Count),
        Just(Measure::First),
        fields().prop_map(Measure::Distinct),
        fields().prop_map(Measure::Sum),
        fields().prop_map(Measure::Latest),
        (1..1_000_u16, fields()).prop_map(|(tenths, field)| Measure::Percentile(tenths, field)),
    ]
}

prop_compose! {
    fn questions()(
        measures in prop::collection::vec(measures(), 1..4),
        by in prop::collection::vec(fields().prop_map(Group::Field), 0..3),
        text in prop::option::of(prop::sample::select(vec![
            "service = fares", "season in (winter, \"a b\") or uncaught",
        ])),
        each in prop::option::of(1..24_i64),
        // With as many steps as there may be, more groups would be too many points.
        top in prop::option::of(1..=50_u32),
        days in prop::option::of(1..30_i64),
        is_earlier in any::<bool>(),
        up in any::<bool>(),
    ) -> Question {
        let mut seen = vec![];
        for group in by {
            if !seen.contains(&group) {
                seen.push(group);
            }
        }
        let last = measures.len() - 1;
        let first = measures.iter().position(|measure| *measure == measures[last]).unwrap_or_default();
        Question {
            source: Source::Occurrences,
            matching: text.map(|text| Matching { text: text.to_owned(), predicate: parse(text).unwrap() }),
            each: each.map(|hours| hours * 3_600_000),
            top: top.filter(|_| !seen.is_empty()),
            order: Some(Order { column: Column::Measure(first), up }),
            window: days.map(|days| Window::Last(days * 86_400_000)),
            against: Some(if is_earlier { Against::Earlier(86_400_000) } else { Against::Before }),
            by: seen,
            measures,
        }
    }
}

proptest! {
    #[test]
    fn what_is_written_is_read_as_the_same_question(question in questions()) {
        let text = question.to_string();
        let read = read(&text).map_err(|mistake| TestCaseError::fail(mistake.marked(&text)))?;
        prop_assert_eq!(read, question, "{}", text);
    }

    #[test]
    fn no_text_breaks_the_reader(
        text in "(\\PC|count |of |by |where |each |top |over |lines |p95 |,|\\(|\"){0,30}",
        at in 0..60_usize,
    ) {
        if let Err(mistake) = read(&text) {
            let _marked = mistake.marked(&text);
        }
        let _words = next_words(&text, at);
    }
}
