//! Digests: what happened in a day, in the order of attention, to members who want to be told once a day.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Reference;
use outcrop_core::notice::{Directory, Event, EventKind, Member, Pace, one_line};
use outcrop_store::errors::Summary;
use outcrop_store::notices::outbox::{self, NewNotice};
use outcrop_store::notices::{events, wishes as stored};
use outcrop_store::people::service_names;
use outcrop_store::{Database, Scope, StoreError, asking, from_utc, to_utc};
use serde_json::json;

use super::wishes;
use crate::settings::Settings;

/// How late a digest is made at most, where nobody was there to make it.
const LATE: TimeDelta = TimeDelta::hours(4);
/// Errors listed of each kind.
const LISTED: usize = 10;
/// Errors listed as the worst.
const WORST: usize = 5;
/// Longest title of an error, in characters.
const TITLE: usize = 120;

/// Makes the digests that are due. Returns how many went into the outbox.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn round(database: &Database, settings: &Settings, now: DateTime<Utc>) -> Result<usize, StoreError> {
    if settings.mail.is_none() {
        return Ok(0);
    }
    let directory = wishes::directory(database).await?;
    let mut due = vec![];
    for recipient in stored::recipients(database).await? {
        let Some(member) = directory.members.get(&recipient.email) else {
            continue;
        };
        let Some(at) = member.wishes.digest_before(from_utc(now)).map(to_utc) else {
            continue;
        };
        let is_new = recipient.digest_at.is_none_or(|made| made < at);
        if is_new && now - at < LATE && wants_digest(member) {
            due.push((recipient, at));
        }
    }
    let mut made = 0;
    for (recipient, at) in due {
        // Only one instance does.
        if !stored::digest_made(database, recipient.id, at).await? {
            continue;
        }
        let services = services(database, &directory, &recipient.email).await?;
        let day = Day::read(database, at, &services).await?;
        let Some((subject, paragraphs)) = day.told(settings) else {
            continue;
        };
        let new = NewNotice {
            rule: (None, ""),
            way: "mail",
            recipient: &recipient.email,
            reason: "digest",
            subject: &subject,
            event_ids: &day.events,
            body: Some(json!({"paragraphs": paragraphs})),
        };
        outbox::put(database, &new, now).await?;
        made += 1;
    }
    Ok(made)
}

fn wants_digest(member: &Member) -> bool {
    let wishes = &member.wishes;
    let mut paces = wishes.of_services.values().chain(wishes.of_teams.values());
    wishes.pace == Pace::Daily || paces.any(|pace| *pace == Pace::Daily)
}

/// The services that a member is told of once a day.
async fn services(database: &Database, directory: &Directory, email: &str) -> Result<BTreeSet<String>, StoreError> {
    let Some(member) = directory.members.get(email) else {
        return Ok(BTreeSet::new());
    };
    let owned: Vec<(String, Vec<String>)> = outcrop_store::people::teams::list(database)
        .await?
        .into_iter()
        .filter(|team| team.members.iter().any(|one| one == email))
        .map(|team| (team.name, team.services))
        .collect();
    let is_daily = |service: &String| {
        let team = owned
            .iter()
            .find(|(_, services)| services.contains(service))
            .map(|(team, _)| team.as_str());
        !member.closed.contains(service) && member.wishes.pace_of(service, team) == Pace::Daily
    };
    let all = service_names::all(database).await?;
    Ok(all.into_iter().map(|(service, _)| service).filter(is_daily).collect())
}

/// One error in a digest.
#[derive(Clone, Debug, PartialEq)]
struct Line {
    reference: Reference,
    service: String,
    title: String,
    count: i64,
    score: u8,
}

/// What happened in a day.
#[derive(Clone, Debug, Default)]
struct Day {
    new: Vec<Line>,
    returned: Vec<Line>,
    surging: Vec<Line>,
    worst: Vec<Line>,
    settled: Vec<Line>,
    /// Errors of the day before that did not occur any more.
    gone: Vec<Line>,
    silent: Vec<String>,
    events: Vec<i64>,
}

