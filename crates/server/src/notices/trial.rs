//! What a rule would have sent over the past: the same plan over the same events as what is sent.

use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{NoticeRule, NoticeTrialResult, TriedNotice};
use outcrop_core::notice::{Directory, Event, Notice, Plan, Reason, Rule, Wishes, subject};
use outcrop_store::notices::{counts, events, ways as stored_ways};
use outcrop_store::{Database, StoreError, from_utc, to_utc};

use super::{watching, wishes};
use crate::answers::tickets;
use crate::settings::Settings;

/// Notices listed of a trial.
const LISTED: usize = 200;

/// Tries a rule over so many days.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn run(
    database: &Database,
    settings: &Settings,
    rule: Rule,
    days: i64,
    now: DateTime<Utc>,
) -> Result<NoticeTrialResult, StoreError> {
    let from = now - TimeDelta::days(days);
    let happened = if rule.measure.is_some() || rule.expected.is_some() {
        watching::over_the_past(database, &rule, (from, now)).await?
    } else {
        events::between(database, from, now).await?
    };
    let directory = wishes::directory(&database.whole()).await?;
    let troubles = troubles(database, settings, &rule, &directory).await?;
    let sentence = rule.sentence();
    let rules = [rule];
    let notices = over(&happened, &rules, &directory, now);
    let by_id: HashMap<i64, &Event> = happened.iter().map(|event| (event.id, event)).collect();
    let tried = once_a_person(notices.iter().map(|notice| tried(notice, &by_id)));
    let count = tried.len();
    let items = tried.into_iter().rev().take(LISTED).collect();
    let mut all = directory;
    for member in all.members.values_mut() {
        member.wishes = Wishes::default();
    }
    let kept = over(&happened, &rules, &all, now).len().saturating_sub(notices.len());
    let since = from.format("%Y-%m-%d");
    let mut answer = match count {
        0 => format!("Would have sent nothing since {since}."),
        1 => format!("Would have sent 1 notice since {since}."),
        n => format!("Would have sent {n} notices since {since}."),
    };
    if kept > 0 {
        answer.push_str(" More would have gone to members who chose a digest, or nothing.");
    }
    Ok(NoticeTrialResult {
        sentence,
        answer,
        items,
        count,
        events: happened.len(),
        troubles,
    })
}

/// The notices that rules come to over events, in their order, as they would have left until a time.
pub(super) fn over(happened: &[Event], rules: &[Rule], directory: &Directory, now: DateTime<Utc>) -> Vec<Notice> {
    let mut plan = Plan::default();
    let mut notices = vec![];
    for together in happened.chunk_by(|a, b| a.at == b.at) {
        notices.extend(plan.step(together[0].at, together, rules, directory));
    }
    notices.extend(plan.step(from_utc(now), &[], rules, directory));
    notices
}

fn tried(notice: &Notice, events: &HashMap<i64, &Event>) -> TriedNotice {
    let of: Vec<Event> = notice
        .events
        .iter()
        .filter_map(|id| events.get(id).map(|event| (*event).clone()))
        .collect();
    TriedNotice {
        at: to_utc(notice.at),
        ways: vec![notice.stream.way.clone()],
        to: notice.stream.to.clone(),
        subject: subject(&of, notice.more, notice.reason),
        references: references(&of),
        is_passed_on: notice.reason == Reason::PassedOn,
    }
}

/// What goes to the same person at the same time by several ways is one notice by these ways.
fn once_a_person(notices: impl Iterator<Item = TriedNotice>) -> Vec<TriedNotice> {
    let mut once: Vec<TriedNotice> = vec![];
    for notice in notices {
        let same = once
            .iter_mut()
            .rev()
            .take_while(|known| known.at == notice.at)
            .find(|known| {
                (&known.to, &known.subject, known.is_passed_on) == (&notice.to, &notice.subject, notice.is_passed_on)
            });
        match same {
            Some(known) => known.ways.extend(notice.ways),
            None => once.push(notice),
        }
    }
    once
}

/// References of the errors of events, each once.
pub(crate) fn references(events: &[Event]) -> Vec<String> {
    let mut references: Vec<String> = vec![];
    for error in events.iter().filter_map(|event| event.error) {
        let reference = error.to_string();
        if !references.contains(&reference) {
            references.push(reference);
        }
    }
    references
}

/// What keeps a rule from telling as it says.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn troubles(
    database: &Database,
    settings: &Settings,
    rule: &Rule,
    directory: &Directory,
) -> Result<Vec<String>, StoreError> {
    let ways: Vec<String> = stored_ways::list(database)
        .await?
        .into_iter()
        .map(|way| way.name)
        .collect();
    let has_tickets = tickets::tracker(database).await?.is_some();
    let mut troubles = vec![];
    for way in &rule.by {
        match way.as_str() {
            "mail" if settings.mail.is_none() => {
                troubles.push("Mail is not set up: start the service with --mail-server.".to_owned());
            }
            "ticket" if !has_tickets => {
                troubles.push("Tickets are not set up: an admin does, with `outcrop ticket set`.".to_owned());
            }
            "mail" | "browser" | "ticket" => {}
            name if ways.iter().any(|known| known == name) => {}
            name => troubles.push(format!("There is no way `{name}`: make it, or name another.")),
        }
    }
    if let Some(expected) = &rule.expected {
        let of = (expected.service.as_str(), expected.endpoint.as_deref());
        let now = Utc::now();
        if counts::runs(&database.whole(), of, (now - TimeDelta::days(8), now)).await? == 0 {
            let what = expected
                .endpoint
                .as_ref()
                .map_or_else(|| of.0.to_owned(), |job| format!("{job} of {}", of.0));
            troubles.push(format!(
                "No run of {what} was seen in the last 8 days: is its name right?"
            ));
        }
    }
    let is_personal = rule.by.iter().any(|way| matches!(way.as_str(), "mail" | "browser"));
    let targets = rule
        .tell
        .iter()
        .chain(rule.pass_on.iter().flat_map(|pass_on| &pass_on.to));
    let named = targets.filter_map(|target| match target {
        outcrop_core::notice::Target::Named(name) => Some(name),
        _ => None,
    });
    for name in named.chain(&rule.otherwise).filter(|_| is_personal) {
        if !directory.knows(name) {
            troubles.push(format!("No member or team is called `{name}`."));
        }
    }
    Ok(troubles)
}

/// The same of a rule as people wrote it; of one that cannot be read, why.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn of_rules(
    database: &Database,
    settings: &Settings,
    rules: &[(i32, NoticeRule)],
) -> Result<Vec<(String, Vec<String>)>, StoreError> {
    let directory = wishes::directory(&database.whole()).await?;
    let mut all = vec![];
    for (id, rule) in rules {
        all.push(match super::rules::read(*id, rule) {
            Ok(rule) => (rule.sentence(), troubles(database, settings, &rule, &directory).await?),
            Err(wrong) => (String::new(), vec![wrong.to_string()]),
        });
    }
    Ok(all)
}
