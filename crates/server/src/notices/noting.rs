//! Notes what happens: flags that rise, end or are taken back, what deploys came to, and what people did.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::DeployCheck;
use outcrop_core::deploy::FlagKind;
use outcrop_core::notice::{Event, EventKind};
use outcrop_store::deploys::{self, Deploy};
use outcrop_store::errors::handling;
use outcrop_store::notices::events::{self, NewEvent};
use outcrop_store::notices::sources::{self, Unnoted};
use outcrop_store::people::settings;
use outcrop_store::{Database, Scope, StoreError, asking, from_utc, ids, traces};

use crate::answers::flag_items::flag_item;
use crate::answers::owners::{self, Directory};

/// How long after it happened something is told: what a replay says of days past is noted, and told to nobody.
const FRESH: TimeDelta = TimeDelta::hours(1);
/// How long a flag waits for it to be known where its traces began to fail: it takes some seconds as a rule.
const WAITED: TimeDelta = TimeDelta::seconds(60);

/// Flags that wait, with the time at which they were first seen.
pub(super) type Waiting = HashMap<i64, DateTime<Utc>>;
/// How much of the past is noted: rules are tried on a week.
const PAST: TimeDelta = TimeDelta::days(8);
/// After how long a deploy that is still too early to judge is worth a word.
const TOO_EARLY: TimeDelta = TimeDelta::hours(2);
/// A deploy that is clear is so by then, as a rule: of one that is older it is no news.
const CLEAR_BY: TimeDelta = TimeDelta::hours(3);

/// Notes what happened to errors. Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn errors(database: &Database, waiting: &mut Waiting, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let (mut risen, ended) = (sources::risen(database).await?, sources::ended(database).await?);
    wait_for_origins(database, &mut risen, waiting, now).await?;
    let done = sources::handled(database, now - PAST).await?;
    let mut noted = 0;
    if !done.is_empty() {
        let handled: Vec<NewEvent> = done.iter().map(|done| handled(done, now)).collect();
        noted += events::note(database, &handled).await?;
    }
    if risen.is_empty() && ended.is_empty() {
        return Ok(noted);
    }
    let ends_of: Vec<String> = ended.iter().map(|flag| key(flag.id)).collect();
    let begun = events::of_keys(database, &ends_of).await?;
    let mut new = rises(database, &risen, now).await?;
    new.extend(
        ended
            .iter()
            .filter_map(|flag| end(flag, begun.get(&key(flag.id)).copied(), now)),
    );
    let numbers = |flags: &[Unnoted]| flags.iter().map(|flag| flag.id).collect::<Vec<_>>();
    noted += sources::note_flags(database, &new, (&numbers(&risen), &numbers(&ended)), now).await?;
    Ok(noted)
}

/// Leaves out flags of errors of which it is not known yet whether they follow from another one: that one is told in
/// their place. None waits for long.
async fn wait_for_origins(
    database: &Database,
    risen: &mut Vec<Unnoted>,
    waiting: &mut Waiting,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let errors: Vec<i32> = risen.iter().map(|flag| flag.flag.error_id).collect();
    let earliest = risen.iter().map(|flag| flag.flag.since).min().unwrap_or(now);
    let awaiting = if errors.is_empty() {
        HashSet::new()
    } else {
        sources::awaiting_origins(database, &errors, earliest).await?
    };
    waiting.retain(|id, _| risen.iter().any(|flag| flag.id == *id));
    risen.retain(|flag| {
        let since = *waiting.entry(flag.id).or_insert(now);
        !awaiting.contains(&flag.flag.error_id) || now - since >= WAITED
    });
    Ok(())
}

fn key(flag: i64) -> String {
    format!("flag {flag}")
}

/// When something that happened is noted, and whether that is too late to tell anybody.
fn noticed(happened: DateTime<Utc>, now: DateTime<Utc>) -> (DateTime<Utc>, bool) {
    if now - happened < FRESH {
        (now, false)
    } else {
        (happened, true)
    }
}

