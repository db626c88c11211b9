//! Plans what is sent of what happened: one instance at a time, in one transaction.

use chrono::{DateTime, Utc};
use outcrop_core::notice::{Directory, Event, Notice, Plan, Rule, subject};
use serde_json::Value;
use sqlx::PgConnection;

use super::events;
use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError, from_utc, to_utc};

/// Events planned in one round.
const AT_ONCE: i64 = 2_000;

/// The plan as an instance keeps it from one round to the next.
#[derive(Debug, Default)]
pub struct Kept {
    version: Option<i64>,
    plan: Plan,
}

/// Whether there is something to plan: an event waits, or a notice is due. Cheap, for a round in which
/// nothing happened. The due times are those that this instance knows.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn is_due(database: &Database, kept: &Kept, now: DateTime<Utc>) -> Result<bool, StoreError> {
    if kept.plan.next().is_some_and(|due| due <= from_utc(now)) {
        return Ok(true);
    }
    let (version, waits): (i64, bool) =
        sqlx::query_as("SELECT version, EXISTS (SELECT FROM notice_event WHERE NOT is_planned) FROM notice_plan")
            .fetch_one(&database.pool)
            .await?;
    Ok(waits || kept.version != Some(version))
}

/// Goes on to a time: plans what happened, and puts what is due into the outbox. Returns how many notices.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round begins with what is stored.
#[boxed]
pub async fn round(
    database: &Database,
    kept: &mut Kept,
    rules: &[Rule],
    directory: &Directory,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let Kept { version, mut plan } = std::mem::take(kept);
    let mut transaction = database.pool.begin().await?;
    if !Lock::Notices.try_take(&mut transaction).await? {
        return Ok(0);
    }
    let current: i64 = sqlx::query_scalar("SELECT version FROM notice_plan")
        .fetch_one(&mut *transaction)
        .await?;
    if version != Some(current) {
        let state: Value = sqlx::query_scalar("SELECT state FROM notice_plan")
            .fetch_one(&mut *transaction)
            .await?;
        plan = read(state);
    }
    let waiting = events::waiting(&mut transaction, AT_ONCE).await?;
    let mut notices = vec![];
    for together in waiting.chunk_by(|a, b| a.at == b.at) {
        notices.extend(plan.step(together[0].at, together, rules, directory));
    }
    let last = waiting.last().map(|event| event.at).max(Some(from_utc(now)));
    notices.extend(plan.step(last.unwrap_or_default(), &[], rules, directory));
    let mut version = current;
    if !waiting.is_empty() || !notices.is_empty() {
        version += 1;
        put(&mut transaction, &notices, &waiting, rules, now).await?;
        let ids: Vec<i64> = waiting.iter().map(|event| event.id).collect();
        sqlx::query("UPDATE notice_event SET is_planned = true WHERE id = ANY($1)")
            .bind(ids)
            .execute(&mut *transaction)
            .await?;
        let state = serde_json::to_value(&plan).map_err(|error| StoreError::Unusable(error.to_string()))?;
        sqlx::query("UPDATE notice_plan SET version = $1, state = $2")
            .bind(version)
            .bind(state)
            .execute(&mut *transaction)
            .await?;
    }
    transaction.commit().await?;
    *kept = Kept {
        version: Some(version),
        plan,
    };
    Ok(notices.len())
}

/// A state that an earlier release wrote in another form is begun anew.
fn read(state: Value) -> Plan {
    if state == Value::Object(serde_json::Map::new()) {
        return Plan::default();
    }
    serde_json::from_value(state)
        .inspect_err(|error| tracing::warn!(%error, "the plan of notices is begun anew: it cannot be read"))
        .unwrap_or_default()
}

