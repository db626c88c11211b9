//! Reads questions, and says what is wrong with a text that is none.

use super::words::{ALONE, CLAUSES, OF_FIELD, Place};
use super::{
    Against, Column, DISTINCT, Group, MAX_GROUPS, MAX_MEASURES, MAX_STEPS, MAX_TOP, Matching, Measure, Order, Question,
    Source, WINDOW_MS, Window,
};
use crate::query::lex::{Token, What, tokens};
use crate::query::values::{duration, time, unexpected};
use crate::query::{Field, Mistake, Parser, parse};

/// Shortest step and window, in milliseconds.
const MINUTE_MS: i64 = 60_000;
/// Longest window, in milliseconds: a year, and a day.
const LONGEST_MS: i64 = 366 * 86_400_000;

/// Reads a question.
///
/// # Errors
/// [`Mistake`] with the place, what was expected there and, where a word looks like a slip, which one was meant.
///
/// # Example
/// ```
/// use outcrop_core::question::read;
/// let question = read("count, users of occurrences by type where service = fares over 7d top 10").unwrap();
/// assert_eq!((question.measures.len(), question.top), (2, Some(10)));
/// assert_eq!(read(&question.to_string()).unwrap(), question);
/// ```
pub fn read(text: &str) -> Result<Question, Mistake> {
    let tokens = tokens(text)?;
    let mut reader = Reader::new(text, &tokens);
    reader.question()
}

type Reading<T> = Result<T, Mistake>;

/// Where a field was written.
struct Written {
    field: Field,
    at: usize,
    length: usize,
}

/// Reads a question token by token; remembers what it was about to read.
pub(super) struct Reader<'t> {
    text: &'t str,
    tokens: &'t [Token],
    next: usize,
    place: Place,
    source: Option<Source>,
    said: Vec<&'static str>,
    fields: Vec<Written>,
    predicate_at: Option<usize>,
}

impl<'t> Reader<'t> {
    const fn new(text: &'t str, tokens: &'t [Token]) -> Self {
        Self {
            text,
            tokens,
            next: 0,
            place: Place::Measure,
            source: None,
            said: vec![],
            fields: vec![],
            predicate_at: None,
        }
    }

    /// What may stand after a text that ends between two words.
    pub(super) fn place_after(text: &str) -> Option<Place> {
        let tokens = tokens(text).ok()?;
        let mut reader = Reader::new(text, &tokens);
        let is_at_end = match reader.question() {
            Ok(_) => true,
            Err(mistake) => mistake.at >= text.trim_end().len(),
        };
        let is_read = reader.next >= tokens.len();
        Some(if is_at_end && is_read {
            reader.place
        } else {
            Place::Nothing
        })
    }

