//! Sends what is in the outbox, by whichever way, and writes down what came of it.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{NoticeRule, NoticeWay};
use outcrop_core::Reference;
use outcrop_core::notice::Event;
use outcrop_store::notices::outbox::{self, Outcome, Stored};
use outcrop_store::notices::{events, rules as stored_rules, sources, ways as stored_ways, wishes};
use outcrop_store::people::installation;
use outcrop_store::{Database, StoreError, ids};
use tokio::sync::Semaphore;

use super::letter::{Letter, Parts};
use super::links::Links;
use super::mail::{self, NotSent};
use super::{rules, ways};
use crate::answers::tickets::{self, NotMade};
use crate::settings::Settings;

/// Notices taken at once, and on their way at once: a receiver that hangs holds up so many at most.
const AT_ONCE: i64 = 20;
pub(super) const ON_THEIR_WAY: usize = 64;
/// How long it is tried.
const GIVE_UP_AFTER: TimeDelta = TimeDelta::hours(24);
/// The first wait after a failure; each is three times as long as the one before, up to the longest.
const FIRST_WAIT: TimeDelta = TimeDelta::seconds(10);
const LONGEST_WAIT: TimeDelta = TimeDelta::hours(1);
/// Longest answer that is kept, in characters.
const ANSWER: usize = 500;

/// Takes what is due and sends it, each on its own. Returns how many were taken.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn round(
    database: &Database,
    settings: &Arc<Settings>,
    permits: &Arc<Semaphore>,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    outbox::expire(database, now).await?;
    let free = i64::try_from(permits.available_permits())
        .unwrap_or(AT_ONCE)
        .min(AT_ONCE);
    if free == 0 {
        return Ok(0);
    }
    let taken = outbox::take(database, free).await?;
    let count = taken.len();
    for notice in taken {
        let Ok(permit) = permits.clone().acquire_owned().await else {
            break;
        };
        let (database, settings) = (database.clone(), settings.clone());
        drop(tokio::spawn(async move {
            if let Err(error) = deliver(&database, &settings, &notice, Utc::now()).await {
                tracing::warn!(%error, notice = notice.id, "what came of a notice was not written down: it is sent again");
            }
            drop(permit);
        }));
    }
    Ok(count)
}

/// Sends one notice and writes down what came of it.
async fn deliver(
    database: &Database,
    settings: &Settings,
    notice: &Stored,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let (outcome, answer) = match sent(database, settings, notice, now).await {
        Ok(answer) => (Outcome::Sent, answer),
        Err(NotSent::Never(why)) => (Outcome::GivenUp, why),
        Err(NotSent::Again(why)) if now - notice.made_at >= GIVE_UP_AFTER => (Outcome::GivenUp, why),
        Err(NotSent::Again(why)) => (Outcome::Again(Utc::now() + wait(notice.attempts)), why),
    };
    if outcome != Outcome::Sent {
        tracing::warn!(
            notice = notice.id,
            way = notice.way,
            answer,
            ?outcome,
            "a notice was not sent"
        );
    }
    let answer: String = answer.replace('\0', "").chars().take(ANSWER).collect();
    outbox::ended(database, notice, &outcome, &answer, Utc::now()).await
}

/// How long it waits after so many tries, 1 or more.
fn wait(attempts: i32) -> TimeDelta {
    let factor = 3_i32.saturating_pow(u32::try_from(attempts - 1).unwrap_or_default().min(15));
    FIRST_WAIT
        .checked_mul(factor)
        .map_or(LONGEST_WAIT, |wait| wait.min(LONGEST_WAIT))
}

