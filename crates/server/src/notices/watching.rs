//! Watches what lasts: endpoints that fail or are slow, thresholds that are passed, and what is silent.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Timestamp;
use outcrop_core::attention::percent;
use outcrop_core::notice::{
    Counted, Event, EventKind, Expected, Measure, Measured, Passed, Rule, overdue_since, passed, passes, silence_since,
};
use outcrop_core::query::{Predicate, parse, quoted};
use outcrop_core::unwell;
use outcrop_store::notices::counts;
use outcrop_store::notices::episodes::{self, Standing};
use outcrop_store::notices::events::{self, NewEvent};
use outcrop_store::notices::rules as stored_rules;
use outcrop_store::notices::silence::{self, Still};
use outcrop_store::traffic::now as traffic;
use outcrop_store::traffic::timeline;
use outcrop_store::{Database, Scope, StoreError, from_utc, logs, to_utc};

use super::rules;
use crate::answers::owners::Directory;

/// How long an endpoint must have been well, and a sender reporting, before it is told anew.
const WELL: TimeDelta = TimeDelta::minutes(15);
/// How long what was silent reports before it is told.
const REPORTING: TimeDelta = TimeDelta::minutes(3);
/// How long requests and lines may be on their way before a minute counts as whole.
const LAG: TimeDelta = TimeDelta::seconds(70);
/// How long after its time it is told that something has not run.
const FRESH: TimeDelta = TimeDelta::hours(1);
const DAY: TimeDelta = TimeDelta::hours(24);

fn new(event: Event, service: Option<i32>, environment: Option<i32>) -> NewEvent {
    NewEvent {
        key: String::new(),
        service_id: service,
        environment_id: environment,
        error_id: None,
        is_late: false,
        event,
    }
}

/// Notes endpoints that begin to fail or to be slow, and those that are well again. Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn endpoints(database: &Database, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let directory = Directory::read(database).await?;
    let services = timeline::services(database, now).await?;
    let environments: HashSet<&String> = services.iter().flat_map(|service| &service.environments).collect();
    let (mut failing, mut slow) = (vec![], vec![]);
    for environment in environments {
        for endpoint in traffic::endpoints(database, Some(environment), now).await? {
            let said = |kind, title: String, evidence| {
                let event = Event {
                    endpoint: endpoint.name.clone(),
                    owner: directory.of_service(&endpoint.service).map(|owned| owned.owner),
                    title,
                    evidence,
                    ..Event::of(&endpoint.service, environment, kind, from_utc(now))
                };
                Standing {
                    what: format!("{} {environment}", endpoint.id),
                    hold: WELL,
                    begins: new(event, Some(endpoint.service_id), None),
                }
            };
            if unwell::is_failing(endpoint.failed, endpoint.failed_before) {
                let (part, of) = (endpoint.failed.part, endpoint.failed.of);
                let evidence = format!(
                    "{part} of {of} requests failed in the last 15 minutes ({}); {} before",
                    percent(endpoint.failed.share()),
                    percent(endpoint.failed_before.share())
                );
                failing.push(said(EventKind::EndpointFailing, endpoint.name.clone(), evidence));
            }
            if let Some(share) = unwell::is_slow(endpoint.slow, endpoint.slow_before) {
                let evidence = format!("{} of its requests take longer than its threshold", percent(share));
                slow.push(said(EventKind::EndpointSlow, endpoint.name.clone(), evidence));
            }
        }
    }
    let well = Some(EventKind::BackToNormal);
    let failing = episodes::look(database, (EventKind::EndpointFailing, well), &failing, now).await?;
    Ok(failing + episodes::look(database, (EventKind::EndpointSlow, well), &slow, now).await?)
}

/// Notes thresholds of rules that are passed anew, and what has not run by its time. Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn thresholds(database: &Database, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let all = rules::in_force(&stored_rules::list(database).await?);
    let mut noted = 0;
    for rule in &all {
        if let Some(measure) = rule.measure {
            let minute = (now - LAG).timestamp().div_euclid(60) - 1;
            let from = minute - i64::from(measure.minutes) + 1;
            let counted = counted(database, rule, measure.what, (from, minute + 1)).await?;
            let standing = match passed(&measure, &counted, minute) {
                Some(passed) => vec![Standing {
                    what: rule.id.to_string(),
                    hold: TimeDelta::minutes(measure.minutes.into()),
                    begins: over(database, rule, &measure, passed, now).await?,
                }],
                None => vec![],
            };
            let kind = if measure.what == Measured::LogLines {
                EventKind::LogLine
            } else {
                EventKind::Over
            };
            noted += episodes::look(database, (kind, None), &standing, now).await?;
        }
        if let Some(expected) = &rule.expected {
            for deadline in expected.deadlines(from_utc(now - FRESH), from_utc(now - LAG)) {
                let missed = missed(database, rule.id, expected, deadline, now).await?;
                noted += events::note(database, missed.as_slice()).await?;
            }
        }
    }
    Ok(noted)
}

