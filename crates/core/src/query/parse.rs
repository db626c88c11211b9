//! Reads predicates, and says what is wrong with a text that is none.

use super::lex::{Token, What, tokens};
use super::{Check, Comparison, Field, Kind, Mistake, Predicate, Test, Value, When};
use crate::Reference;
use crate::query::values::{Parsed, closest, comparison, duration, fits, is_text, severity, time, unexpected, value};

/// Deepest nesting of brackets and `not`.
const MAX_DEPTH: usize = 32;

/// Reads a predicate.
///
/// # Errors
/// [`Mistake`] with the place, what was expected there and, where a word looks like a slip, which one was meant.
///
/// # Example
/// ```
/// use outcrop_core::query::{Predicate, parse};
/// let predicate = parse("service = fares and (uncaught or count > 100) and not http.route like '/v1/*'").unwrap();
/// assert!(matches!(predicate, Predicate::All(parts) if parts.len() == 3));
/// ```
pub fn parse(text: &str) -> Result<Predicate, Mistake> {
    let tokens = tokens(text)?;
    let mut parser = Parser::new(&tokens, 0, text.len());
    let predicate = parser.any(0)?;
    match parser.peek() {
        None => Ok(predicate),
        Some(token) => Err(unexpected(token, "`and`, `or` or the end may follow", &["and", "or"])),
    }
}

/// What the parser was about to read: what a completion offers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wanted {
    Field,
    Check(Field),
    Value(Field),
    Connective,
}

pub(crate) struct Parser<'t> {
    pub(super) tokens: &'t [Token],
    /// The token that is read next.
    pub(crate) next: usize,
    pub(super) end: usize,
    pub(super) wanted: Wanted,
}

impl<'t> Parser<'t> {
    /// Reads a predicate from a token on, in a text of `end` bytes.
    pub(crate) const fn new(tokens: &'t [Token], next: usize, end: usize) -> Self {
        Self {
            tokens,
            next,
            end,
            wanted: Wanted::Field,
        }
    }

