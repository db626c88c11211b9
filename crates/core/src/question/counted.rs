//! Questions counted for good: each makes a series that goes on by itself.

use super::asked::{Group, Measure, Question};
use crate::metric::Kind;
use crate::query::{Field, State};

/// Most fields that split a counted question into series.
pub const MAX_SPLITS: usize = 3;
/// The step of a counted question that names none, in milliseconds: five minutes.
pub const COUNTED_STEP_MS: i64 = 300_000;
const MINUTE_MS: i64 = 60_000;
const HOUR_MS: i64 = 3_600_000;

/// A question as it is counted for good.
#[derive(Clone, Debug, PartialEq)]
pub struct Counted {
    /// What is counted, without a step or window.
    pub question: Question,
    /// The step, in milliseconds: minutes that divide an hour.
    pub step_ms: i64,
}

impl Question {
    /// The question as it is counted for good: one number over time, in steps that divide an hour, five minutes where it
    /// names none. Its window, order and number of rows say how an answer is shown, and are left out.
    ///
    /// # Errors
    /// What keeps it from being counted for good, as a sentence.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::question::read;
    /// let question = read("count of occurrences by version where service = fares over 7d top 5").unwrap();
    /// let counted = question.counted_for_good().unwrap();
    /// assert_eq!(counted.question.to_string(), "count of occurrences by version where service = fares");
    /// assert_eq!(counted.step_ms, 300_000);
    /// ```
    pub fn counted_for_good(&self) -> Result<Counted, String> {
        let [measure] = self.measures.as_slice() else {
            return Err("a series is of one number: ask for one measure".to_owned());
        };
        if matches!(measure, Measure::First | Measure::Last | Measure::Latest(_)) {
            return Err(format!("`{measure}` is no number that can be drawn over time"));
        }
        if self.by.len() > MAX_SPLITS {
            return Err(format!("a series is split by {MAX_SPLITS} fields at most"));
        }
        if let Some(group) = self.by.iter().find(|group| !matches!(group, Group::Field(_))) {
            return Err(format!("a series goes on over time already: leave `{group}` out"));
        }
        if self.against.is_some() {
            return Err("a series is compared where it is looked at: leave `against` out".to_owned());
        }
        let step_ms = self.each.unwrap_or(COUNTED_STEP_MS);
        if step_ms % MINUTE_MS != 0 || HOUR_MS % step_ms != 0 {
            return Err("a series has steps of whole minutes that divide an hour: 1m, 5m, 15m, 1h".to_owned());
        }
        let tests = self.matching.iter().flat_map(|matching| matching.predicate.tests());
        if let Some(test) = tests.into_iter().find(|test| changes(&test.field)) {
            return Err(format!(
                "`{}` changes after something happened, so that no count of it holds for good",
                test.field.name()
            ));
        }
        let question = Self {
            each: None,
            window: None,
            order: None,
            top: None,
            ..self.clone()
        };
        Ok(Counted { question, step_ms })
    }

    /// What the numbers of its series are: counts and sums add up over time and over series, all else does not.
    #[must_use]
    pub fn counted_kind(&self) -> Kind {
        match self.measures.first() {
            Some(Measure::Count | Measure::Failed | Measure::Sum(_)) => Kind::Delta,
            _ => Kind::Level,
        }
    }

    /// The unit of its numbers, by UCUM: `ms` where it measures how long something took, `1` of a share, else none.
    #[must_use]
    pub fn counted_unit(&self) -> &'static str {
        match self.measures.first() {
            Some(Measure::Share) => "1",
            Some(Measure::Distinct(_)) => "",
            Some(measure) if measure.field().is_some_and(|field| self.is_in_milliseconds(field)) => "ms",
            _ => "",
        }
    }

    fn is_in_milliseconds(&self, field: &Field) -> bool {
        field.name() == "duration" || self.number_of(field).is_some_and(|number| number.is_duration)
    }

    /// Whether it looks at which error an occurrence belongs to: then it is to be counted anew where people or later
    /// releases put occurrences in other errors.
    #[must_use]
    pub fn looks_at_errors(&self) -> bool {
        let is_of_error = |field: &Field| {
            matches!(
                field,
                Field::Error | Field::Title | Field::FirstSeen | Field::FirstVersion
            )
        };
        let groups = self.by.iter().filter_map(|group| match group {
            Group::Field(field) => Some(field),
            _ => None,
        });
        let measured = self.measures.iter().filter_map(Measure::field);
        let tests = self.matching.iter().flat_map(|matching| matching.predicate.tests());
        let tested: Vec<&Field> = tests.into_iter().map(|test| &test.field).collect();
        groups.chain(measured).chain(tested).any(is_of_error)
    }
}

