//! Predicates tested on one occurrence in memory: for rules, which must decide before anything is stored.

use serde_json::{Map, Value as Json};

use super::{Check, Comparison, Field, Mistake, Predicate, State, Test, Value, dotted_order};
use crate::stack::{Stack, base_name, short_path};
use crate::telemetry::facts;
use crate::telemetry::names::{TOUCHES, USER_ATTRIBUTES};
use crate::text::plain;

/// One occurrence as a rule sees it when it comes in.
#[derive(Clone, Copy, Debug)]
pub struct Case<'a> {
    /// The service's namespace; may be empty.
    pub namespace: &'a str,
    /// The service.
    pub service: &'a str,
    /// The deployment environment.
    pub environment: &'a str,
    /// The service's version.
    pub version: &'a str,
    /// The exception's type.
    pub type_name: &'a str,
    /// Its message.
    pub message: &'a str,
    /// Type and message template.
    pub title: &'a str,
    /// OTLP severity number.
    pub severity: i16,
    /// The trace in lower-case hex; empty for none.
    pub trace: &'a str,
    /// The frames, where they were read.
    pub stack: Option<&'a Stack<'a>>,
    /// Attributes of the record.
    pub attributes: &'a Map<String, Json>,
    /// Attributes of the resource.
    pub resource: &'a Map<String, Json>,
    /// What is known of it once it is stored; `None` of one that comes in.
    pub known: Option<Known<'a>>,
}

/// What is known of a stored occurrence and its error, beyond what was sent.
#[derive(Clone, Copy, Debug, Default)]
pub struct Known<'a> {
    /// The error's reference; empty where there is none.
    pub reference: &'a str,
    /// The endpoint; empty where none is known.
    pub endpoint: &'a str,
    /// Whether it ended a request, job or process.
    pub uncaught: bool,
    /// Its instance group; empty for none.
    pub group: &'a str,
    /// Its customer; empty for none.
    pub customer: &'a str,
    /// Occurrences of the error in the last 24 hours.
    pub count: u64,
    /// Users of the error in the last 24 hours.
    pub users: u64,
}

impl Predicate {
    /// Whether it holds of an occurrence as it comes in. Tests that only a stored error can answer hold for nothing:
    /// [`Predicate::for_single_occurrences`] refuses them beforehand.
    #[must_use]
    pub fn holds(&self, case: &Case<'_>) -> bool {
        match self {
            Self::All(parts) => parts.iter().all(|part| part.holds(case)),
            Self::Any(parts) => parts.iter().any(|part| part.holds(case)),
            Self::Not(part) => !part.holds(case),
            Self::Test(test) => test.holds(case),
        }
    }

    /// Refuses what cannot be known of an occurrence when it comes in.
    ///
    /// # Errors
    /// The first test of a whole error, or of what several reports decide together.
    ///
    /// # Example
    /// ```
    /// let predicate = outcrop_core::query::parse("type = Timeout and count > 5").unwrap();
    /// let mistake = predicate.for_single_occurrences().unwrap_err();
    /// assert_eq!(mistake.message, "`count` is a number of a whole error: a rule looks at one occurrence as it comes in");
    /// ```
    pub fn for_single_occurrences(&self) -> Result<(), Mistake> {
        for test in self.tests() {
            let name = test.field.name();
            let why = match &test.field {
                Field::Title | Field::Kind => continue,
                Field::Slice | Field::Group | Field::Customer => {
                    format!("`{name}` is looked up when a question is asked: write the predicate or attribute itself")
                }
                Field::Endpoint => {
                    "`endpoint` is known only once the request's span has come: use `http.route`".to_owned()
                }
                Field::State(State::Uncaught | State::Caught) => {
                    format!("whether an occurrence is {name} is known only once its request has ended")
                }
                field if field.is_of_error() => {
                    let what = if matches!(field, Field::State(_)) {
                        "a state"
                    } else {
                        "a number"
                    };
                    format!("`{name}` is {what} of a whole error: a rule looks at one occurrence as it comes in")
                }
                _ => continue,
            };
            return Err(Mistake {
                at: test.at,
                length: name.len(),
                message: why,
            });
        }
        Ok(())
    }
}

impl Predicate {
    /// Refuses what is not known of an event when a notice rule looks at it.
    ///
    /// # Errors
    /// The first test of a slice, of attention, of a time or a state of handling.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::query::parse;
    /// assert!(parse("uncaught and endpoint like \"GET *\" and count > 5").unwrap().for_events().is_ok());
    /// let mistake = parse("slice = edge").unwrap().for_events().unwrap_err();
    /// assert_eq!(mistake.message, "a notice rule cannot look at `slice`: write the slice's predicate itself");
    /// ```
    pub fn for_events(&self) -> Result<(), Mistake> {
        for test in self.tests() {
            let name = test.field.name();
            let why = match &test.field {
                Field::Error
                | Field::Title
                | Field::Kind
                | Field::Count
                | Field::Users
                | Field::State(State::Uncaught | State::Caught) => continue,
                Field::Slice => "write the slice's predicate itself",
                Field::State(State::New | State::Surging | State::Returned) => "choose it as what happens",
                field if field.is_of_error() => "it changes while the rule waits for its event",
                _ => continue,
            };
            return Err(Mistake {
                at: test.at,
                length: name.len(),
                message: format!("a notice rule cannot look at `{name}`: {why}"),
            });
        }
        Ok(())
    }

