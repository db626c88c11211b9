//! What happened that somebody may be told of.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use crate::query::{Case, Known, Predicate};
use crate::stack::Stack;
use crate::{Reference, Timestamp};

/// What can happen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EventKind {
    /// An error was flagged as new.
    New,
    /// An error was flagged as surging.
    Surging,
    /// A settled error came back.
    Returned,
    /// A surge, or what was over a threshold, has ended.
    BackToNormal,
    /// A flag was taken back: those who were told of it are told so.
    TakenBack,
    /// The deploy check says `flagged`.
    DeployFlagged,
    /// The deploy check says `clear`.
    DeployClear,
    /// The deploy check still says `too early`.
    DeployTooEarly,
    /// An endpoint fails more than its past explains.
    EndpointFailing,
    /// An endpoint takes longer than its past explains.
    EndpointSlow,
    /// A count or share is over a rule's threshold.
    Over,
    /// Log lines came that a rule waits for.
    LogLine,
    /// What usually reports does not.
    Silent,
    /// What was silent reports again: those who were told of it are told so.
    Reporting,
    /// Somebody took, settled or quieted an error: nobody is told, and nobody else needs to be.
    Handled,
}

/// The kinds that a rule can be about, with their words on the wire and in a rule's sentence.
const KINDS: [(EventKind, &str, &str); 12] = [
    (EventKind::New, "new", "an error becomes new"),
    (EventKind::Surging, "surging", "an error surges"),
    (EventKind::Returned, "returned", "an error returns"),
    (EventKind::BackToNormal, "back-to-normal", "an error is back to normal"),
    (EventKind::DeployFlagged, "deploy-flagged", "a deploy is flagged"),
    (EventKind::DeployClear, "deploy-clear", "a deploy is clear"),
    (
        EventKind::DeployTooEarly,
        "deploy-too-early",
        "a deploy is too early to judge for 2 h",
    ),
    (
        EventKind::EndpointFailing,
        "endpoint-failing",
        "an endpoint fails more than usual",
    ),
    (
        EventKind::EndpointSlow,
        "endpoint-slow",
        "an endpoint is slower than usual",
    ),
    (EventKind::Over, "over", "a threshold is passed"),
    (EventKind::LogLine, "log-line", "a log line comes"),
    (EventKind::Silent, "silent", "something falls silent"),
];

impl EventKind {
    /// The kinds that a rule can be about.
    pub fn all() -> impl Iterator<Item = Self> {
        KINDS.iter().map(|(kind, _, _)| *kind)
    }

    /// Its word on the wire.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::TakenBack => "taken-back",
            Self::Reporting => "reporting",
            Self::Handled => "handled",
            kind => KINDS
                .iter()
                .find(|(known, _, _)| *known == kind)
                .map_or("", |(_, word, _)| word),
        }
    }

    /// The kind of a word on the wire; none of what no rule can be about.
    #[must_use]
    pub fn named(word: &str) -> Option<Self> {
        KINDS
            .iter()
            .find(|(_, known, _)| *known == word)
            .map(|(kind, _, _)| *kind)
    }

    /// It as a clause of a rule's sentence: `an error becomes new`.
    #[must_use]
    pub fn clause(self) -> &'static str {
        KINDS
            .iter()
            .find(|(known, _, _)| *known == self)
            .map_or("", |(_, _, clause)| clause)
    }

    /// Whether it follows from another event, and goes to whoever was told of that one.
    #[must_use]
    pub const fn follows(self) -> bool {
        matches!(self, Self::TakenBack | Self::Reporting)
    }

    /// Whether it can be about one rule alone, whose threshold, lines or times it speaks of.
    #[must_use]
    pub const fn is_of_a_rule(self) -> bool {
        matches!(self, Self::Over | Self::LogLine)
    }
}

/// One thing that happened.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// Its number; a later event has a higher one.
    #[serde(skip)]
    pub id: i64,
    /// What happened.
    pub kind: EventKind,
    /// When it was noticed; several that were noticed together have the same time.
    pub at: Timestamp,
    /// Since when it is so.
    pub since: Timestamp,
    /// The service, as pages name it.
    pub service: String,
    /// Its namespace; may be empty.
    pub namespace: String,
    /// The environment.
    pub environment: String,
    /// The version; empty where it has none.
    pub version: String,
    /// The endpoint, where it is of one; else empty.
    pub endpoint: String,
    /// The error, where it is of one.
    pub error: Option<Reference>,
    /// The error in another service that this one follows from.
    pub origin: Option<Reference>,
    /// What it is of, in words: the error's title, the deploy, the endpoint.
    pub title: String,
    /// Why, in words and numbers.
    pub evidence: String,
    /// The event that this one ends.
    pub of: Option<i64>,
    /// The rule that it is of.
    pub rule: Option<i32>,
    /// Who owns it: a team or a member.
    pub owner: Option<String>,
    /// Who has taken the error.
    pub taken_by: Option<String>,
    /// Who deployed the version.
    pub deployed_by: Option<String>,
    /// Whether the error is quiet: nobody is told.
    pub is_quiet: bool,
    /// Occurrences of the error in the 24 hours before.
    pub count: u64,
    /// Users of the error in the 24 hours before.
    pub users: u64,
    /// The error's newest occurrences.
    pub cases: Vec<EventCase>,
}

/// One occurrence of an event's error.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct EventCase {
    /// The version it happened in.
    pub version: String,
    /// The exception's type.
    pub type_name: String,
    /// Its message.
    pub message: String,
    /// OTLP severity number.
    pub severity: i16,
    /// The trace in lower-case hex; empty for none.
    pub trace: String,
    /// The endpoint; empty where none is known.
    pub endpoint: String,
    /// Whether it ended a request, job or process.
    pub uncaught: bool,
    /// Its instance group; empty for none.
    pub group: String,
    /// Its customer; empty for none.
    pub customer: String,
    /// Attributes of the record.
    pub attributes: Map<String, Json>,
    /// Attributes of the resource.
    pub resource: Map<String, Json>,
    /// The frames, where they were read.
    pub stack: Option<Stack<'static>>,
}