    /// The clauses that a text has not said yet.
    pub(super) fn clauses_left(text: &str) -> Vec<&'static str> {
        Self::after(text, |reader| reader.left())
    }

    /// The source that a text names.
    pub(super) fn source_of(text: &str) -> Option<Source> {
        Self::after(text, |reader| reader.source)
    }

    /// Where a text's predicate begins, if the text ends within it.
    pub(super) fn predicate_of(text: &str) -> Option<usize> {
        Self::after(text, |reader| {
            let is_last = reader.said.last() == Some(&"where");
            reader.predicate_at.filter(|_| is_last)
        })
    }

    /// What is known once as much of a text is read as can be; a quote that is still open ends it.
    fn after<T: Default>(text: &str, known: impl FnOnce(&Reader<'_>) -> T) -> T {
        let whole = tokens(text).or_else(|mistake| tokens(text.get(..mistake.at).unwrap_or_default()));
        whole.map_or_else(
            |_| T::default(),
            |tokens| {
                let mut reader = Reader::new(text, &tokens);
                // Most texts that are being written are no question yet.
                drop(reader.question());
                known(&reader)
            },
        )
    }

    fn peek(&self) -> Option<&'t Token> {
        self.tokens.get(self.next)
    }

    fn word(&self, offset: usize) -> Option<String> {
        match &self.tokens.get(self.next + offset)?.what {
            What::Word(word) => Some(word.to_ascii_lowercase()),
            _ => None,
        }
    }

    fn keyword(&mut self, keyword: &str) -> bool {
        let is_it = self.word(0).is_some_and(|word| word == keyword);
        self.next += usize::from(is_it);
        is_it
    }

    fn comma(&mut self) -> bool {
        let is_it = self.peek().is_some_and(|token| token.what == What::Comma);
        self.next += usize::from(is_it);
        is_it
    }

    /// What is wrong at the next token, or at the end.
    fn expected(&self, what: &str, known: &[&str]) -> Mistake {
        self.peek().map_or_else(
            || Mistake {
                at: self.text.len(),
                length: 0,
                message: format!("the question ends here; expected {what}"),
            },
            |token| unexpected(token, &format!("expected {what}"), known),
        )
    }

    fn wrong(token: &Token, message: impl Into<String>) -> Mistake {
        Mistake {
            at: token.at,
            length: token.length,
            message: message.into(),
        }
    }

    fn question(&mut self) -> Reading<Question> {
        let mut measures = vec![self.measure()?];
        while self.comma() {
            measures.push(self.measure()?);
        }
        if measures.len() > MAX_MEASURES {
            return Err(self.expected(&format!("`of`: a question has {MAX_MEASURES} measures at most"), &[]));
        }
        self.place = Place::Words(vec!["of", ","]);
        if !self.keyword("of") {
            return Err(self.expected("`of` and what is counted, as in `count of occurrences`", &["of"]));
        }
        let source = self.source()?;
        let mut question = Question {
            measures,
            source,
            by: vec![],
            matching: None,
            each: None,
            top: None,
            order: None,
            window: None,
            against: None,
        };
        let mut order = None;
        loop {
            self.place = Place::Words(self.left());
            let Some(token) = self.peek() else { break };
            let clause = self.clause(token)?;
            self.place = Place::Duration;
            match clause {
                "by" => question.by = self.groups()?,
                "where" => question.matching = Some(self.matching()?),
                "each" => question.each = Some(self.span("a step such as `1h`")?),
                "top" => question.top = Some(self.count()?),
                "over" => question.window = Some(Window::Last(self.span("a duration such as `24h`")?)),
                "from" => question.window = Some(self.fixed()?),
                "against" => question.against = Some(self.against()?),
                // The columns may be named before they are all known.
                _ => order = Some((self.next, self.skip_order()?)),
            }
        }
        self.check(&question)?;
        if let Some((at, end)) = order {
            self.next = at;
            question.order = Some(self.order(&question)?);
            self.next = end.max(self.next);
        }
        Ok(question)
    }

    /// Clauses that were not said yet; a window is said in one of two ways.
    fn left(&self) -> Vec<&'static str> {
        let has_window = self.said.iter().any(|said| ["over", "from"].contains(said));
        let is_left = |clause: &&&str| {
            let is_window = ["over", "from"].contains(*clause);
            !self.said.contains(*clause) && !(is_window && has_window)
        };
        CLAUSES.iter().filter(is_left).copied().collect()
    }

    fn clause(&mut self, token: &Token) -> Reading<&'static str> {
        let word = self.word(0).unwrap_or_default();
        let first = |clause: &&&str| clause.split(' ').next() == Some(word.as_str());
        let Some(clause) = CLAUSES.iter().find(first).copied() else {
            let known: Vec<&str> = self.left();
            let list = known
                .iter()
                .map(|word| format!("`{word}`"))
                .collect::<Vec<_>>()
                .join(", ");
            return Err(self.expected(&format!("the end, or one of {list}"), &known));
        };
        if !self.left().contains(&clause) {
            return Err(Self::wrong(
                token,
                format!("`{word}` is said twice: a question has one window and one of each clause"),
            ));
        }
        self.next += 1;
        self.said.push(clause);
        if clause == "order by" && !self.keyword("by") {
            return Err(self.expected("`by` and a column, as in `order by count`", &["by"]));
        }
        Ok(clause)
    }

    fn source(&mut self) -> Reading<Source> {
        self.place = Place::Source;
        let word = self.word(0).unwrap_or_default();
        let Some(source) = Source::ALL.into_iter().find(|source| source.word() == word) else {
            return Err(self.expected("`occurrences` or `lines`", &Source::ALL.map(Source::word)));
        };
        self.next += 1;
        self.source = Some(source);
        Ok(source)
    }

    fn measure(&mut self) -> Reading<Measure> {
        self.place = Place::Measure;
        let word = self.word(0).unwrap_or_default();
        let alone = |measure: Measure| Some(measure);
        let measure = match word.as_str() {
            "count" => alone(Measure::Count),
            "first" => alone(Measure::First),
            "last" => alone(Measure::Last),
            other => DISTINCT
                .iter()
                .find(|(word, _)| *word == other)
                .map(|(_, field)| Measure::Distinct(field.clone())),
        };
        if let Some(measure) = measure {
            self.note(measure.field().cloned(), self.next);
            self.next += 1;
            return Ok(measure);
        }
        let of_field: Option<fn(Field) -> Measure> = match word.as_str() {
            "distinct" => Some(Measure::Distinct),
            "sum" => Some(Measure::Sum),
            "mean" => Some(Measure::Mean),
            "least" => Some(Measure::Least),
            "most" => Some(Measure::Most),
            "latest" => Some(Measure::Latest),
            _ => None,
        };
        if let Some(made) = of_field {
            self.next += 1;
            return Ok(made(self.field()?));
        }
        if let Some(tenths) = percentile(&word) {
            self.next += 1;
            return Ok(Measure::Percentile(tenths, self.field()?));
        }
        let known: Vec<&str> = ALONE.into_iter().chain(OF_FIELD).collect();
        Err(self.expected("a measure: count, users, errors, services, distinct, sum, mean, least, most, p95 or latest with a field, first, last", &known))
    }

    fn note(&mut self, field: Option<Field>, at: usize) {
        if let Some((field, token)) = field.zip(self.tokens.get(at)) {
            self.fields.push(Written {
                field,
                at: token.at,
                length: token.length,
            });
        }
    }

    /// A field by its name; in quotes it is an attribute's.
    fn field(&mut self) -> Reading<Field> {
        self.place = Place::Field(self.source.unwrap_or(Source::Occurrences));
        let field = match self.peek().map(|token| &token.what) {
            Some(What::Word(word)) if !(CLAUSES.contains(&word.as_str()) || word == "of" || word == "order") => {
                Field::of(word)
            }
            Some(What::Quoted(name)) if !name.is_empty() => Field::Attribute(name.clone()),
            _ => return Err(self.expected("the name of a field or attribute", &[])),
        };
        let token = self.next;
        let field = if field == Field::Attribute("taken".to_owned()) {
            Field::TakenBy
        } else {
            field
        };
        if !Group::takes(&field) {
            let written = self.tokens.get(token).map_or((0, 0), |token| (token.at, token.length));
            return Err(Mistake {
                at: written.0,
                length: written.1,
                message: format!(
                    "`{}` has no value in a single record: use it after `where`",
                    field.name()
                ),
            });
        }
        self.next += 1;
        self.note(Some(field.clone()), token);
        Ok(field)
    }

    fn groups(&mut self) -> Reading<Vec<Group>> {
        let mut groups = vec![];
        loop {
            self.place = Place::Field(self.source.unwrap_or(Source::Occurrences));
            let token = self.peek();
            let group = match self.word(0).as_deref() {
                Some("hour_of_day") => Group::HourOfDay,
                Some("day_of_week") => Group::DayOfWeek,
                _ => Group::Field(self.field()?),
            };
            if !matches!(group, Group::Field(_)) {
                self.next += 1;
            }
            let is_again = groups.contains(&group);
            groups.push(group);
            if let Some(token) = token.filter(|_| is_again || groups.len() > MAX_GROUPS) {
                let why = if is_again {
                    "is named twice".to_owned()
                } else {
                    format!("is one too many: a question groups by {MAX_GROUPS} fields at most")
                };
                return Err(Self::wrong(token, format!("`{}` {why}", groups[groups.len() - 1])));
            }
            if !self.comma() {
                return Ok(groups);
            }
        }
    }

    fn matching(&mut self) -> Reading<Matching> {
        let start = self.next;
        self.predicate_at = Some(self.peek().map_or(self.text.len(), |token| token.at));
        self.place = Place::Nothing;
        let mut parser = Parser::new(self.tokens, start, self.text.len());
        let read = parser.any(0);
        self.next = parser.next;
        read?;
        let at = |index: usize| self.tokens.get(index).map_or((0, 0), |token| (token.at, token.length));
        let (from, (last, length)) = (at(start).0, at(self.next.saturating_sub(1)));
        let text = self.text.get(from..last + length).unwrap_or_default().to_owned();
        let predicate = parse(&text).map_err(|mistake| Mistake {
            at: mistake.at + from,
            ..mistake
        })?;
        for test in predicate.tests() {
            self.fields.push(Written {
                field: test.field.clone(),
                at: from + test.at,
                length: test.field.name().len(),
            });
        }
        Ok(Matching { text, predicate })
    }

    fn span(&mut self, what: &str) -> Reading<i64> {
        let token = self.peek();
        let millis = self.word(0).as_deref().and_then(duration);
        let Some((token, millis)) = token.zip(millis) else {
            return Err(self.expected(what, &[]));
        };
        #[expect(clippy::cast_possible_truncation, reason = "bounded in the next line")]
        let millis = millis.min(1e15) as i64;
        if !(MINUTE_MS..=LONGEST_MS).contains(&millis) {
            return Err(Self::wrong(
                token,
                "a duration here is a minute at least and 366 days at most",
            ));
        }
        self.next += 1;
        Ok(millis)
    }

    fn count(&mut self) -> Reading<u32> {
        self.place = Place::Nothing;
        let count = self.word(0).and_then(|word| word.parse::<u32>().ok());
        match count {
            Some(count) if (1..=MAX_TOP).contains(&count) => {
                self.next += 1;
                Ok(count)
            }
            _ => Err(self.expected(&format!("how many groups to show, 1 to {MAX_TOP}"), &[])),
        }
    }

    fn at(&mut self) -> Reading<crate::Timestamp> {
        self.place = Place::Time;
        let text = match self.peek().map(|token| &token.what) {
            Some(What::Word(text) | What::Quoted(text)) => time(text),
            _ => None,
        };
        let Some(at) = text else {
            return Err(self.expected("a time such as 2026-11-23 or 2026-11-23T04:40:00Z", &[]));
        };
        self.next += 1;
        Ok(at)
    }

    fn fixed(&mut self) -> Reading<Window> {
        let token = self.peek();
        let from = self.at()?;
        self.place = Place::Words(vec!["to"]);
        if !self.keyword("to") {
            return Err(self.expected("`to` and the end of the window", &["to"]));
        }
        let to = self.at()?;
        let length = to.millis().saturating_sub(from.millis());
        match token {
            Some(token) if !(MINUTE_MS..=LONGEST_MS).contains(&length) => Err(Self::wrong(
                token,
                "the window ends a minute after it begins at least, and 366 days at most",
            )),
            _ => Ok(Window::Fixed(from, to)),
        }
    }

    fn against(&mut self) -> Reading<Against> {
        self.place = Place::Words(vec!["before", "1d", "7d"]);
        if self.keyword("before") {
            return Ok(Against::Before);
        }
        let span = self.span("`before`, or a duration and `earlier` as in `against 7d earlier`")?;
        self.place = Place::Words(vec!["earlier"]);
        if !self.keyword("earlier") {
            return Err(self.expected("`earlier`, as in `against 7d earlier`", &["earlier"]));
        }
        Ok(Against::Earlier(span))
    }

    /// Passes over what rows are ordered by; returns where it ends.
    fn skip_order(&mut self) -> Reading<usize> {
        self.place = Place::Measure;
        if self.peek().is_none() {
            return Err(self.expected("a column, as in `order by count`", &[]));
        }
        let has_field = self
            .word(0)
            .is_some_and(|word| OF_FIELD.contains(&word.as_str()) || percentile(&word).is_some());
        self.next += if has_field { 2 } else { 1 };
        self.keyword("up");
        Ok(self.next)
    }

    fn order(&mut self, question: &Question) -> Reading<Order> {
        let (start, fields) = (self.next, self.fields.len());
        let measure = self.measure().ok();
        let measured = measure.and_then(|measure| question.measures.iter().position(|known| *known == measure));
        let column = if let Some(at) = measured {
            Column::Measure(at)
        } else {
            self.next = start;
            let name = self.peek().map(|token| match &token.what {
                What::Word(word) => word.clone(),
                What::Quoted(name) => crate::query::quoted(name),
                _ => String::new(),
            });
            let grouped = name.and_then(|name| question.by.iter().position(|group| group.to_string() == name));
            let Some(at) = grouped else {
                let columns = question.measures.iter().map(ToString::to_string);
                let columns: Vec<String> = columns.chain(question.by.iter().map(ToString::to_string)).collect();
                let known: Vec<&str> = columns.iter().map(String::as_str).collect();
                return Err(self.expected(&format!("a column of this question: {}", columns.join(", ")), &known));
            };
            self.next += 1;
            Column::Group(at)
        };
        self.fields.truncate(fields);
        Ok(Order {
            column,
            up: self.keyword("up"),
        })
    }

    /// What cannot be said before all is read.
    fn check(&self, question: &Question) -> Reading<()> {
        if let Some(written) = self.fields.iter().find(|written| !question.source.has(&written.field)) {
            return Err(Mistake {
                at: written.at,
                length: written.length,
                message: format!("{} have no `{}`", question.source.word(), written.field.name()),
            });
        }
        let of_clause = |clause: &str, message: String| {
            let is_it = |token: &&Token| matches!(&token.what, What::Word(word) if word.eq_ignore_ascii_case(clause));
            let token = self.tokens.iter().rfind(is_it);
            Err(Mistake {
                at: token.map_or(0, |token| token.at),
                length: token.map_or(0, |token| token.length),
                message,
            })
        };
        if question.top.is_some() && question.by.is_empty() {
            return of_clause(
                "top",
                "`top` says how many groups are shown: add `by` and a field".to_owned(),
            );
        }
        let length = match question.window {
            None => WINDOW_MS,
            Some(Window::Last(millis)) => millis,
            Some(Window::Fixed(from, to)) => to.millis() - from.millis(),
        };
        match question.each {
            Some(step) if length / step > MAX_STEPS => of_clause(
                "each",
                format!(
                    "the window has {} such steps, {MAX_STEPS} at most: choose a longer step",
                    length / step
                ),
            ),
            Some(step) if step > length => of_clause("each", "the step is longer than the window".to_owned()),
            _ => Ok(()),
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("count of occurrences")]
    #[case("count, users, errors of occurrences by service, version over 7d")]
    #[case("distinct season, p95 duration, p99.9 duration of occurrences by \"by\", hour_of_day top 5")]
    #[case("sum bytes, mean bytes, least bytes, most bytes of lines by host where severity >= warn and \"no tariff\"")]
    #[case(
        "count of occurrences where duration from 1s to 2s each 1h from 2026-11-23T00:00:00Z to 2026-11-24T00:00:00Z"
    )]
    #[case("count, latest message, first, last of occurrences by error order by last top 10 against before")]
    #[case("count of occurrences by version order by version up against 7d earlier")]
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
    #[case("errors of lines", 0, "lines have no `error`")]
    #[case("count of occurrences wehre type = x", 21, "did you mean `where`?")]
    #[case("count of occurrences where servcie", 27, "did you mean `service`?")]
    #[case("count of occurrences where service = fares and", 46, "the predicate ends here")]
    #[case("count of occurrences top 5", 21, "add `by`")]
    #[case("count of occurrences by type top 500", 33, "1 to 200")]
    #[case("count of occurrences each 1m over 7d", 21, "10080 such steps")]
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
            text in prop::option::of(prop::sample::select(vec!["service = fares", "season in (winter, \"a b\") or uncaught"])),
            each in prop::option::of(1..24_i64),
            top in prop::option::of(1..=MAX_TOP),
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
        fn no_text_breaks_the_reader(text in "(\\PC|count |of |by |where |each |top |over |lines |p95 |,|\\(|\"){0,30}", at in 0..60_usize) {
            if let Err(mistake) = read(&text) {
                let _marked = mistake.marked(&text);
            }
            let _words = super::super::next_words(&text, at);
        }
    }
}
