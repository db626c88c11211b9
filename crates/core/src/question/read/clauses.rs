//! Reads the clauses of a question.

use super::{LONGEST_MS, MINUTE_MS, Reader, Reading, Written};
use crate::Timestamp;
use crate::query::lex::What;
use crate::query::values::{duration, time};
use crate::query::{Mistake, Parser, parse};
use crate::question::asked::{Against, Column, MAX_TOP, Matching, Order, Question, Window};
use crate::question::words::{OF_FIELD, Place, percentile};

impl Reader<'_> {
    pub(super) fn matching(&mut self) -> Reading<Matching> {
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

    pub(super) fn span(&mut self, what: &str) -> Reading<i64> {
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

    pub(super) fn count(&mut self) -> Reading<u32> {
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

    fn at(&mut self) -> Reading<Timestamp> {
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

    pub(super) fn fixed(&mut self) -> Reading<Window> {
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

    pub(super) fn against(&mut self) -> Reading<Against> {
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
    pub(super) fn skip_order(&mut self) -> Reading<usize> {
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

    pub(super) fn order(&mut self, question: &Question) -> Reading<Order> {
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
}
