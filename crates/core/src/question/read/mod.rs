//! Reads questions, and says what is wrong with a text that is none.

mod clauses;

use crate::Timestamp;
use crate::query::lex::{Token, What, tokens};
use crate::query::values::unexpected;
use crate::query::{Field, Mistake};
use crate::question::asked::{DISTINCT, Group, MAX_GROUPS, MAX_MEASURES, Measure, Question, Source, WINDOW_MS, Window};
use crate::question::words::{ALONE, CLAUSES, OF_FIELD, Place, percentile};

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
    /// The first measure that requests alone have.
    of_requests: Option<usize>,
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
            of_requests: None,
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
        Self::after(text, |reader| left_of(&reader.said))
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

    fn left(&self) -> Vec<&'static str> {
        left_of(&self.said)
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
            return Err(self.expected("`occurrences`, `requests` or `lines`", &Source::ALL.map(Source::word)));
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
            "failed" => alone(Measure::Failed),
            "share" => alone(Measure::Share),
            "first" => alone(Measure::First),
            "last" => alone(Measure::Last),
            other => DISTINCT
                .iter()
                .find(|(word, _)| *word == other)
                .map(|(_, field)| Measure::Distinct(field.clone())),
        };
        if let Some(measure) = measure {
            if matches!(measure, Measure::Failed | Measure::Share) {
                self.of_requests = self.of_requests.or(Some(self.next));
            }
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
        let list = "count, failed, share, users, errors, services, first, last, or one of distinct, sum, mean, least, most, latest \
                    and p95 with a field";
        Err(self.expected(&format!("a measure: {list}"), &known))
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

    /// What cannot be said before all is read.
    fn check(&self, question: &Question) -> Reading<()> {
        if let Some(written) = self.fields.iter().find(|written| !question.source.has(&written.field)) {
            return Err(Mistake {
                at: written.at,
                length: written.length,
                message: format!("{} have no `{}`", question.source.word(), written.field.name()),
            });
        }
        for written in &self.fields {
            if let Some(message) = question.wrong_number(&written.field) {
                return Err(Mistake {
                    at: written.at,
                    length: written.length,
                    message,
                });
            }
        }
        let of_requests = self.of_requests.and_then(|at| self.tokens.get(at));
        if let Some(token) = of_requests.filter(|_| question.source != Source::Requests) {
            let message = "requests alone fail or not: ask `of requests`, or count the occurrences";
            return Err(Self::wrong(token, message));
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
        let window = (Timestamp::from_millis(0), Timestamp::from_millis(length));
        match (question.each, question.too_many(window)) {
            (Some(_), Some(message)) => of_clause("each", message),
            (Some(step), None) if step > length => of_clause("each", "the step is longer than the window".to_owned()),
            _ => Ok(()),
        }
    }
}

/// Clauses that were not said yet; a window is said in one of two ways.
fn left_of(said: &[&'static str]) -> Vec<&'static str> {
    let has_window = said.iter().any(|said| ["over", "from"].contains(said));
    let is_left = |clause: &&&str| !(said.contains(*clause) || has_window && ["over", "from"].contains(*clause));
    CLAUSES.iter().filter(is_left).copied().collect()
}
