//! A rule of notices, and the sentence that it is read as.

use std::fmt::Write as _;

use super::words::{clock, days, duration, every, list};
use super::{Event, EventKind, Expected, Hours, Zone};
use crate::query::{Check, Comparison, Field, Predicate, matches};

/// Whom a rule tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// Who owns the error or service.
    Owner,
    /// Who has taken the error.
    Taker,
    /// Who deployed the version.
    Deployer,
    /// A member by their address, or a team by its name.
    Named(String),
}

impl Target {
    /// Reads it as it is written: `owner`, `taker`, `deployer`, or a name.
    #[must_use]
    pub fn read(text: &str) -> Self {
        match text {
            "owner" => Self::Owner,
            "taker" => Self::Taker,
            "deployer" => Self::Deployer,
            name => Self::Named(name.to_owned()),
        }
    }

    /// It in a rule's sentence.
    #[must_use]
    pub fn in_words(&self) -> &str {
        match self {
            Self::Owner => "the owner",
            Self::Taker => "who has taken it",
            Self::Deployer => "who deployed it",
            Self::Named(name) => name,
        }
    }
}

/// Hours in which a rule does not tell, and what is told all the same.
#[derive(Clone, Debug, PartialEq)]
pub struct Quiet {
    /// The hours.
    pub hours: Hours,
    /// What does not wait: its text, and what it says.
    pub except: Option<(String, Predicate)>,
}

/// Who is told next where nobody takes an error.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PassOn {
    /// Minutes that somebody has to take it.
    pub minutes: u32,
    /// Who is told then.
    pub to: Vec<Target>,
}

/// What a rule of a threshold counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Measured {
    /// Occurrences that fulfil the predicate.
    Occurrences,
    /// Occurrences that fulfil it, against the requests of their services, in percent.
    Share,
    /// Log lines that fulfil it.
    LogLines,
    /// A metric: of increases how much came, of all else what it stands at in the mean.
    Metric,
}

/// A threshold.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measure {
    /// What is counted.
    pub what: Measured,
    /// What it must be above.
    pub above: f64,
    /// Over how many minutes it is counted.
    pub minutes: u32,
}

/// A predicate says more than which service it is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MoreThanAService;

/// Whom to tell of what.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// Its number.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// What happens: any of these.
    pub when: Vec<EventKind>,
    /// A pattern of the environment's name; any where there is none.
    pub environment: Option<String>,
    /// What must hold of it: its text, and what it says.
    pub predicate: Option<(String, Predicate)>,
    /// The threshold, where it is about one.
    pub measure: Option<Measure>,
    /// The metric that the threshold is of, where it is of one.
    pub metric: Option<String>,
    /// What is to have run by a time, where it is about that.
    pub expected: Option<Expected>,
    /// Whom it tells by the ways that go to people.
    pub tell: Vec<Target>,
    /// Who is told where those are nobody: a team or a member; where that is nobody either, the owner, else the admins.
    pub otherwise: Option<String>,
    /// By which ways: `mail`, `browser`, `ticket`, or a way's name.
    pub by: Vec<String>,
    /// Minutes between two notices to the same person at least; what happens meanwhile comes together.
    pub at_most: Option<u32>,
    /// When it does not tell.
    pub quiet: Option<Quiet>,
    /// Who is told next where nobody takes it.
    pub pass_on: Option<PassOn>,
}

impl Rule {
    /// Whether it is about an event.
    #[must_use]
    pub fn is_about(&self, event: &Event) -> bool {
        self.when.contains(&event.kind)
            && event.rule.is_none_or(|rule| rule == self.id)
            && (event.rule.is_some() || !(event.kind.is_of_a_rule() || self.expected.is_some()))
            && self
                .environment
                .as_deref()
                .is_none_or(|pattern| event.environment.is_empty() || matches(pattern, &event.environment))
            // A threshold's predicate is about what was counted.
            && (event.kind.is_of_a_rule()
                || self.predicate.as_ref().is_none_or(|(_, predicate)| event.fulfils(predicate)))
    }