impl Day {
    /// Reads the day before a time, of some services.
    async fn read(database: &Database, to: DateTime<Utc>, services: &BTreeSet<String>) -> Result<Self, StoreError> {
        let day = TimeDelta::hours(24);
        let happened: Vec<Event> = (events::between(database, to - day, to).await?.into_iter())
            .filter(|event| services.contains(&event.service) || event.kind == EventKind::Handled)
            .collect();
        let scope = |from, to| Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to,
            predicate: None,
        };
        let now = asking::list_errors(database, &scope(to - day, to)).await?;
        let before = asking::list_errors(database, &scope(to - day * 2, to - day)).await?;
        let known: BTreeMap<Reference, Line> = (now.iter().chain(&before))
            .filter(|error| services.contains(&error.service))
            .map(|error| (error.reference, line(error, to)))
            .collect();
        let of = |kind: EventKind| {
            let errors: BTreeSet<Reference> = happened
                .iter()
                .filter(|event| event.kind == kind)
                .filter_map(|event| event.error)
                .collect();
            in_order(errors.iter().filter_map(|error| known.get(error).cloned()))
        };
        let occurred: BTreeSet<Reference> = now
            .iter()
            .filter(|error| error.count > 0)
            .map(|error| error.reference)
            .collect();
        let settled = now
            .iter()
            .chain(&before)
            .filter(|error| error.handling.is_settled())
            .map(|error| error.reference);
        let settled: BTreeSet<Reference> = settled.collect();
        let handled: BTreeSet<Reference> = happened
            .iter()
            .filter(|event| event.kind == EventKind::Handled)
            .filter_map(|event| event.error)
            .collect();
        let mut worst = in_order(
            known
                .values()
                .filter(|line| occurred.contains(&line.reference))
                .cloned(),
        );
        worst.truncate(WORST);
        let silent = happened.iter().filter(|event| event.kind == EventKind::Silent);
        Ok(Self {
            new: of(EventKind::New),
            returned: of(EventKind::Returned),
            surging: of(EventKind::Surging),
            settled: in_order(
                handled
                    .intersection(&settled)
                    .filter_map(|error| known.get(error).cloned()),
            ),
            gone: in_order(
                known
                    .values()
                    .filter(|line| !occurred.contains(&line.reference) && line.count > 0)
                    .cloned(),
            ),
            silent: silent
                .map(|event| format!("{}: {}", event.title, event.evidence))
                .collect(),
            events: happened
                .iter()
                .filter(|event| event.kind != EventKind::Handled)
                .map(|event| event.id)
                .take(200)
                .collect(),
            worst,
        })
    }

    /// Subject and paragraphs; `None` where nothing happened.
    fn told(&self, settings: &Settings) -> Option<(String, Vec<String>)> {
        let counted = [
            (self.new.len(), "new"),
            (self.returned.len(), "returned"),
            (self.surging.len(), "surging"),
            (self.settled.len(), "settled"),
            (self.gone.len(), "gone quiet"),
            (self.silent.len(), "silent"),
        ];
        let said: Vec<String> = counted
            .iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, what)| format!("{n} {what}"))
            .collect();
        if said.is_empty() {
            return None;
        }
        let mut paragraphs = vec![];
        for (heading, lines, listed) in [
            ("New", &self.new, LISTED),
            ("Returned", &self.returned, LISTED),
            ("Surging", &self.surging, LISTED),
            ("Worst, whether new or known", &self.worst, WORST),
            ("Settled", &self.settled, LISTED),
            ("Gone quiet: none since the day before", &self.gone, LISTED),
        ] {
            if !lines.is_empty() {
                paragraphs.push(section(heading, lines, listed, settings));
            }
        }
        if !self.silent.is_empty() {
            let lines: Vec<&str> = self.silent.iter().take(LISTED).map(String::as_str).collect();
            paragraphs.push(format!("Silent\n{}", lines.join("\n")));
        }
        Some((format!("Digest: {}", said.join(", ")), paragraphs))
    }
}

fn line(error: &Summary, now: DateTime<Utc>) -> Line {
    Line {
        reference: error.reference,
        service: error.service.clone(),
        title: one_line(&error.title, TITLE),
        count: error.count,
        score: error.attention(now).score,
    }
}

/// The order of attention.
fn in_order(lines: impl Iterator<Item = Line>) -> Vec<Line> {
    let mut lines: Vec<Line> = lines.collect();
    lines.sort_by_key(|line| (std::cmp::Reverse((line.score, line.count)), line.reference));
    lines
}

fn section(heading: &str, lines: &[Line], listed: usize, settings: &Settings) -> String {
    let mut text = heading.to_owned();
    for line in lines.iter().take(listed) {
        let reference = line.reference.to_string();
        let page = settings.page(&["errors", &reference], &[]).unwrap_or(reference);
        let _ = write!(
            text,
            "\n{} in {}: {} occurrences\n  {page}",
            line.title, line.service, line.count
        );
    }
    if lines.len() > listed {
        let _ = write!(text, "\nand {} more", lines.len() - listed);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(titles: &[(&str, u8)]) -> Vec<Line> {
        let lines = titles.iter().zip(1..).map(|((title, score), number)| Line {
            reference: Reference::of_number(number),
            service: "fares".to_owned(),
            title: (*title).to_owned(),
            count: 7,
            score: *score,
        });
        in_order(lines)
    }

    #[test]
    fn a_day_is_told_in_the_order_of_attention_and_one_without_news_not_at_all() {
        let mut settings = Settings::new("");
        settings.public_url = Some("https://outcrop.skerry.example".to_owned());
        let day = Day {
            new: lines(&[("no tariff", 20), ("no sailing", 80)]),
            worst: lines(&[("no berth", 90)]),
            silent: vec!["ledger reports nothing: nothing for 12 min".to_owned()],
            ..Day::default()
        };
        let (subject, paragraphs) = day.told(&settings).unwrap();
        assert_eq!(subject, "Digest: 2 new, 1 silent");
        assert_eq!(paragraphs.len(), 3);
        let first: Vec<&str> = paragraphs[0].lines().collect();
        assert_eq!((first[0], first[1]), ("New", "no sailing in fares: 7 occurrences"));
        assert!(
            first[2].starts_with("  https://outcrop.skerry.example/errors/"),
            "{first:?}"
        );
        assert!(paragraphs[1].starts_with("Worst") && paragraphs[2].starts_with("Silent\nledger"));
        let quiet = Day {
            worst: lines(&[("no berth", 90)]),
            ..Day::default()
        };
        assert_eq!(quiet.told(&settings), None, "what was known before is no news");
    }

    #[test]
    fn of_many_the_rest_is_counted() {
        let many: Vec<(&str, u8)> = (0..14).map(|score| ("no tariff", score)).collect();
        let day = Day {
            new: lines(&many),
            ..Day::default()
        };
        let (_, paragraphs) = day.told(&Settings::new("")).unwrap();
        assert!(paragraphs[0].ends_with("and 4 more"), "{paragraphs:?}");
    }
}
