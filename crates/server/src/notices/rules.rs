//! Rules as people write them, read into what the plan works with.

use outcrop_api::{ExpectedRun, NoticeRule, PassedOn, QuietHours, Threshold};
use outcrop_core::notice::{EventKind, Expected, Hours, Measure, Measured, PassOn, Quiet, Rule, Spell, Target, Zone};
use outcrop_core::query::{Predicate, parse};
use outcrop_store::notices::rules::Stored;

/// Longest name, in characters.
const NAME: usize = 100;
/// Longest text of a rule's other parts, in characters.
const TEXT: usize = 2_000;
/// Targets and ways of one rule at most.
const NAMES: usize = 20;
/// Longest time between notices, and to pass on, in minutes: a week.
const LONGEST_MINUTES: u32 = 7 * 24 * 60;
/// Longest time over which a threshold is counted, in minutes: a day.
const LONGEST_COUNT: u32 = 24 * 60;
/// Days of the week, as they are written.
pub(super) const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// Why a rule cannot be stored: where, and what is wrong.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{slot}: {why}")]
pub(crate) struct Wrong {
    /// The part of the rule.
    pub slot: &'static str,
    /// What is wrong with it, and what would be right.
    pub why: String,
}

fn wrong<T>(slot: &'static str, why: impl Into<String>) -> Result<T, Wrong> {
    Err(Wrong { slot, why: why.into() })
}

/// Reads a rule of a number.
///
/// # Errors
/// [`Wrong`] with the first part that cannot be read.
pub(crate) fn read(id: i32, rule: &NoticeRule) -> Result<Rule, Wrong> {
    let name = rule.name.trim();
    if name.is_empty() || name.chars().count() > NAME || name.chars().any(char::is_control) {
        return wrong(
            "name",
            format!("a rule has a name of 1 to {NAME} characters on one line"),
        );
    }
    for (slot, text) in [
        ("text", &rule.text),
        ("runbook", &rule.runbook),
        ("otherwise", &rule.otherwise),
        ("environment", &rule.environment),
    ] {
        if text.as_ref().is_some_and(|text| text.chars().count() > TEXT) {
            return wrong(slot, format!("it has at most {TEXT} characters"));
        }
    }
    if rule.runbook.as_ref().is_some_and(|link| !is_page(link)) {
        return wrong("runbook", "it must be an http or https address");
    }
    let when = when(rule)?;
    let tell = targets("tell", &rule.tell)?;
    let is_personal = |way: &String| matches!(way.as_str(), "mail" | "browser");
    if rule.by.is_empty() || rule.by.len() > NAMES {
        return wrong(
            "by",
            format!("name 1 to {NAMES} ways: mail, browser, ticket, or names of chats and webhooks"),
        );
    }
    if tell.is_empty() && rule.by.iter().any(is_personal) {
        return wrong(
            "tell",
            "mail and browser need somebody to tell: owner, taker, deployer, a member or a team",
        );
    }
    if rule
        .at_most_every_minutes
        .is_some_and(|minutes| !(1..=LONGEST_MINUTES).contains(&minutes))
    {
        return wrong("at_most_every_minutes", format!("it is 1 to {LONGEST_MINUTES} minutes"));
    }
    Ok(Rule {
        id,
        name: name.to_owned(),
        expected: rule.expected.as_ref().map(|run| expected(run, &when)).transpose()?,
        measure: rule.threshold.as_ref().map(measure).transpose()?,
        predicate: rule
            .predicate
            .as_deref()
            .map(|text| predicate("where", text, &when))
            .transpose()?,
        environment: given(rule.environment.as_ref()),
        otherwise: given(rule.otherwise.as_ref()),
        by: once(&rule.by),
        at_most: rule.at_most_every_minutes,
        quiet: rule.not.as_ref().map(|not| quiet(not, &when)).transpose()?,
        pass_on: rule.pass_on.as_ref().map(pass_on).transpose()?,
        when,
        tell,
    })
}