    /// Whether the rule's quiet hours do not hold an event back.
    pub(super) fn is_urgent(&self, event: &Event) -> bool {
        let except = self.quiet.as_ref().and_then(|quiet| quiet.except.as_ref());
        except.is_some_and(|(_, predicate)| event.fulfils(predicate))
    }

    /// The rule as a sentence.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::notice::{EventKind, Rule, Target};
    /// let rule = Rule {
    ///     id: 1,
    ///     name: "fares".to_owned(),
    ///     when: vec![EventKind::New, EventKind::Returned],
    ///     environment: Some("production".to_owned()),
    ///     predicate: None,
    ///     measure: None,
    ///     metric: None,
    ///     expected: None,
    ///     tell: vec![Target::Owner],
    ///     otherwise: None,
    ///     by: vec!["mail".to_owned(), "chat".to_owned()],
    ///     at_most: Some(60),
    ///     quiet: None,
    ///     pass_on: None,
    /// };
    /// assert_eq!(
    ///     rule.sentence(),
    ///     "When an error becomes new or returns in production, tell the owner by mail and chat, at most once an hour."
    /// );
    /// ```
    #[must_use]
    pub fn sentence(&self) -> String {
        let mut said = format!("When {}", self.happens());
        if let Some(environment) = &self.environment {
            let _ = write!(said, " in {environment}");
        }
        if let Some((text, _)) = &self.predicate {
            let _ = write!(said, " where {text}");
        }
        let _ = write!(said, ", {}", self.tells());
        if let Some(minutes) = self.at_most {
            let _ = write!(said, ", at most once {}", every(minutes));
        }
        if let Some(quiet) = &self.quiet {
            let spell = quiet.hours.spell;
            let _ = write!(said, ", not {}–{}", clock(spell.from), clock(spell.to));
            if spell.days != [true; 7] {
                let _ = write!(said, " on {}", days(spell.days));
            }
            if quiet.hours.zone != Zone::UTC {
                let _ = write!(said, " {}", quiet.hours.zone.name());
            }
            if let Some((text, _)) = &quiet.except {
                let _ = write!(said, " except {text}");
            }
        }
        said.push('.');
        if let Some(PassOn { minutes, to }) = &self.pass_on {
            let to: Vec<&str> = to.iter().map(Target::in_words).collect();
            let _ = write!(
                said,
                " When nobody takes it within {}, tell {}.",
                duration(*minutes),
                list(&to, "and")
            );
        }
        said
    }

    /// The service that its predicate names and nothing else: what a metric can be asked of. `Err` where it says more.
    ///
    /// # Errors
    /// Where the predicate is no plain `service = NAME`.
    pub fn only_service(&self) -> Result<Option<&str>, MoreThanAService> {
        match &self.predicate {
            None => Ok(None),
            Some((_, Predicate::Test(test))) => match (&test.field, &test.check) {
                (Field::Service, Check::Is(Comparison::Equal, value)) => Ok(Some(&value.text)),
                _ => Err(MoreThanAService),
            },
            Some(_) => Err(MoreThanAService),
        }
    }

    fn happens(&self) -> String {
        if let Some(expected) = &self.expected {
            return expected.in_words();
        }
        if let Some(measure) = &self.measure {
            let (above, within) = (measure.above, duration(measure.minutes));
            return match measure.what {
                Measured::Occurrences => format!("more than {above} occurrences come within {within}"),
                Measured::Share => format!("failures are more than {above} % of the requests of {within}"),
                Measured::LogLines if above == 0.0 => "a log line comes".to_owned(),
                Measured::LogLines => format!("more than {above} log lines come within {within}"),
                Measured::Metric => {
                    let metric = self.metric.as_deref().unwrap_or("a metric");
                    format!("{metric} is above {above} over {within}")
                }
            };
        }
        let mut clauses: Vec<String> = vec![];
        let mut subject = "";
        for kind in &self.when {
            let clause = kind.clause();
            // "an error becomes new or returns": the subject is said once.
            let shared = ["an error ", "a deploy ", "an endpoint "]
                .into_iter()
                .find(|of| clause.starts_with(of));
            let rest = shared
                .filter(|of| *of == subject)
                .and_then(|of| clause.strip_prefix(of));
            clauses.push(rest.unwrap_or(clause).to_owned());
            subject = shared.unwrap_or_default();
        }
        list(&clauses, "or")
    }