    /// Refuses what a log line does not have: it has a sender, a severity, a message, a trace and attributes.
    ///
    /// # Errors
    /// The first test of something else.
    ///
    /// # Example
    /// ```
    /// assert!(outcrop_core::query::parse("service = fares and severity >= warn").unwrap().for_log_lines().is_ok());
    /// let mistake = outcrop_core::query::parse("type = Timeout").unwrap().for_log_lines().unwrap_err();
    /// assert!(mistake.message.starts_with("a log line has no `type`"));
    /// ```
    pub fn for_log_lines(&self) -> Result<(), Mistake> {
        let Some(test) = self.tests().into_iter().find(|test| !test.field.is_of_line()) else {
            return Ok(());
        };
        let name = test.field.name();
        let message = format!(
            "a log line has no `{name}`; it has service, namespace, environment, version, message, severity, user, \
             trace, group, customer and its attributes"
        );
        Err(Mistake {
            at: test.at,
            length: name.len(),
            message,
        })
    }
}

impl Test {
    fn holds(&self, case: &Case<'_>) -> bool {
        let text = |text: &str| self.check.holds_for_text(text);
        match &self.field {
            Field::Service => text(case.service),
            Field::Namespace => !case.namespace.is_empty() && text(case.namespace),
            Field::Environment => text(case.environment),
            Field::Version => holds_for_version(&self.check, case.version),
            Field::Type => text(case.type_name),
            Field::Message => text(case.message),
            Field::Title => text(case.title),
            Field::Kind => crate::failure_kind(case.type_name, case.title).is_some_and(text),
            Field::Severity => self.check.holds_for_severity(case.severity),
            Field::Trace => !case.trace.is_empty() && text(case.trace),
            Field::User => USER_ATTRIBUTES
                .iter()
                .find_map(|name| case.attributes.get(*name))
                .is_some_and(|user| text(&plain(user))),
            Field::Touches => case.attributes.get(TOUCHES).is_some_and(|what| text(&plain(what))),
            Field::File => frames(case).any(|frame| {
                [&frame.file, short_path(&frame.file), base_name(&frame.file)]
                    .into_iter()
                    .any(text)
            }),
            Field::Function => {
                frames(case).any(|frame| text(&frame.function) || text(&format!("{}.{}", frame.module, frame.function)))
            }
            Field::Attribute(name) => {
                let sent = facts::value(case.attributes, name).or_else(|| facts::value(case.resource, name));
                sent.is_some_and(|sent| holds_for_sent(&self.check, sent))
            }
            field => case
                .known
                .is_some_and(|known| self.check.holds_for_known(field, &known)),
        }
    }
}

impl Check {
    fn holds_for_known(&self, field: &Field, known: &Known<'_>) -> bool {
        #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
        let number = |count: u64| self.holds_for_number(count as f64);
        let text = |text: &str| !text.is_empty() && self.holds_for_text(text);
        match field {
            Field::Error => text(known.reference),
            Field::Endpoint => text(known.endpoint),
            Field::Group => text(known.group),
            Field::Customer => text(known.customer),
            Field::Count => number(known.count),
            Field::Users => number(known.users),
            Field::State(State::Uncaught) => known.uncaught,
            Field::State(State::Caught) => !known.uncaught && !known.reference.is_empty(),
            _ => false,
        }
    }
}

fn frames<'a>(case: &Case<'a>) -> impl Iterator<Item = &'a crate::stack::Frame<'a>> {
    case.stack
        .into_iter()
        .flat_map(|stack| &stack.exceptions)
        .flat_map(|exception| &exception.frames)
}

/// Numbers compare as numbers, also where they were sent as text; a text that is no number is not
/// less or greater than one.
fn holds_for_sent(check: &Check, sent: &Json) -> bool {
    let text = plain(sent);
    let is_of_numbers = match check {
        Check::Is(_, value) => value.number.is_some(),
        Check::Between(from, to) => from.number.is_some() && to.number.is_some(),
        _ => false,
    };
    match (is_of_numbers, number_in(&text)) {
        (true, Some(number)) => check.holds_for_number(number),
        (true, None) => matches!(check, Check::Is(Comparison::NotEqual, _)),
        (false, _) if *check == Check::IsSet => !sent.is_null(),
        (false, _) => check.holds_for_text(&text),
    }
}