/// Rules that are on, and can be read: one of a later release that cannot is left out and said so in the log.
pub(crate) fn in_force(stored: &[Stored]) -> Vec<Rule> {
    let on = stored.iter().filter(|stored| stored.is_on);
    on.filter_map(|stored| {
        let rule = of_stored(stored);
        let read = rule
            .map_err(|error| error.to_string())
            .and_then(|rule| read(stored.id, &rule).map_err(|wrong| wrong.to_string()));
        read.inspect_err(|why| tracing::warn!(rule = stored.name, why, "a notice rule cannot be read"))
            .ok()
    })
    .collect()
}

/// A rule as people wrote it, out of what is stored.
///
/// # Errors
/// When a later release wrote it in another form.
pub(crate) fn of_stored(stored: &Stored) -> Result<NoticeRule, serde_json::Error> {
    let mut setting = stored.setting.clone();
    if let Some(setting) = setting.as_object_mut() {
        setting.insert("name".to_owned(), stored.name.clone().into());
        setting.insert("is_on".to_owned(), stored.is_on.into());
    }
    serde_json::from_value(setting)
}

/// A rule as it is stored: all but its name and whether it is on.
pub(crate) fn setting(rule: &NoticeRule) -> serde_json::Value {
    let mut setting = serde_json::to_value(rule).unwrap_or_default();
    if let Some(setting) = setting.as_object_mut() {
        setting.remove("name");
        setting.remove("is_on");
    }
    setting
}

fn when(rule: &NoticeRule) -> Result<Vec<EventKind>, Wrong> {
    let mut when = vec![];
    for word in once(&rule.when) {
        let Some(kind) = EventKind::named(&word) else {
            let known: Vec<&str> = EventKind::all().map(EventKind::word).collect();
            return wrong(
                "when",
                format!("`{word}` is nothing that happens; known are {}", known.join(", ")),
            );
        };
        when.push(kind);
    }
    match (&rule.threshold, when.as_slice()) {
        (_, []) => wrong("when", "say what happens, such as new or deploy-flagged"),
        (Some(threshold), [EventKind::Over]) if threshold.of != "log-lines" => Ok(when),
        (Some(threshold), [EventKind::LogLine]) if threshold.of == "log-lines" => Ok(when),
        (Some(_), _) => wrong(
            "when",
            "a rule with a threshold is about `over`, or of log lines about `log-line`, and nothing else",
        ),
        (None, kinds) if kinds.iter().any(|kind| kind.is_of_a_rule()) => {
            wrong("threshold", "a rule about `over` or `log-line` needs a threshold")
        }
        (None, _) => Ok(when),
    }
}

fn expected(run: &ExpectedRun, when: &[EventKind]) -> Result<Expected, Wrong> {
    if when != [EventKind::Silent] {
        return wrong(
            "when",
            "a rule about what is to have run is about `silent`, and nothing else",
        );
    }
    let service = run.service.trim().to_owned();
    if service.is_empty()
        || service
            .chars()
            .chain(run.endpoint.iter().flat_map(|name| name.chars()))
            .count()
            > TEXT
    {
        return wrong(
            "expected",
            format!("name the service that is to run, in at most {TEXT} characters"),
        );
    }
    let by = minute("expected", &run.by)?;
    Ok(Expected {
        service,
        endpoint: given(run.endpoint.as_ref()),
        by: Hours {
            spell: Spell {
                days: days("expected", &run.days)?,
                ..Spell::daily(by, by)
            },
            zone: zone("expected", run.zone.as_deref().unwrap_or("UTC"))?,
        },
    })
}

fn measure(threshold: &Threshold) -> Result<Measure, Wrong> {
    let what = match threshold.of.as_str() {
        "occurrences" => Measured::Occurrences,
        "share" => Measured::Share,
        "log-lines" => Measured::LogLines,
        other => {
            return wrong(
                "threshold",
                format!("`{other}` cannot be counted; known are occurrences, share, log-lines"),
            );
        }
    };
    if !(1..=LONGEST_COUNT).contains(&threshold.minutes) {
        return wrong("threshold", format!("it is counted over 1 to {LONGEST_COUNT} minutes"));
    }
    let most = if what == Measured::Share { 100.0 } else { 1e12 };
    if !(0.0..most).contains(&threshold.above) {
        return wrong("threshold", format!("it is above 0 up to {most}"));
    }
    Ok(Measure {
        what,
        above: threshold.above,
        minutes: threshold.minutes,
    })
}