    fn tells(&self) -> String {
        let to: Vec<&str> = self.tell.iter().map(Target::in_words).collect();
        let by = list(&self.by, "and");
        let Some(first) = to.first() else {
            return format!("tell {by}");
        };
        let to = if to.len() == 1 {
            (*first).to_owned()
        } else {
            list(&to, "and")
        };
        match &self.otherwise {
            Some(name) => format!("tell {to} (or {name} where that is nobody) by {by}"),
            None => format!("tell {to} by {by}"),
        }
    }
}

#[cfg(test)]
impl Rule {
    /// The good rule of the first minute, for tests.
    pub(super) fn for_tests(id: i32) -> Self {
        Self {
            id,
            name: format!("rule {id}"),
            when: vec![EventKind::New, EventKind::Returned],
            environment: Some("prod*".to_owned()),
            predicate: None,
            measure: None,
            metric: None,
            expected: None,
            tell: vec![Target::Owner],
            otherwise: None,
            by: vec!["mail".to_owned()],
            at_most: None,
            quiet: None,
            pass_on: None,
        }
    }

    /// What it says where, for tests.
    pub(super) fn at(self, predicate: &str) -> Self {
        let said = crate::query::parse(predicate).unwrap();
        Self {
            predicate: Some((predicate.to_owned(), said)),
            ..self
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::Timestamp;
    use crate::notice::Spell;

    #[test]
    fn a_rule_reads_as_it_acts() {
        let mut rule = Rule::for_tests(1).at("service in (fares, gangway)");
        rule.tell.push(Target::read("deck team"));
        rule.by.push("ops-room".to_owned());
        rule.at_most = Some(60);
        rule.otherwise = Some("deck team".to_owned());
        rule.quiet = Some(Quiet {
            hours: Hours {
                spell: Spell::daily(22 * 60, 6 * 60),
                zone: "Europe/Oslo".parse().unwrap(),
            },
            except: Some(("uncaught".to_owned(), crate::query::parse("uncaught").unwrap())),
        });
        rule.pass_on = Some(PassOn {
            minutes: 30,
            to: vec![Target::read("mate@skerry.example"), Target::read("deck team")],
        });
        assert_eq!(
            rule.sentence(),
            "When an error becomes new or returns in prod* where service in (fares, gangway), tell the owner and deck \
             team (or deck team where that is nobody) by mail and ops-room, at most once an hour, not 22:00–06:00 \
             Europe/Oslo except uncaught. When nobody takes it within 30 min, tell mate@skerry.example and deck team."
        );
    }

    #[rstest]
    #[case(Measured::Occurrences, 50.0, 10, "more than 50 occurrences come within 10 min")]
    #[case(Measured::Share, 2.5, 120, "failures are more than 2.5 % of the requests of 2 h")]
    #[case(Measured::LogLines, 0.0, 5, "a log line comes")]
    #[case(Measured::LogLines, 3.0, 5, "more than 3 log lines come within 5 min")]
    fn a_threshold_is_said(#[case] what: Measured, #[case] above: f64, #[case] minutes: u32, #[case] said: &str) {
        let rule = Rule {
            measure: Some(Measure { what, above, minutes }),
            tell: vec![],
            ..Rule::for_tests(1)
        };
        assert_eq!(rule.sentence(), format!("When {said} in prod*, tell mail."));
    }

    #[test]
    fn a_threshold_of_a_metric_is_said_by_its_name_and_asked_of_one_service() {
        let rule = Rule {
            measure: Some(Measure {
                what: Measured::Metric,
                above: 0.9,
                minutes: 10,
            }),
            metric: Some("process.memory.utilization".to_owned()),
            ..Rule::for_tests(1)
        };
        assert!(
            rule.sentence()
                .starts_with("When process.memory.utilization is above 0.9 over 10 min in prod*, tell"),
            "{}",
            rule.sentence()
        );
        assert_eq!(rule.only_service(), Ok(None));
        assert_eq!(rule.clone().at("service = fares").only_service(), Ok(Some("fares")));
        for more in ["service != fares", "service = fares and uncaught", "endpoint = x"] {
            assert_eq!(rule.clone().at(more).only_service(), Err(MoreThanAService), "{more}");
        }
    }

    #[test]
    fn what_is_to_have_run_is_told_by_its_own_rule() {
        let nightly = Expected {
            service: "ledger".to_owned(),
            endpoint: Some("settle".to_owned()),
            by: Hours {
                spell: Spell::daily(150, 150),
                zone: "Europe/Oslo".parse().unwrap(),
            },
        };
        let rule = Rule {
            when: vec![EventKind::Silent],
            environment: None,
            expected: Some(nightly.clone()),
            ..Rule::for_tests(7)
        };
        assert_eq!(
            rule.sentence(),
            "When settle of ledger has not run by 02:30 Europe/Oslo, tell the owner by mail."
        );
        let mut event = Event::for_tests(1, EventKind::Silent, Timestamp(0));
        assert!(!rule.is_about(&event), "what another falls silent");
        event.rule = Some(7);
        assert!(rule.is_about(&event));
        // Over the change of clocks, which skips 02:30 on the 29th: the first minute after.
        let at =
            |text: &str| Timestamp::from_millis(chrono::DateTime::parse_from_rfc3339(text).unwrap().timestamp_millis());
        let deadlines = nightly.deadlines(at("2026-03-28T00:00:00Z"), at("2026-03-30T12:00:00Z"));
        let expected = ["2026-03-28T01:30:00Z", "2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"];
        assert_eq!(deadlines, expected.map(at));
    }

    #[test]
    fn subjects_are_said_once_and_days_by_their_usual_names() {
        let rule = Rule {
            when: vec![
                EventKind::DeployFlagged,
                EventKind::DeployTooEarly,
                EventKind::EndpointSlow,
            ],
            ..Rule::for_tests(1)
        };
        assert_eq!(
            rule.happens(),
            "a deploy is flagged, is too early to judge for 2 h or an endpoint is slower than usual"
        );
        assert_eq!(days([true, true, true, true, true, false, false]), "working days");
        assert_eq!(
            days([true, false, true, false, false, false, true]),
            "Monday, Wednesday and Sunday"
        );
    }

    #[rstest]
    #[case::what_it_is_about(EventKind::New, "production", None, true)]
    #[case::another_kind(EventKind::Surging, "production", None, false)]
    #[case::another_environment(EventKind::New, "staging", None, false)]
    #[case::of_another_rule(EventKind::New, "production", Some(2), false)]
    fn a_rule_is_about_events(
        #[case] kind: EventKind,
        #[case] environment: &str,
        #[case] of: Option<i32>,
        #[case] expected: bool,
    ) {
        let mut event = Event::for_tests(1, kind, Timestamp(0));
        event.environment = environment.to_owned();
        event.rule = of;
        assert_eq!(Rule::for_tests(1).is_about(&event), expected);
        assert!(!Rule::for_tests(1).at("service = gangway").is_about(&event));
    }

    #[test]
    fn a_threshold_is_told_by_its_own_rule_whatever_its_predicate_says_of_the_event() {
        let mut event = Event::for_tests(1, EventKind::Over, Timestamp(0));
        let rule = Rule {
            when: vec![EventKind::Over],
            ..Rule::for_tests(7).at("type = Timeout")
        };
        assert!(!rule.is_about(&event), "of no rule");
        event.rule = Some(7);
        assert!(rule.is_about(&event));
        event.rule = Some(8);
        assert!(!rule.is_about(&event));
    }
}