fn handled(done: &sources::Handled, now: DateTime<Utc>) -> NewEvent {
    let (at, is_late) = noticed(done.at, now);
    NewEvent {
        key: format!("handled {}", done.id),
        service_id: None,
        environment_id: None,
        error_id: Some(done.error_id),
        is_late,
        event: Event {
            error: Some(ids::reference(done.error_id)),
            ..Event::of("", "", EventKind::Handled, from_utc(at))
        },
    }
}

/// What a flag says, as far as the flag itself does.
fn of_flag(flag: &Unnoted, key: String, kind: EventKind, happened: DateTime<Utc>, now: DateTime<Utc>) -> NewEvent {
    let (at, is_late) = noticed(happened, now);
    NewEvent {
        key,
        service_id: Some(flag.service_id),
        environment_id: Some(flag.environment_id),
        error_id: Some(flag.flag.error_id),
        is_late,
        event: Event {
            namespace: flag.namespace.clone(),
            version: flag.flag.version.clone(),
            since: from_utc(flag.flag.since),
            error: Some(ids::reference(flag.flag.error_id)),
            title: flag.flag.title.clone(),
            ..Event::of(&flag.flag.service, &flag.flag.environment, kind, from_utc(at))
        },
    }
}

/// A flag is said when its minute is over.
fn said(flag: &Unnoted) -> DateTime<Utc> {
    flag.flag.said_at + TimeDelta::minutes(1)
}

async fn rises(database: &Database, risen: &[Unnoted], now: DateTime<Utc>) -> Result<Vec<NewEvent>, StoreError> {
    if risen.is_empty() {
        return Ok(vec![]);
    }
    let directory = Directory::read(database).await?;
    let settings = settings::all(database).await?;
    let handled = handling::of(database, None).await?;
    let numbers: Vec<i32> = risen.iter().map(|flag| flag.flag.error_id).collect();
    let origins = traces::main_origins(database, &numbers, now - PAST, now).await?;
    let mut new = vec![];
    for flag in risen.iter().filter(|flag| flag.flag.withdrawn_at.is_none()) {
        let error = flag.flag.error_id;
        let kind = match flag.flag.kind {
            FlagKind::New => EventKind::New,
            FlagKind::Surging => EventKind::Surging,
            FlagKind::Returned => EventKind::Returned,
        };
        let place = (
            flag.flag.service.as_str(),
            flag.namespace.as_str(),
            flag.flag.version.as_str(),
        );
        let owned = owners::of_error(database, &directory, ids::reference(error), place, now).await?;
        let (count, users) = lately(database, error, now).await?;
        let mut event = of_flag(flag, key(flag.id), kind, said(flag), now);
        event.event.evidence = flag_item(&flag.flag).evidence;
        event.event.origin = origins.get(&error).map(|(origin, _)| ids::reference(*origin));
        event.event.owner = owned.map(|owned| owned.owner);
        event.event.taken_by = handled.get(&error).and_then(|handling| handling.taken_by.clone());
        event.event.is_quiet = handled.get(&error).is_some_and(|handling| handling.is_quiet(now));
        event.event.cases = sources::cases(database, (error, flag.service_id, flag.environment_id), &settings).await?;
        (event.event.count, event.event.users) = (count, users);
        new.push(event);
    }
    Ok(new)
}

/// Occurrences and users of an error in the last 24 hours.
async fn lately(database: &Database, error: i32, now: DateTime<Utc>) -> Result<(u64, u64), StoreError> {
    let day = Scope {
        service: None,
        environment: None,
        version: None,
        from: now - TimeDelta::hours(24),
        to: now,
        predicate: None,
    };
    let summary = asking::one_error(database, ids::reference(error), &day).await?;
    Ok(summary.map_or((0, 0), |summary| {
        (summary.count.unsigned_abs(), summary.users.unsigned_abs())
    }))
}