async fn put(
    connection: &mut PgConnection,
    notices: &[Notice],
    events: &[Event],
    rules: &[Rule],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    for notice in notices {
        let mut of: Vec<Event> = vec![];
        for id in &notice.events {
            of.extend(events.iter().find(|event| event.id == *id).cloned());
        }
        if of.len() < notice.events.len() {
            of = events::by_ids(connection, &notice.events).await?;
        }
        // What it tells of was deleted meanwhile.
        if of.is_empty() {
            continue;
        }
        let name = rules
            .iter()
            .find(|rule| rule.id == notice.stream.rule)
            .map(|rule| rule.name.as_str());
        let reason = serde_json::to_value(notice.reason).unwrap_or_default();
        sqlx::query(
            "INSERT INTO notice (rule_id, rule_name, way, recipient, reason, subject, event_ids, more, made_at, state, \
             next_at) VALUES ((SELECT id FROM notice_rule WHERE id = $1), $2, $3, $4, $5, $6, $7, $8, $9, 'waiting', $10)",
        )
        .bind(notice.stream.rule)
        .bind(name.unwrap_or_default())
        .bind(&notice.stream.way)
        .bind(&notice.stream.to)
        .bind(reason.as_str().unwrap_or_default())
        .bind(subject(&of, notice.more, notice.reason))
        .bind(&notice.events)
        .bind(i32::try_from(notice.more).unwrap_or(i32::MAX))
        .bind(now)
        .bind(to_utc(notice.at).min(now))
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use outcrop_core::notice::{EventKind, Target};

    use super::*;
    use crate::notices::events::note;
    use crate::notices::outbox;
    use crate::notices::testing::{event, rule};
    use crate::testing::database;

    async fn planned(database: &Database, kept: &mut Kept, at: DateTime<Utc>) -> usize {
        let rules = [rule(1, &[EventKind::DeployFlagged], "ops-room")];
        assert_eq!(rules[0].tell, [Target::Owner]);
        round(database, kept, &rules, &Directory::default(), at).await.unwrap()
    }

    #[tokio::test]
    async fn what_happens_is_planned_once_by_whichever_instance() {
        let database = database().await;
        let at = Utc::now();
        let (mut one, mut other) = (Kept::default(), Kept::default());
        assert!(is_due(&database, &one, at).await.unwrap(), "it has read nothing yet");
        assert_eq!(planned(&database, &mut one, at).await, 0);
        assert!(!is_due(&database, &one, at).await.unwrap());
        let flagged = |number: i64, at| event(&format!("deploy {number} flagged"), EventKind::DeployFlagged, at);
        note(&database, &[flagged(1, at), flagged(2, at)]).await.unwrap();
        assert!(is_due(&database, &one, at).await.unwrap());
        assert_eq!(planned(&database, &mut one, at).await, 1);
        assert_eq!(planned(&database, &mut other, at).await, 0);
        let listed = outbox::list(&database, &outbox::Asked::default()).await.unwrap();
        assert_eq!(
            (listed[0].subject.as_str(), listed[0].event_ids.len()),
            ("2 deploys are flagged in fares 2.4.0, production", 2)
        );
        // The next one waits for a minute to pass, over a restart and on another instance.
        let soon = at + TimeDelta::seconds(5);
        note(&database, &[flagged(3, soon)]).await.unwrap();
        assert_eq!(planned(&database, &mut other, soon).await, 0);
        assert!(is_due(&database, &one, soon).await.unwrap(), "another instance planned");
        let (minute, mut restarted) = (at + TimeDelta::seconds(61), Kept::default());
        assert_eq!(planned(&database, &mut restarted, minute).await, 1);
        assert_eq!(planned(&database, &mut one, minute).await, 0);
        assert_eq!(planned(&database, &mut other, minute).await, 0);
    }

    #[tokio::test]
    async fn what_happened_long_ago_is_told_to_nobody() {
        let database = database().await;
        let late = events::NewEvent {
            is_late: true,
            ..event(
                "deploy 1 flagged",
                EventKind::DeployFlagged,
                Utc::now() - TimeDelta::days(2),
            )
        };
        note(&database, &[late]).await.unwrap();
        assert_eq!(planned(&database, &mut Kept::default(), Utc::now()).await, 0);
    }
}