fn predicate(slot: &'static str, text: &str, when: &[EventKind]) -> Result<(String, Predicate), Wrong> {
    let text = text.trim();
    if text.chars().count() > TEXT {
        return wrong(slot, format!("it has at most {TEXT} characters"));
    }
    let said = parse(text).map_err(|mistake| mistake.marked(text));
    let checked = said.and_then(|said| {
        let fits = match when {
            [EventKind::Over] => said
                .says_mine()
                .map_or(Ok(()), |_| Err("`mine` is nobody's in a rule".to_owned())),
            [EventKind::LogLine] => said.for_log_lines().map_err(|mistake| mistake.marked(text)),
            _ => said.for_events().map_err(|mistake| mistake.marked(text)),
        };
        fits.map(|()| said)
    });
    checked
        .map(|said| (text.to_owned(), said))
        .map_err(|why| Wrong { slot, why })
}

fn quiet(not: &QuietHours, when: &[EventKind]) -> Result<Quiet, Wrong> {
    let spell = Spell {
        from: minute("not", &not.from)?,
        to: minute("not", &not.to)?,
        days: days("not", &not.days)?,
    };
    let of_events = if when.iter().any(|kind| kind.is_of_a_rule()) {
        &[EventKind::New][..]
    } else {
        when
    };
    let quiet = Quiet {
        hours: Hours {
            spell,
            zone: zone("not", not.zone.as_deref().unwrap_or("UTC"))?,
        },
        except: not
            .except
            .as_deref()
            .filter(|text| !text.trim().is_empty())
            .map(|text| predicate("not", text, of_events))
            .transpose()?,
    };
    if quiet.hours.next_outside(outcrop_core::Timestamp(0)).is_none() {
        return wrong("not", "these are all hours of all days: switch the rule off instead");
    }
    Ok(quiet)
}

fn pass_on(passed: &PassedOn) -> Result<PassOn, Wrong> {
    if !(1..=LONGEST_MINUTES).contains(&passed.after_minutes) {
        return wrong(
            "pass_on",
            format!("somebody has 1 to {LONGEST_MINUTES} minutes to take an error"),
        );
    }
    let to = targets("pass_on", &passed.to)?;
    if to.is_empty() {
        return wrong("pass_on", "say who is told then");
    }
    Ok(PassOn {
        minutes: passed.after_minutes,
        to,
    })
}

fn targets(slot: &'static str, names: &[String]) -> Result<Vec<Target>, Wrong> {
    let names = once(names);
    if names.len() > NAMES || names.iter().any(|name| name.chars().count() > TEXT) {
        return wrong(slot, format!("it names at most {NAMES} members and teams"));
    }
    Ok(names.iter().map(|name| Target::read(name)).collect())
}

/// A minute of the day, as `22:00`.
pub(super) fn minute(slot: &'static str, text: &str) -> Result<u16, Wrong> {
    let read = chrono::NaiveTime::parse_from_str(text.trim(), "%H:%M").map(|time| {
        use chrono::Timelike as _;
        time.hour() * 60 + time.minute()
    });
    let minute = read.ok().and_then(|minute| u16::try_from(minute).ok());
    minute.map_or_else(
        || wrong(slot, format!("`{text}` is no time of the day; write it as 22:00")),
        Ok,
    )
}

/// Days of the week by their names; all where none is named.
pub(super) fn days(slot: &'static str, names: &[String]) -> Result<[bool; 7], Wrong> {
    let mut days = [names.is_empty(); 7];
    for name in names {
        let lower = name.trim().to_ascii_lowercase();
        let Some(place) = DAYS.iter().position(|day| *day == lower) else {
            return wrong(slot, format!("`{name}` is no day; write {}", DAYS.join(", ")));
        };
        days[place] = true;
    }
    Ok(days)
}