/// The events of a rule's threshold, or of what it waits for, over the past: those that would have been noted.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(super) async fn over_the_past(
    database: &Database,
    rule: &Rule,
    (from, now): (DateTime<Utc>, DateTime<Utc>),
) -> Result<Vec<Event>, StoreError> {
    let mut found = vec![];
    if let Some(measure) = rule.measure {
        let (first, last) = (from.timestamp().div_euclid(60), (now - LAG).timestamp().div_euclid(60));
        let counted = counted(database, rule, measure.what, (first, last)).await?;
        for passed in passes(&measure, &counted, (first, last)) {
            let at = to_utc(minute(passed.minute + 1)) + LAG;
            found.push(over(database, rule, &measure, passed, at).await?.event);
        }
    }
    if let Some(expected) = &rule.expected {
        for deadline in expected.deadlines(from_utc(from), from_utc(now - LAG)) {
            let missed = missed(database, rule.id, expected, deadline, to_utc(deadline) + LAG).await?;
            found.extend(missed.map(|new| new.event));
        }
    }
    // They are of no stored number: below all that are.
    for (event, number) in found.iter_mut().zip(1..) {
        event.id = -number;
    }
    Ok(found)
}

/// What a rule's threshold counts, minute by minute.
async fn counted(
    database: &Database,
    rule: &Rule,
    what: Measured,
    (from, to): (i64, i64),
) -> Result<BTreeMap<i64, Counted>, StoreError> {
    match &rule.metric {
        Some(metric) => counts::metric_by_minute(database, metric, &of_metric(rule, from, to)).await,
        None => counts::by_minute(database, what, &scope(rule, from, to)).await,
    }
}

/// The window from one minute up to another, with the one service and environment that a metric is asked of.
fn of_metric(rule: &Rule, from: i64, to: i64) -> Scope {
    Scope {
        service: rule.only_service().ok().flatten().map(str::to_owned),
        environment: rule.environment.clone(),
        predicate: None,
        ..scope(rule, from, to)
    }
}

fn minute(number: i64) -> Timestamp {
    Timestamp::from_millis(number * 60_000)
}

/// The window from one minute up to another, with the rule's predicate and environment.
fn scope(rule: &Rule, from: i64, to: i64) -> Scope {
    let environment = rule
        .environment
        .as_ref()
        .and_then(|pattern| parse(&format!("environment like {}", quoted(pattern))).ok());
    let own = rule.predicate.as_ref().map(|(_, predicate)| predicate.clone());
    let parts: Vec<Predicate> = own.into_iter().chain(environment).collect();
    Scope {
        service: None,
        environment: None,
        version: None,
        from: to_utc(minute(from)),
        to: to_utc(minute(to)),
        predicate: (!parts.is_empty()).then(|| Arc::new(Predicate::All(parts))),
    }
}

/// That a threshold is passed; of log lines with the newest of them. Where what was counted is of a service that only its
/// teams may read, it is of that service: others are not told.
async fn over(
    database: &Database,
    rule: &Rule,
    measure: &Measure,
    passed: Passed,
    at: DateTime<Utc>,
) -> Result<NewEvent, StoreError> {
    let is_of_lines = measure.what == Measured::LogLines;
    let kind = if is_of_lines {
        EventKind::LogLine
    } else {
        EventKind::Over
    };
    let mut event = Event {
        rule: Some(rule.id),
        since: minute(passed.minute),
        title: rule.name.clone(),
        evidence: match &rule.metric {
            Some(metric) => format!("{metric}: {}", passed.in_words(measure)),
            None => passed.in_words(measure),
        },
        count: passed.sum.count,
        ..Event::of("", "", kind, from_utc(at))
    };
    let whole = scope(rule, passed.minute - i64::from(measure.minutes) + 1, passed.minute + 1);
    if is_of_lines
        && let Some(line) = logs::lines(database, &whole, &logs::Asked::default(), 1)
            .await?
            .into_iter()
            .next()
    {
        event.service = line.service;
        event.environment = line.environment;
        event.version = line.version;
        event.title = line.message;
    }
    let about = match &rule.metric {
        Some(metric) => counts::service_of_metric(database, metric, rule.only_service().ok().flatten()).await?,
        None => counts::service_of(database, measure.what, &whole).await?,
    };
    let number = about.as_ref().map(|(number, _)| *number);
    event.service = about.map_or(event.service, |(_, service)| service);
    Ok(new(event, number, None))
}

/// That something has not run by a time, where it has not since the day before.
async fn missed(
    database: &Database,
    rule: i32,
    expected: &Expected,
    deadline: Timestamp,
    at: DateTime<Utc>,
) -> Result<Option<NewEvent>, StoreError> {
    let by = to_utc(deadline);
    let of = (expected.service.as_str(), expected.endpoint.as_deref());
    if counts::runs(database, of, (by - DAY, by)).await? > 0 {
        return Ok(None);
    }
    let what = expected.endpoint.as_ref().map_or_else(
        || expected.service.clone(),
        |job| format!("{job} of {}", expected.service),
    );
    let known = counts::named_service(database, &expected.service).await?;
    let service = known.as_ref().map_or(&expected.service, |(_, name)| name);
    let event = Event {
        rule: Some(rule),
        since: deadline,
        endpoint: expected.endpoint.clone().unwrap_or_default(),
        title: format!("{what} has not run"),
        evidence: format!("no run in the 24 h until {}", by.format("%Y-%m-%d %H:%M UTC")),
        ..Event::of(service, "", EventKind::Silent, from_utc(at))
    };
    Ok(Some(NewEvent {
        key: format!("expected {rule} {}", deadline.millis()),
        ..new(event, known.as_ref().map(|(number, _)| *number), None)
    }))
}