impl Event {
    /// Whether a predicate holds of it: of any of the occurrences, where it is of an error.
    #[must_use]
    pub fn fulfils(&self, predicate: &Predicate) -> bool {
        if self.cases.is_empty() {
            return predicate.holds(&self.case(&EventCase::default(), &self.reference()));
        }
        let reference = self.reference();
        self.cases
            .iter()
            .any(|case| predicate.holds(&self.case(case, &reference)))
    }

    fn reference(&self) -> String {
        self.error.map(|error| error.to_string()).unwrap_or_default()
    }

    fn case<'a>(&'a self, case: &'a EventCase, reference: &'a str) -> Case<'a> {
        let or = |own: &'a String, of_event: &'a String| if own.is_empty() { of_event } else { own };
        Case {
            namespace: &self.namespace,
            service: &self.service,
            environment: &self.environment,
            version: or(&case.version, &self.version),
            type_name: &case.type_name,
            message: &case.message,
            title: &self.title,
            severity: case.severity,
            trace: &case.trace,
            stack: case.stack.as_ref(),
            attributes: &case.attributes,
            resource: &case.resource,
            known: Some(Known {
                reference,
                endpoint: or(&case.endpoint, &self.endpoint),
                uncaught: case.uncaught,
                group: &case.group,
                customer: &case.customer,
                count: self.count,
                users: self.users,
            }),
        }
    }

    /// Whether any of its occurrences ended a request, job or process.
    #[must_use]
    pub fn is_uncaught(&self) -> bool {
        self.cases.iter().any(|case| case.uncaught)
    }
}

impl Event {
    /// An event of a service in an environment of which nothing more is said.
    #[must_use]
    pub fn of(service: &str, environment: &str, kind: EventKind, at: Timestamp) -> Self {
        Self {
            id: 0,
            kind,
            at,
            since: at,
            service: service.to_owned(),
            namespace: String::new(),
            environment: environment.to_owned(),
            version: String::new(),
            endpoint: String::new(),
            error: None,
            origin: None,
            title: String::new(),
            evidence: String::new(),
            of: None,
            rule: None,
            owner: None,
            taken_by: None,
            deployed_by: None,
            is_quiet: false,
            count: 0,
            users: 0,
            cases: vec![],
        }
    }
}

#[cfg(test)]
impl Event {
    /// An event of fares in production, for tests.
    pub(super) fn for_tests(id: i64, kind: EventKind, at: Timestamp) -> Self {
        Self {
            id,
            namespace: "skerry".to_owned(),
            version: "2.4.0".to_owned(),
            title: "KeyError: no tariff".to_owned(),
            evidence: "never seen before".to_owned(),
            ..Self::of("fares", "production", kind, at)
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::query::parse;

    #[test]
    fn each_kind_is_found_by_its_word_and_written_as_it() {
        for kind in EventKind::all() {
            assert_eq!(EventKind::named(kind.word()), Some(kind));
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
            assert!(!kind.clause().is_empty() && !kind.follows());
        }
        for kind in [EventKind::TakenBack, EventKind::Reporting, EventKind::Handled] {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
            assert_eq!(EventKind::named(kind.word()), None, "no rule is about it");
        }
    }

    #[rstest]
    #[case("service = fares and environment = production", true)]
    #[case("uncaught and endpoint like \"GET *\"", true)]
    #[case("season = winter and type = KeyError", true)]
    #[case("version = 2.3.9", true)]
    #[case("season = summer", false)]
    #[case("season = winter and version = 2.4.0", false)]
    fn a_predicate_holds_where_it_holds_of_one_occurrence(#[case] predicate: &str, #[case] expected: bool) {
        let mut event = Event::for_tests(1, EventKind::New, Timestamp(0));
        let object = |json: &str| serde_json::from_str(json).unwrap();
        event.cases = vec![
            EventCase {
                version: "2.3.9".to_owned(),
                attributes: object(r#"{"season": "winter"}"#),
                type_name: "KeyError".to_owned(),
                ..EventCase::default()
            },
            EventCase {
                endpoint: "GET /v1/quotes".to_owned(),
                uncaught: true,
                ..EventCase::default()
            },
        ];
        assert_eq!(event.fulfils(&parse(predicate).unwrap()), expected);
    }

    #[test]
    fn an_event_of_no_error_is_looked_at_by_what_it_has() {
        let mut event = Event::for_tests(1, EventKind::EndpointFailing, Timestamp(0));
        event.endpoint = "GET /v1/quotes".to_owned();
        assert!(event.fulfils(&parse("endpoint like \"GET *\" and service = fares").unwrap()));
        assert!(!event.fulfils(&parse("type = KeyError").unwrap()));
        assert!(!event.fulfils(&parse("caught").unwrap()) && !event.fulfils(&parse("uncaught").unwrap()));
    }

    #[test]
    fn an_event_is_read_as_it_was_written() {
        let mut event = Event::for_tests(0, EventKind::New, Timestamp(7));
        event.error = "kobal-tirun".parse().ok();
        event.cases = vec![EventCase {
            stack: crate::stack::read(
                "Traceback (most recent call last):\n  File \"/srv/a.py\", line 2, in f\nKeyError: 'a'",
            ),
            ..EventCase::default()
        }];
        let text = serde_json::to_string(&event).unwrap();
        assert_eq!(serde_json::from_str::<Event>(&text).unwrap(), event);
    }
}