/// A time zone by its name.
pub(super) fn zone(slot: &'static str, name: &str) -> Result<Zone, Wrong> {
    let known = Zone::from_str_insensitive(name.trim());
    known.map_err(|_unknown| Wrong {
        slot,
        why: format!("`{name}` is no time zone; write a name of the IANA database, such as Europe/Oslo"),
    })
}

/// Whether a text is the address of a page.
pub(super) fn is_page(text: &str) -> bool {
    reqwest::Url::parse(text).is_ok_and(|url| matches!(url.scheme(), "http" | "https"))
}

fn given(text: Option<&String>) -> Option<String> {
    text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty())
}

/// Names without blanks, each once.
fn once(names: &[String]) -> Vec<String> {
    let mut once: Vec<String> = vec![];
    for name in names.iter().map(|name| name.trim()) {
        if !name.is_empty() && !once.iter().any(|known| known == name) {
            once.push(name.to_owned());
        }
    }
    once
}

#[cfg(test)]
pub(super) fn for_tests() -> NoticeRule {
    NoticeRule {
        name: "Fares".to_owned(),
        when: vec!["new".to_owned(), "returned".to_owned()],
        environment: Some("production".to_owned()),
        tell: vec!["owner".to_owned()],
        by: vec!["mail".to_owned()],
        is_on: true,
        ..NoticeRule::default()
    }
}

#[cfg(test)]
mod tests {
    use chrono::Utc;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::{Value, json};

    use super::*;

    fn over(of: &str, above: u32, when: &[&str]) -> Value {
        json!({"when": when, "threshold": {"of": of, "above": above, "minutes": 10}})
    }

    fn run(service: &str, by: &str, when: &[&str]) -> Value {
        json!({"when": when, "expected": {"service": service, "by": by}})
    }

    /// The rule of the tests with parts of it replaced.
    fn with(parts: &Value) -> Result<Rule, Wrong> {
        let mut rule = serde_json::to_value(for_tests()).unwrap();
        for (name, part) in parts.as_object().unwrap() {
            rule[name] = part.clone();
        }
        read(1, &serde_json::from_value(rule).unwrap())
    }

    #[test]
    fn a_rule_is_read_and_said_as_it_was_written() {
        let rule = with(&json!({
            "where": "service in (fares, gangway)", "by": ["mail", "ops-room", "mail"], "at_most_every_minutes": 60,
            "not": {"from": "22:00", "to": "06:00", "days": ["mon", "Tue"], "zone": "europe/oslo",
                "except": "uncaught"},
            "pass_on": {"after_minutes": 45, "to": ["deck team"]},
        }));
        assert_eq!(
            rule.unwrap().sentence(),
            "When an error becomes new or returns in production where service in (fares, gangway), tell the owner by mail and \
             ops-room, at most once an hour, not 22:00–06:00 on Monday and Tuesday Europe/Oslo except uncaught. When nobody \
             takes it within 45 min, tell deck team."
        );
    }