/// The number that an attribute's text says: digits with a sign and a fraction, up to 15 of each.
/// Exponents, `inf` and `nan` are texts, since a commit's or an order's id may look like them.
///
/// # Example
/// ```
/// use outcrop_core::query::number_in;
/// assert_eq!((number_in("-12.5"), number_in("1e3"), number_in("nan"), number_in("12.")), (Some(-12.5), None, None, None));
/// ```
#[must_use]
pub fn number_in(text: &str) -> Option<f64> {
    let digits = |part: &str| (1..=15).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_digit());
    let unsigned = text.strip_prefix('-').unwrap_or(text);
    let is_number = match unsigned.split_once('.') {
        Some((whole, fraction)) => digits(whole) && digits(fraction),
        None => digits(unsigned),
    };
    is_number.then(|| text.parse().ok()).flatten()
}

/// The order of deploys is not known where an occurrence comes in: dotted numbers stand in for it.
fn holds_for_version(check: &Check, version: &str) -> bool {
    let order = |value: &Value| dotted_order(version, &value.text);
    match check {
        Check::Is(Comparison::Equal | Comparison::NotEqual, _) => check.holds_for_text(version),
        Check::Is(comparison, value) => comparison.holds(order(value)),
        Check::Between(from, to) => order(from).is_ge() && order(to).is_le(),
        other => other.holds_for_text(version),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("type = KeyError and season = winter", true)]
    #[case("type = KeyError and not season = winter", false)]
    #[case("metres > 4.5 and metres from 5 to 12", true)]
    #[case("deck > 4", false)]
    #[case("deck != 4", true)]
    #[case("version >= 2.4.0 and version < 2.10.0", true)]
    #[case("function = fares.per_metre or file = other.py", true)]
    #[case("file like \"*tariff.py\"", true)]
    #[case("severity >= error and user = u-7", true)]
    #[case("host.name in (pier-1, pier-3)", true)]
    #[case("harbour is set", false)]
    #[case("message contains \"NO TARIFF\"", true)]
    fn a_predicate_holds_of_an_occurrence(#[case] predicate: &str, #[case] expected: bool) {
        let stack = crate::stack::read(
            "Traceback (most recent call last):\n  File \"/srv/fares/tariff.py\", line 26, in fares.per_metre\n    \
             x\nKeyError: 'a'",
        )
        .unwrap();
        let json = |text: &str| serde_json::from_str::<Map<String, Json>>(text).unwrap();
        let attributes = json(r#"{"season": "winter", "metres": "12", "deck": "car", "user.id": "u-7"}"#);
        let resource = json(r#"{"host.name": "pier-3"}"#);
        let case = Case {
            namespace: "skerry",
            service: "fares",
            environment: "production",
            version: "2.9.1",
            type_name: "KeyError",
            message: "no tariff for 12 m",
            title: "KeyError: no tariff for {n} m",
            severity: 17,
            trace: "",
            stack: Some(&stack),
            attributes: &attributes,
            resource: &resource,
            known: None,
        };
        assert_eq!(super::super::parse(predicate).unwrap().holds(&case), expected);
    }

    #[rstest]
    #[case("uncaught", true, false)]
    #[case("caught", false, false)]
    #[case("not caught", true, true)]
    #[case("endpoint like \"GET *\"", true, false)]
    #[case("count > 6 and users <= 3", true, false)]
    #[case("group = canary", false, false)]
    #[case("customer = \"north pier\"", true, false)]
    #[case("kobal-tirun", true, false)]
    #[case("mine", false, false)]
    fn what_is_known_of_a_stored_occurrence_is_looked_at(
        #[case] predicate: &str,
        #[case] stored: bool,
        #[case] coming_in: bool,
    ) {
        let nothing = Map::new();
        let case = |known| Case {
            namespace: "",
            service: "fares",
            environment: "production",
            version: "2.4.0",
            type_name: "KeyError",
            message: "",
            title: "",
            severity: 17,
            trace: "",
            stack: None,
            attributes: &nothing,
            resource: &nothing,
            known,
        };
        let known = Known {
            reference: "kobal-tirun",
            endpoint: "GET /v1/quotes",
            uncaught: true,
            customer: "north pier",
            count: 7,
            users: 3,
            ..Known::default()
        };
        let predicate = super::super::parse(predicate).unwrap();
        assert_eq!(predicate.holds(&case(Some(known))), stored);
        assert_eq!(predicate.holds(&case(None)), coming_in);
    }

    #[rstest]
    #[case("uncaught and count > 5 and group = canary", None)]
    #[case("first_seen > 2h ago", Some("first_seen"))]
    #[case("new", Some("choose it as what happens"))]
    #[case("settled", Some("it changes while"))]
    #[case("mine", Some("it changes while"))]
    fn a_notice_rule_looks_at_what_its_event_holds(#[case] predicate: &str, #[case] refused: Option<&str>) {
        let said = super::super::parse(predicate).unwrap().for_events();
        match refused {
            None => said.unwrap(),
            Some(part) => {
                let message = said.unwrap_err().message;
                assert!(message.contains(part), "{message}");
            }
        }
    }
}
