//! Rules as people write them, read into what the plan works with.

#[cfg(test)]
mod tests;

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
    let read = Rule {
        id,
        name: name.to_owned(),
        metric: rule
            .threshold
            .as_ref()
            .and_then(|threshold| given(threshold.metric.as_ref())),
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
    };
    of_metric(&read)?;
    Ok(read)
}

/// Whether a metric is named where the threshold is of one, and asked of what it can be asked of.
fn of_metric(rule: &Rule) -> Result<(), Wrong> {
    let is_of_metric = rule.measure.is_some_and(|measure| measure.what == Measured::Metric);
    match (&rule.metric, is_of_metric) {
        (None, false) => return Ok(()),
        (None, true) => return wrong("threshold", "name the metric that it is of"),
        (Some(_), false) => return wrong("threshold", "it names a metric, but is not of `metric`"),
        (Some(name), true) if name.chars().count() > TEXT => {
            return wrong("threshold", format!("a metric's name has at most {TEXT} characters"));
        }
        (Some(_), true) => {}
    }
    if rule
        .environment
        .as_ref()
        .is_some_and(|pattern| pattern.contains(['*', '?']))
    {
        return wrong("environment", "a metric is of one environment: name it whole, or none");
    }
    if rule.only_service().is_err() {
        return wrong(
            "where",
            "a metric is asked of one service: `service = fares`, or of all",
        );
    }
    Ok(())
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
        "metric" => Measured::Metric,
        other => {
            return wrong(
                "threshold",
                format!("`{other}` cannot be counted; known are occurrences, share, log-lines, metric"),
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