/// Whether what a field says of a record may be something else tomorrow.
const fn changes(field: &Field) -> bool {
    match field {
        Field::Count
        | Field::Users
        | Field::Attention
        | Field::LastSeen
        | Field::TakenBy
        | Field::Kind
        | Field::Slice
        | Field::Group => true,
        Field::State(state) => !matches!(state, State::Uncaught | State::Caught),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use crate::metric::Kind;
    use crate::question::read;

    #[rstest]
    #[case("count of occurrences", "count of occurrences", 5)]
    #[case("count of occurrences each 1m over 6h", "count of occurrences", 1)]
    #[case(
        "p95 duration of requests by endpoint each 15m over 7d top 5",
        "p95 duration of requests by endpoint",
        15
    )]
    #[case(
        "users of occurrences where uncaught each 1h",
        "users of occurrences where uncaught",
        60
    )]
    fn a_question_is_counted_by_what_it_asks_and_not_by_how_it_is_shown(
        #[case] asked: &str,
        #[case] counted: &str,
        #[case] minutes: i64,
    ) {
        let made = read(asked).unwrap().counted_for_good().unwrap();
        assert_eq!(
            (made.question.to_string().as_str(), made.step_ms),
            (counted, minutes * 60_000)
        );
        assert_eq!(read(counted).unwrap(), made.question, "its text says all of it");
    }

    #[rstest]
    #[case("count, users of occurrences", "one measure")]
    #[case("first of occurrences", "no number")]
    #[case("latest message of lines", "no number")]
    #[case("count of occurrences by version, endpoint, type, environment", "3 fields")]
    #[case("count of occurrences by hour_of_day", "over time already")]
    #[case("count of occurrences each 90s over 6h", "divide an hour")]
    #[case("count of occurrences each 7m over 6h", "divide an hour")]
    #[case("count of occurrences each 1d", "divide an hour")]
    #[case("count of occurrences over 7d against before", "leave `against` out")]
    #[case("count of occurrences where new", "changes after")]
    #[case(
        "count of occurrences where not (service = fares or taken by purser)",
        "changes after"
    )]
    fn what_no_series_can_be_made_of_is_said(#[case] asked: &str, #[case] why: &str) {
        let said = read(asked).unwrap().counted_for_good().unwrap_err();
        assert!(said.contains(why), "{said}");
    }

    #[rstest]
    #[case("p95 duration of requests", "ms")]
    #[case("share of requests", "1")]
    #[case("mean order.amount of occurrences", "")]
    #[case("count of lines", "")]
    fn numbers_have_the_unit_of_what_is_measured(#[case] asked: &str, #[case] unit: &str) {
        assert_eq!(read(asked).unwrap().counted_unit(), unit);
    }

    #[rstest]
    #[case("count of occurrences", Kind::Delta, false)]
    #[case("count of occurrences by error", Kind::Delta, true)]
    #[case("sum order.amount of occurrences", Kind::Delta, false)]
    #[case("share of requests", Kind::Level, false)]
    #[case("errors of occurrences by service", Kind::Level, true)]
    #[case("mean order.amount of occurrences where title = berth", Kind::Level, true)]
    fn counts_add_up_and_questions_of_errors_follow_them(
        #[case] asked: &str,
        #[case] kind: Kind,
        #[case] follows: bool,
    ) {
        let question = read(asked).unwrap();
        assert_eq!((question.counted_kind(), question.looks_at_errors()), (kind, follows));
    }
}