    #[rstest]
    #[case::no_name(json!({"name": " "}), "name: a rule has a name")]
    #[case::a_name_of_two_lines(json!({"name": "a\nb"}), "name: ")]
    #[case::nothing_happens(json!({"when": []}), "when: say what happens")]
    #[case::an_unknown_kind(json!({"when": ["new", "knew"]}), "when: `knew` is nothing that happens; known are new")]
    #[case::no_predicate(json!({"where": "service = "}), "where: service =\n")]
    #[case::what_no_event_has(json!({"where": "settled"}), "a notice rule cannot look at `settled`")]
    #[case::a_slice(json!({"where": "slice = edge"}), "write the slice's predicate itself")]
    #[case::nobody(json!({"tell": []}), "tell: mail and browser need somebody")]
    #[case::no_way(json!({"by": []}), "by: name 1 to 20 ways")]
    #[case::no_time(json!({"not": {"from": "22", "to": "06:00"}}), "not: `22` is no time of the day")]
    #[case::no_day(json!({"not": {"from": "22:00", "to": "06:00", "days": ["someday"]}}), "`someday` is no day")]
    #[case::no_zone(json!({"not": {"from": "22:00", "to": "06:00", "zone": "Skerry"}}), "`Skerry` is no time zone")]
    #[case::always(json!({"not": {"from": "00:00", "to": "00:00"}}), "switch the rule off")]
    #[case::too_seldom(json!({"at_most_every_minutes": 20_000}), "at_most_every_minutes: ")]
    #[case::passed_on_to_nobody(json!({"pass_on": {"after_minutes": 5, "to": []}}), "pass_on: say who")]
    #[case::no_runbook(json!({"runbook": "javascript:alert(1)"}), "runbook: ")]
    #[case::no_threshold(json!({"when": ["over"]}), "threshold: a rule about `over`")]
    #[case::a_threshold_of_flags(over("share", 5, &["new"]), "when: a rule with a threshold")]
    #[case::more_than_all(over("share", 100, &["over"]), "threshold: ")]
    #[case::of_nothing(over("users", 5, &["over"]), "`users` cannot be counted")]
    #[case::a_run_of_errors(run("ledger", "02:30", &["new"]), "when: a rule about what is to have run")]
    #[case::a_run_of_nobody(run("", "02:30", &["silent"]), "expected: name the service")]
    #[case::a_run_by_no_time(run("ledger", "night", &["silent"]), "expected: `night`")]
    #[case::a_type_of_lines(
        json!({"when": ["log-line"], "where": "type = A", "threshold": {"of": "log-lines", "above": 0, "minutes": 5}}),
        "a log line has no `type`"
    )]
    fn what_is_wrong_is_said_with_its_place(#[case] parts: Value, #[case] said: &str) {
        let wrong = with(&parts).unwrap_err().to_string();
        assert!(wrong.contains(said), "{wrong}");
    }

    #[test]
    fn thresholds_and_lines_are_read() {
        let threshold = json!({"of": "share", "above": 2.5, "minutes": 10});
        let over = json!({"when": ["over"], "where": "slice = edge", "threshold": threshold});
        assert!(
            with(&over)
                .unwrap()
                .sentence()
                .starts_with("When failures are more than 2.5 % of the requests of 10 min")
        );
        let threshold = json!({"of": "log-lines", "above": 0, "minutes": 5});
        let lines = json!({"when": ["log-line"], "where": "message contains ice", "threshold": threshold});
        assert!(
            with(&lines)
                .unwrap()
                .sentence()
                .starts_with("When a log line comes in production where message contains ice")
        );
    }

    #[test]
    fn what_is_stored_is_read_again_and_what_cannot_be_is_left_out() {
        let stored = |setting: Value, is_on| Stored {
            id: 7,
            name: "Fares".to_owned(),
            setting,
            is_on,
            changed_by: "purser".to_owned(),
            changed_at: Utc::now(),
        };
        let whole = stored(setting(&for_tests()), true);
        assert!(whole.setting.get("name").is_none() && whole.setting.get("is_on").is_none());
        assert_eq!(of_stored(&whole).unwrap(), for_tests());
        let later = stored(json!({"when": ["moonrise"], "by": ["mail"], "tell": ["owner"]}), true);
        let off = stored(setting(&for_tests()), false);
        let rules = in_force(&[whole, later, off]);
        assert_eq!(rules.iter().map(|rule| rule.id).collect::<Vec<_>>(), [7]);
    }

    proptest! {
        #[test]
        fn any_rule_is_read_or_refused(
            name in ".{0,120}", when in proptest::collection::vec("[a-z-]{0,16}", 0..4), predicate in ".{0,40}",
            from in ".{0,6}", zone in ".{0,20}", tell in proptest::collection::vec(".{0,20}", 0..4),
        ) {
            let rule = NoticeRule {
                name,
                when,
                predicate: Some(predicate),
                not: Some(QuietHours { from, to: "06:00".to_owned(), zone: Some(zone), ..QuietHours::default() }),
                tell,
                ..for_tests()
            };
            drop(read(1, &rule));
        }
    }
}