async fn sent(
    database: &Database,
    settings: &Settings,
    notice: &Stored,
    now: DateTime<Utc>,
) -> Result<String, NotSent> {
    let away = |error: StoreError| NotSent::Again(error.to_string());
    let told = Told::read(database, notice).await.map_err(away)?;
    if notice.way == "ticket" {
        return ticket(database, settings, &told.events, now).await;
    }
    if notice.way == "mail" {
        let recipients = wishes::recipients(database).await.map_err(away)?;
        let Some(recipient) = recipients.into_iter().find(|one| one.email == notice.recipient) else {
            return Err(NotSent::Never(format!("{} is no member any more", notice.recipient)));
        };
        let Some(server) = &settings.mail else {
            return Err(NotSent::Again("no mail server is set up: --mail-server".to_owned()));
        };
        let key = installation::link_key(database).await.map_err(away)?;
        let base = settings.public_url.as_deref();
        let links = base
            .filter(|_| recipient.role != "viewer")
            .map(|base| Links::new(&key, base, now));
        return mail::send(
            server,
            &notice.recipient,
            &told.letter(notice, settings, links.as_ref()),
        )
        .await;
    }
    let Some(setting) = stored_ways::one(database, &notice.way).await.map_err(away)? else {
        return Err(NotSent::Never(format!("there is no way `{}` any more", notice.way)));
    };
    let way: NoticeWay = serde_json::from_value(setting).map_err(|error| NotSent::Again(error.to_string()))?;
    let source = settings.public_url.clone().unwrap_or_else(|| "urn:outcrop".to_owned());
    let letter = told.letter(notice, settings, None);
    ways::send(&way, notice, &letter, (&settings.outbound, &source), now)
        .await
        .map_err(|refused| {
            if refused.is_final() {
                NotSent::Never(refused.to_string())
            } else {
                NotSent::Again(refused.to_string())
            }
        })
}

/// Makes a ticket for each error that is told of.
async fn ticket(
    database: &Database,
    settings: &Settings,
    events: &[Event],
    now: DateTime<Utc>,
) -> Result<String, NotSent> {
    let mut made = vec![];
    for error in events.iter().filter_map(|event| event.error) {
        match tickets::make(database, settings, error, ("outcrop", now)).await {
            Ok(ticket) => made.push(ticket.link),
            Err(NotMade::IsThere | NotMade::NoError(_)) => {}
            Err(failed @ (NotMade::NotSet | NotMade::Setting(_))) => return Err(NotSent::Never(failed.to_string())),
            Err(failed) => return Err(NotSent::Again(failed.to_string())),
        }
    }
    Ok(if made.is_empty() {
        "there are tickets already".to_owned()
    } else {
        made.join(" ")
    })
}

/// What a notice tells of, read when it is sent.
pub(super) struct Told {
    events: Vec<Event>,
    rule: Option<NoticeRule>,
    echoes: BTreeMap<Reference, usize>,
}

impl Told {
    /// Reads it.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub(super) async fn read(database: &Database, notice: &Stored) -> Result<Self, StoreError> {
        let events = events::of_ids(database, &notice.event_ids).await?;
        let all = stored_rules::list(database).await?;
        let rule = all.iter().find(|rule| Some(rule.id) == notice.rule_id);
        let errors: Vec<i32> = events.iter().filter_map(|event| event.error).map(ids::number).collect();
        let echoes = sources::echoes(database, &errors).await?;
        Ok(Self {
            events,
            rule: rule.and_then(|rule| rules::of_stored(rule).ok()),
            echoes: echoes
                .into_iter()
                .map(|(error, count)| (ids::reference(error), count))
                .collect(),
        })
    }

    /// The letter that it comes to.
    pub(super) fn letter(&self, notice: &Stored, settings: &Settings, links: Option<&Links>) -> Letter {
        Letter::of(&Parts {
            notice,
            events: &self.events,
            rule: self.rule.as_ref(),
            echoes: &self.echoes,
            settings,
            links,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_wait_is_longer_than_the_one_before_up_to_an_hour() {
        let waits: Vec<i64> = (1..10).map(|attempts| wait(attempts).num_seconds()).collect();
        assert_eq!(waits, [10, 30, 90, 270, 810, 2_430, 3_600, 3_600, 3_600]);
        assert_eq!(wait(i32::MAX), LONGEST_WAIT);
    }
}