/// That a flag ended: of one that was never noted there is nothing to say.
fn end(flag: &Unnoted, of: Option<i64>, now: DateTime<Utc>) -> Option<NewEvent> {
    let of = of?;
    let (kind, at, evidence) = match (flag.flag.withdrawn_at, flag.flag.ended_at) {
        (Some(at), _) => (
            EventKind::TakenBack,
            at,
            "data that came late shows that it was none".to_owned(),
        ),
        (None, Some(at)) if flag.flag.kind == FlagKind::Surging => (
            EventKind::BackToNormal,
            at,
            format!("it surged from {} on", flag.flag.since.format("%H:%M UTC")),
        ),
        _ => return None,
    };
    let word = kind.word();
    let mut event = of_flag(flag, format!("{} {word}", key(flag.id)), kind, at, now);
    event.event.of = Some(of);
    event.event.evidence = evidence;
    Some(event)
}

/// Notes what the deploy check says of deploys. Returns how many events are new.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn of_deploys(
    database: &Database,
    (found, checks): (&[Deploy], &[DeployCheck]),
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let key = |deploy: &Deploy, kind: EventKind| {
        let (service, environment, at) = (deploy.service_id, deploy.environment_id, deploy.at.timestamp());
        format!("deploy {service} {environment} {at} {} {}", deploy.version, kind.word())
    };
    let kinds = [
        EventKind::DeployFlagged,
        EventKind::DeployClear,
        EventKind::DeployTooEarly,
    ];
    let keys: Vec<String> = found
        .iter()
        .flat_map(|deploy| kinds.map(|kind| key(deploy, kind)))
        .collect();
    let known = events::of_keys(database, &keys).await?;
    // What was said of it once stays: it was flagged, or clear while flags are charged to it.
    let is_open = |deploy: &Deploy| {
        let was = |kind| known.contains_key(&key(deploy, kind));
        let is_over = now - deploy.at > deploys::CHARGED + FRESH;
        now - deploy.at <= PAST
            && !was(EventKind::DeployFlagged)
            && !(is_over && (was(EventKind::DeployClear) || was(EventKind::DeployTooEarly)))
    };
    let open: Vec<(&Deploy, &DeployCheck)> = found.iter().zip(checks).filter(|(deploy, _)| is_open(deploy)).collect();
    if open.is_empty() {
        return Ok(0);
    }
    let directory = Directory::read(database).await?;
    let mut new = vec![];
    for (deploy, check) in open {
        let flagged = check
            .flags
            .iter()
            .map(|flag| flag.said_at + TimeDelta::minutes(1))
            .min();
        let (kind, happened) = match check.outcome.as_str() {
            // The endpoints' requests alone speak against it: of one that is new here it is not known since when.
            "flagged" if now - deploy.at < CLEAR_BY => (EventKind::DeployFlagged, flagged.unwrap_or(now)),
            "flagged" => (EventKind::DeployFlagged, flagged.unwrap_or(deploy.at + FRESH)),
            "clear" if now - deploy.at < CLEAR_BY => (EventKind::DeployClear, now),
            "clear" => (EventKind::DeployClear, deploy.at + FRESH),
            _ if now - deploy.at >= TOO_EARLY => (EventKind::DeployTooEarly, deploy.at + TOO_EARLY),
            _ => continue,
        };
        let key = key(deploy, kind);
        if known.contains_key(&key) {
            continue;
        }
        let (at, is_late) = noticed(happened, now);
        let subject = format!("{} {} in {}: ", deploy.service, deploy.version, deploy.environment);
        let sentence = check
            .sentence
            .strip_prefix(&subject)
            .unwrap_or(&check.sentence)
            .to_owned();
        new.push(NewEvent {
            key,
            service_id: Some(deploy.service_id),
            environment_id: Some(deploy.environment_id),
            error_id: None,
            is_late,
            event: Event {
                version: deploy.version.clone(),
                since: from_utc(deploy.at),
                title: format!("{} {}", deploy.service, deploy.version),
                evidence: sentence,
                owner: directory.of_service(&deploy.service).map(|owned| owned.owner),
                deployed_by: Some(deploy.by.clone()).filter(|by| !by.is_empty()),
                ..Event::of(&deploy.service, &deploy.environment, kind, from_utc(at))
            },
        });
    }
    events::note(database, &new).await
}