/// Notes what falls silent by its own course, and what reports again. Where nobody reports anything, the silence counts
/// from when this instance began to look: it may be the one that was away. Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn silences(database: &Database, began: DateTime<Utc>, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let still = silence::still(database, now, now + REPORTING).await?;
    let last = silence::last_of_all(database, now).await?;
    let others_report = last.is_some_and(|last| now - last < TimeDelta::minutes(3));
    let directory = Directory::read(database).await?;
    let mut silent: Vec<(&Still, Event)> = vec![];
    for one in &still {
        let since = if others_report {
            one.last_at
        } else {
            one.last_at.max(began)
        };
        let past: Vec<(i64, u64)> = one
            .hours
            .iter()
            .copied()
            .zip(one.counts.iter().map(|count| count.unsigned_abs()))
            .collect();
        if let Some(why) = why_silent(&past, since, now) {
            silent.push((one, said(one, &why, &directory, now)));
        }
    }
    let services: HashSet<(Option<i32>, Option<i32>)> = silent
        .iter()
        .filter(|(one, _)| one.kind == "service")
        .map(|(one, _)| (one.service_id, one.environment_id))
        .collect();
    let standing: Vec<Standing> = silent
        .into_iter()
        // Of a silent service nobody needs to hear of its endpoints.
        .filter(|(one, _)| one.kind != "endpoint" || !services.contains(&(one.service_id, one.environment_id)))
        .map(|(one, event)| Standing {
            hold: REPORTING,
            what: one.what(),
            begins: new(event, one.service_id, one.environment_id),
        })
        .collect();
    let kinds = (EventKind::Silent, Some(EventKind::Reporting));
    episodes::look(database, kinds, &standing, now).await
}

/// Why it is said of something that nothing came since a time; `None` where its past speaks for no more.
fn why_silent(past: &[(i64, u64)], since: DateTime<Utc>, now: DateTime<Utc>) -> Option<String> {
    let (from, to) = (from_utc(since), from_utc(now));
    if let Some(silence) = silence_since(past, from, to) {
        return Some(format!(
            "its past lets {:.0} be expected, and none comes so by chance in fewer than 1 of a million",
            silence.expected
        ));
    }
    let overdue = overdue_since(past, from, to)?;
    let spells = match overdue.every_hours {
        24 => format!("of the {} days before that it runs on", overdue.of),
        1 => format!("of the {} hours before", overdue.of),
        hours => format!("of the {} spells of {hours} h before", overdue.of),
    };
    Some(format!("it came in each {spells}, evenly as by a clock"))
}

fn said(one: &Still, why: &str, directory: &Directory, now: DateTime<Utc>) -> Event {
    let minutes = (now - one.last_at).num_minutes();
    let long = if minutes < 600 {
        format!("{minutes} min")
    } else {
        format!("{} h", minutes / 60)
    };
    let title = match one.kind.as_str() {
        "service" => format!("{} reports nothing", one.service),
        "endpoint" => format!("{} of {} gets no requests", one.name, one.service),
        _ => format!("The sender key {} sends nothing", one.name),
    };
    Event {
        namespace: one.namespace.clone(),
        endpoint: if one.kind == "endpoint" {
            one.name.clone()
        } else {
            String::new()
        },
        since: from_utc(one.last_at),
        owner: directory.of_service(&one.service).map(|owned| owned.owner),
        title,
        evidence: format!("nothing for {long}; {why}"),
        ..Event::of(&one.service, &one.environment, EventKind::Silent, from_utc(now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_silence_says_what_speaks_for_it() {
        let at = |hours: i64| to_utc(Timestamp::from_millis(hours * 3_600_000));
        let of = |hours: &[(i64, u64)], since: i64, now: i64| why_silent(hours, at(since), at(now));
        let busy: Vec<(i64, u64)> = (0..240).map(|hour| (hour, 600)).collect();
        let nightly: Vec<(i64, u64)> = (0..20).map(|day| (day * 24 + 2, 1)).collect();
        let why = of(&busy, 240, 241).unwrap();
        assert!(why.starts_with("its past lets 600 be expected"), "{why}");
        let why = of(&nightly, 19 * 24 + 3, 20 * 24 + 6);
        assert_eq!(
            why.as_deref(),
            Some("it came in each of the 19 days before that it runs on, evenly as by a clock")
        );
        assert_eq!(of(&nightly, 19 * 24 + 3, 20 * 24 + 1), None);
    }
}