    fn peek(&self) -> Option<&'t Token> {
        self.tokens.get(self.next)
    }

    fn take(&mut self) -> Option<&'t Token> {
        let token = self.peek()?;
        self.next += 1;
        Some(token)
    }

    fn word(&self, offset: usize) -> Option<&'t str> {
        match &self.tokens.get(self.next + offset)?.what {
            What::Word(word) => Some(word),
            _ => None,
        }
    }

    /// Takes a keyword, whatever its case.
    fn keyword(&mut self, keyword: &str) -> bool {
        let is_it = self.word(0).is_some_and(|word| word.eq_ignore_ascii_case(keyword));
        self.next += usize::from(is_it);
        is_it
    }

    fn ended(&self, expected: &str) -> Mistake {
        Mistake {
            at: self.end,
            length: 0,
            message: format!("the predicate ends here; expected {expected}"),
        }
    }

    pub(crate) fn any(&mut self, depth: usize) -> Parsed<Predicate> {
        let mut parts = vec![self.all(depth)?];
        loop {
            self.wanted = Wanted::Connective;
            if !self.keyword("or") {
                break;
            }
            parts.push(self.all(depth)?);
        }
        Ok(if parts.len() == 1 {
            parts.swap_remove(0)
        } else {
            Predicate::Any(parts)
        })
    }

    fn all(&mut self, depth: usize) -> Parsed<Predicate> {
        let mut parts = vec![self.one(depth)?];
        loop {
            self.wanted = Wanted::Connective;
            if !self.keyword("and") {
                break;
            }
            parts.push(self.one(depth)?);
        }
        Ok(if parts.len() == 1 {
            parts.swap_remove(0)
        } else {
            Predicate::All(parts)
        })
    }

    fn one(&mut self, depth: usize) -> Parsed<Predicate> {
        self.wanted = Wanted::Field;
        let expected = "the name of a field or attribute, a state such as `open`, a reference, or text in quotes";
        let Some(token) = self.peek() else {
            return Err(self.ended(expected));
        };
        if depth > MAX_DEPTH {
            return Err(Mistake {
                at: token.at,
                length: token.length,
                message: format!("nested more than {MAX_DEPTH} deep"),
            });
        }
        if self.keyword("not") {
            return Ok(Predicate::Not(Box::new(self.one(depth + 1)?)));
        }
        match &token.what {
            What::Open => {
                self.next += 1;
                let inner = self.any(depth + 1)?;
                match self.take() {
                    Some(Token { what: What::Close, .. }) => Ok(inner),
                    Some(other) => Err(unexpected(other, "`and`, `or` or `)` may follow", &["and", "or"])),
                    None => Err(Mistake {
                        at: token.at,
                        length: 1,
                        message: "the bracket that opens here is not closed".to_owned(),
                    }),
                }
            }
            What::Quoted(text) => {
                self.next += 1;
                Ok(Predicate::Test(Test {
                    field: Field::Message,
                    check: Check::Contains(text.clone()),
                    at: token.at,
                }))
            }
            What::Word(word) => {
                self.next += 1;
                self.test(word, token)
            }
            _ => Err(unexpected(token, expected, &[])),
        }
    }

    fn test(&mut self, word: &str, token: &Token) -> Parsed<Predicate> {
        let made = |field: Field, check: Check| {
            Ok(Predicate::Test(Test {
                field,
                check,
                at: token.at,
            }))
        };
        if word == "taken" && self.keyword("by") {
            return self.check(&Field::TakenBy, token.at, true);
        }
        if word.parse::<Reference>().is_ok() && !matches!(self.peek().map(|next| &next.what), Some(What::Sign(_))) {
            return made(Field::Error, Check::Is(Comparison::Equal, value(word, Kind::Text)));
        }
        let field = Field::of(word);
        if field.kind() == Kind::State {
            return made(field, Check::IsSet);
        }
        if self.peek().is_none() && matches!(&field, Field::Attribute(name) if !name.contains('.')) {
            // A word alone: most likely a slip, or text without its quotes.
            let meant = closest(word, Field::names()).map(|known| format!("; did you mean `{known}`?"));
            return Err(Mistake {
                at: token.at,
                length: token.length,
                message: format!(
                    "`{word}` alone says nothing{}",
                    meant.unwrap_or_else(|| format!("; to look for it in messages write \"{word}\""))
                ),
            });
        }
        self.check(&field, token.at, false)
    }

    /// What follows a field's name. After `taken by` a value may follow at once.
    fn check(&mut self, field: &Field, at: usize, may_be_value: bool) -> Parsed<Predicate> {
        self.wanted = Wanted::Check(field.clone());
        let made = |check: Check| {
            Predicate::Test(Test {
                field: field.clone(),
                check,
                at,
            })
        };
        let expected = match field.kind() {
            Kind::Text => "=, !=, in, contains, like, is set",
            Kind::Number => "=, !=, <, <=, >, >=, from … to, in",
            Kind::Time => "<, <=, >, >=, from … to",
            Kind::Ordered | Kind::Any | Kind::State => "=, !=, <, <=, >, >=, from … to, in, contains, like, is set",
        };
        let expected = format!("after `{}` one of {expected}", field.name());
        let Some(token) = self.take() else {
            return Err(self.ended(&expected));
        };
        match &token.what {
            What::Sign(sign) => {
                let comparison = comparison(sign);
                fits(field, comparison, token)?;
                Ok(made(Check::Is(comparison, self.value(field)?)))
            }
            What::Word(word) => match word.to_ascii_lowercase().as_str() {
                "in" => Ok(made(Check::OneOf(self.list(field)?))),
                "not" if self.keyword("in") => Ok(Predicate::Not(Box::new(made(Check::OneOf(self.list(field)?))))),
                "not" if self.keyword("contains") => {
                    Ok(Predicate::Not(Box::new(made(Check::Contains(self.text(field)?)))))
                }
                "not" if self.keyword("like") => Ok(Predicate::Not(Box::new(made(Check::Like(self.text(field)?))))),
                "contains" if is_text(field) => Ok(made(Check::Contains(self.text(field)?))),
                "like" if is_text(field) => Ok(made(Check::Like(self.text(field)?))),
                "from" if field.kind() != Kind::Text => {
                    let from = self.value(field)?;
                    self.must_follow(
                        "to",
                        "`to` and the end of the range",
                        "`to` and the end of the range follow",
                    )?;
                    Ok(made(Check::Between(from, self.value(field)?)))
                }
                "is" => {
                    let is_not = self.keyword("not");
                    self.must_follow("set", "`set`", "`set` follows: `is set` or `is not set`")?;
                    let set = made(Check::IsSet);
                    Ok(if is_not { Predicate::Not(Box::new(set)) } else { set })
                }
                _ if may_be_value => Ok(made(Check::Is(Comparison::Equal, value(word, field.kind())))),
                _ => Err(unexpected(
                    token,
                    &expected,
                    &["in", "contains", "like", "from", "is set", "not"],
                )),
            },
            What::Quoted(text) if may_be_value => Ok(made(Check::Is(Comparison::Equal, value(text, field.kind())))),
            _ => Err(unexpected(token, &expected, &[])),
        }
    }

    /// Takes a keyword; `at_end` and `instead` say what is missing at the text's end and where another word stands.
    fn must_follow(&mut self, keyword: &str, at_end: &str, instead: &str) -> Parsed<()> {
        if self.keyword(keyword) {
            return Ok(());
        }
        Err(self
            .peek()
            .map_or_else(|| self.ended(at_end), |next| unexpected(next, instead, &[keyword])))
    }

    fn value(&mut self, field: &Field) -> Parsed<Value> {
        self.wanted = Wanted::Value(field.clone());
        let Some(token) = self.take() else {
            return Err(self.ended(&format!("a value for `{}`", field.name())));
        };
        let text = match &token.what {
            What::Word(word) => word,
            What::Quoted(text) => text,
            _ => {
                return Err(unexpected(
                    token,
                    &format!(
                        "a value for `{}` follows; text with signs or blanks stands in quotes",
                        field.name()
                    ),
                    &[],
                ));
            }
        };
        let mut value = value(text, field.kind());
        if field.kind() == Kind::Time {
            value.time = match duration(text).filter(|_| self.keyword("ago")) {
                #[expect(clippy::cast_possible_truncation, reason = "milliseconds of a span people write")]
                Some(millis) => Some(When::Ago(millis as i64)),
                None => time(text).map(When::At),
            };
        }
        let reason = match field.kind() {
            Kind::Number if value.number.is_none() => Some("a number"),
            Kind::Time if value.time.is_none() => Some("a time such as 2026-11-23, 2026-11-23T04:40:00Z or 2h ago"),
            _ if *field == Field::Severity && severity(text).is_none() => {
                Some("one of trace, debug, info, warn, error, fatal")
            }
            _ if *field == Field::Error && text.parse::<Reference>().is_err() => {
                Some("a reference such as kobal-tirun")
            }
            _ => None,
        };
        match reason {
            Some(reason) => Err(Mistake {
                at: token.at,
                length: token.length,
                message: format!("`{}` takes {reason}, not `{text}`", field.name()),
            }),
            None => Ok(value),
        }
    }

    fn text(&mut self, field: &Field) -> Parsed<String> {
        self.wanted = Wanted::Value(field.clone());
        match self.take() {
            Some(Token {
                what: What::Word(text) | What::Quoted(text),
                ..
            }) => Ok(text.clone()),
            Some(token) => Err(unexpected(
                token,
                "text follows, in quotes where it has signs or blanks",
                &[],
            )),
            None => Err(self.ended("text, in quotes where it has signs or blanks")),
        }
    }

    fn list(&mut self, field: &Field) -> Parsed<Vec<Value>> {
        match self.take() {
            Some(Token { what: What::Open, .. }) => {}
            Some(token) => return Err(unexpected(token, "a list in brackets follows: `in (404, 410)`", &[])),
            None => return Err(self.ended("a list in brackets: `in (404, 410)`")),
        }
        let mut values = vec![self.value(field)?];
        loop {
            match self.take() {
                Some(Token { what: What::Comma, .. }) => values.push(self.value(field)?),
                Some(Token { what: What::Close, .. }) => return Ok(values),
                Some(token) => return Err(unexpected(token, "`,` or `)` follows", &[])),
                None => return Err(self.ended("`,` or `)`")),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("service = fares", "service Is(Equal, \"fares\")")]
    #[case(
        "version >= 2.4.0 AND not uncaught",
        "all(version Is(AtLeast, \"2.4.0\"), not(uncaught IsSet))"
    )]
    #[case(
        "a.b = 1 or c.d = 2 and e.f = 3",
        "any(a.b Is(Equal, \"1\"), all(c.d Is(Equal, \"2\"), e.f Is(Equal, \"3\")))"
    )]
    #[case(
        "(a.b = 1 or c.d = 2) and open",
        "all(any(a.b Is(Equal, \"1\"), c.d Is(Equal, \"2\")), open IsSet)"
    )]
    #[case(
        "http.response.status_code in (404, 410)",
        "http.response.status_code OneOf([\"404\", \"410\"])"
    )]
    #[case("http.route not in ('/a b', /c)", "not(http.route OneOf([\"/a b\", \"/c\"]))")]
    #[case("duration from 250ms to 2s", "duration Between(\"250ms\", \"2s\")")]
    #[case("taken by purser@skerry.example", "taken by Is(Equal, \"purser@skerry.example\")")]
    #[case("taken by is not set", "not(taken by IsSet)")]
    #[case(
        "endpoint like 'GET /v1/*' and \"no tariff\"",
        "all(endpoint Like(\"GET /v1/*\"), message Contains(\"no tariff\"))"
    )]
    #[case(
        "kobal-tirun or error = kobal-tirun",
        "any(error Is(Equal, \"kobal-tirun\"), error Is(Equal, \"kobal-tirun\"))"
    )]
    #[case(
        "first_seen > 2h ago and last_seen < 2026-11-23",
        "all(first_seen Is(Greater, \"2h\"), last_seen Is(Less, \"2026-11-23\"))"
    )]
    #[case("message contains \"a \\\"b\\\"\"", "message Contains(\"a \\\"b\\\"\")")]
    fn predicates_are_read(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(outline(&parse(text).unwrap()), expected);
    }

    fn outline(predicate: &Predicate) -> String {
        let list = |parts: &[Predicate]| parts.iter().map(outline).collect::<Vec<_>>().join(", ");
        match predicate {
            Predicate::All(parts) => format!("all({})", list(parts)),
            Predicate::Any(parts) => format!("any({})", list(parts)),
            Predicate::Not(part) => format!("not({})", outline(part)),
            Predicate::Test(test) => {
                let check = match &test.check {
                    Check::Is(comparison, value) => format!("Is({comparison:?}, {:?})", value.text),
                    Check::Between(from, to) => format!("Between({:?}, {:?})", from.text, to.text),
                    Check::OneOf(values) => format!(
                        "OneOf({:?})",
                        values.iter().map(|value| &value.text).collect::<Vec<_>>()
                    ),
                    other => format!("{other:?}"),
                };
                format!("{} {check}", test.field.name())
            }
        }
    }

    #[rstest]
    #[case("", 0, "the predicate ends here; expected the name of a field")]
    #[case("service", 7, "the predicate ends here; expected after `service` one of =")]
    #[case("service =", 9, "expected a value for `service`")]
    #[case("service > fares", 8, "is text without an order")]
    #[case("servcie", 0, "did you mean `service`?")]
    #[case("count > many", 8, "`count` takes a number, not `many`")]
    #[case("severity >= eror", 12, "takes one of trace, debug")]
    #[case("first_seen > soon", 13, "a time such as")]
    #[case("(service = fares", 0, "the bracket that opens here is not closed")]
    #[case("service = 'fares", 10, "no closing '")]
    #[case("service = fares or", 18, "the predicate ends here")]
    #[case("a.b in 404", 7, "a list in brackets follows")]
    #[case("a.b ! 4", 4, "different is written `!=`")]
    #[case("a.b cotains x", 4, "did you mean `contains`?")]
    fn mistakes_say_where_and_what(#[case] text: &str, #[case] at: usize, #[case] part: &str) {
        let mistake = parse(text).unwrap_err();
        assert!(mistake.at == at && mistake.message.contains(part), "{mistake:?}");
    }

    proptest! {
        #[test]
        fn no_text_breaks_the_parser(text in "(\\PC|and |or |not |\\(|service = |in \\(|\"|'|\\\\){0,40}") {
            if let Err(mistake) = parse(&text) {
                let _marked = mistake.marked(&text);
            }
        }
    }
}
