//! Whether deploys did harm: the answer of `deploy check`, of the list of deploys and of a deploy's page.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_store::deploy_facts::{self, Asked, Facts};
use outcrop_store::deploys::{CHARGED, Deploy, Flag};
use outcrop_store::{Database, StoreError, errors};

use super::endpoint_changes::{COMPARED, changed};
use crate::wire::{DeployCheck, EndpointChange, FlagItem, Sums};

/// Failures to be expected at the rate of before, from which on a doubling would have shown: of twice as many expected, fewer
/// than these come by chance in one of twenty cases (Poisson: P(N ≤ 6 | 12) = 0.046).
const ENOUGH_FAILURES: f64 = 6.0;
/// Requests that are enough however rarely they failed before: then a failure in a hundred would have shown.
const ENOUGH_REQUESTS: i64 = 600;
/// Whole minutes before anything is called clear.
const LEAST_MINUTES: i64 = 5;
/// The longest that is looked back before a deploy, in minutes.
const BEFORE_MINUTES: i64 = 180;

/// What is said of a deploy.
pub struct Judged {
    /// The answer.
    pub check: DeployCheck,
    /// The service's endpoints before and after it, those that changed first, worse before better.
    pub endpoints: Vec<EndpointChange>,
}

/// Answers for deploys, in their order; of the kinds of harm named alone, or of all where none is.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn check(database: &Database, deploys: &[Deploy], kinds: &[String], now: DateTime<Utc>) -> Result<Vec<Judged>, StoreError> {
    let asked: Vec<Asked<'_>> = deploys.iter().map(|deploy| asked(deploy, now)).collect();
    let facts = deploy_facts::read(database, &asked).await?;
    Ok(asked.iter().zip(facts).map(|(asked, facts)| decide(asked, facts, kinds, now)).collect())
}

/// Answers for one deploy.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn check_one(database: &Database, deploy: &Deploy, kinds: &[String], now: DateTime<Utc>) -> Result<Judged, StoreError> {
    let asked = asked(deploy, now);
    let facts = deploy_facts::read(database, &[asked]).await?.pop().unwrap_or_default();
    Ok(decide(&asked, facts, kinds, now))
}

fn asked(deploy: &Deploy, now: DateTime<Utc>) -> Asked<'_> {
    let ended = deploy.ended_at.filter(|_| deploy.share.is_some()).unwrap_or(now);
    let until = ended.min(deploy.at + CHARGED);
    let before_from = deploy.at - TimeDelta::minutes(minutes_before((until - deploy.at).num_minutes()));
    Asked { deploy, before_from, until, compared_until: ended.min(deploy.at + COMPARED) }
}

/// As long before a deploy as since is compared, within bounds.
fn minutes_before(minutes: i64) -> i64 {
    minutes.clamp(30, BEFORE_MINUTES)
}

fn decide(&Asked { deploy, until, .. }: &Asked<'_>, facts: Facts, kinds: &[String], now: DateTime<Utc>) -> Judged {
    let minutes = (until - deploy.at).num_minutes().max(0);
    let before_minutes = minutes_before(minutes);
    let Facts { before, after, has_untold, .. } = facts;
    let withdrawn = facts.flags.iter().filter(|flag| flag.withdrawn_at.is_some()).map(flag_item).collect();
    let mut flags = charged(&facts);
    flags.retain(|flag| kinds.is_empty() || kinds.contains(&flag.flag));
    let endpoints = changed(facts.endpoints);
    let is_slower = |endpoint: &&EndpointChange| endpoint.changes.iter().any(|change| change == "slower");
    let slower: Vec<EndpointChange> = endpoints.iter().filter(is_slower).cloned().collect();
    let counts_slower = kinds.iter().any(|kind| kind == "slower");
    let needs = needs(before, after);
    let named = format!("{} {} in {}", deploy.service, deploy.version, deploy.environment);
    let (outcome, sentence) = if !flags.is_empty() {
        let count = |kind: &str| flags.iter().filter(|flag| flag.flag == kind).count();
        let kinds: Vec<String> = ["new", "surging", "returned"]
            .into_iter()
            .filter(|kind| count(kind) > 0)
            .map(|kind| format!("{} {kind}", count(kind)))
            .collect();
        let errors = if flags.len() == 1 { "error" } else { "errors" };
        let besides = if slower.is_empty() { String::new() } else { format!("; {} slower", endpoints_are(slower.len())) };
        ("flagged", format!("{named}: {} {errors}{besides} since this deploy.", kinds.join(", ")))
    } else if counts_slower && !slower.is_empty() {
        ("flagged", format!("{named}: {} slower since this deploy.", endpoints_are(slower.len())))
    } else if minutes < LEAST_MINUTES {
        ("too early", format!("{named}: {minutes} min since this deploy; it takes at least {LEAST_MINUTES}."))
    } else if needs > 0 && until == now {
        ("too early", format!("{named}: nothing so far; {needs} more requests are needed to rule out that failures doubled."))
    } else if needs > 0 && until < deploy.at + CHARGED {
        let reached = after.0;
        (
            "too early",
            format!(
                "{named}: nothing until the canary ended, of {reached} requests; {needs} more are needed to rule out that failures doubled."
            ),
        )
    } else if has_untold {
        (
            "too early",
            format!(
                "{named}: this service has more errors than are told apart, so nobody can say that none is new; join errors, or drop what is noise."
            ),
        )
    } else {
        let share = |(requests, failed): (i64, i64)| outcrop_core::attention::percent(ratio(failed, requests));
        let besides = if slower.is_empty() { String::new() } else { format!(" But {} slower.", endpoints_are(slower.len())) };
        (
            "clear",
            format!(
                "{named}: nothing new, surging or back; {} of {} requests failed ({} before).{besides}",
                share(after),
                after.0,
                share(before)
            ),
        )
    };
    let check = DeployCheck {
        outcome: outcome.to_owned(),
        sentence,
        flags,
        withdrawn,
        slower,
        before: Sums { requests: before.0, failed: before.1, minutes: before_minutes },
        after: Sums { requests: after.0, failed: after.1, minutes },
        needs_requests: needs,
        page: None,
    };
    Judged { check, endpoints }
}

fn endpoints_are(n: usize) -> String {
    if n == 1 { "1 endpoint is".to_owned() } else { format!("{n} endpoints are") }
}

/// A deploy's own flags, without those of errors that follow from another service's, and with those of errors elsewhere
/// that follow from its own: an echo counts against the deploy that caused its origin.
fn charged(facts: &Facts) -> Vec<FlagItem> {
    let mut items: Vec<FlagItem> = vec![];
    for flag in facts.flags.iter().filter(|flag| flag.withdrawn_at.is_none() && !facts.followers.contains(&flag.error_id)) {
        items.push(flag_item(flag));
        let echoes = facts.echoes.iter().filter(|(origin, echo)| *origin == flag.error_id && echo.said_at >= flag.since);
        items.extend(echoes.map(|(origin, echo)| {
            let item = flag_item(echo);
            let evidence = format!("follows from {}: {}", errors::reference(*origin), item.evidence);
            FlagItem { evidence, ..item }
        }));
    }
    items
}

/// A part of all, 0 where there is none.
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "a share of requests")]
pub fn ratio(part: i64, all: i64) -> f64 {
    if all == 0 { 0.0 } else { part as f64 / all as f64 }
}

/// How many more requests it takes until a doubling of the failures would have shown.
#[expect(clippy::cast_possible_truncation, reason = "held to a number of requests")]
fn needs(before: (i64, i64), after: (i64, i64)) -> i64 {
    let rate = ratio(before.1, before.0);
    let enough = if rate > 0.0 { ((ENOUGH_FAILURES / rate).ceil().min(1e12) as i64).min(ENOUGH_REQUESTS) } else { ENOUGH_REQUESTS };
    (enough - after.0).max(0)
}

/// A flag with its evidence in words.
#[must_use]
pub fn flag_item(flag: &Flag) -> FlagItem {
    let minutes = ((flag.said_at - flag.since).num_minutes() + 1).max(1);
    let at_requests = flag.requests.filter(|n| *n > 0).map(|n| format!(" at {n} requests")).unwrap_or_default();
    let since = if flag.by_deploy { format!("; since {} {}", flag.service, flag.version) } else { String::new() };
    let evidence = match flag.kind.as_str() {
        "surging" => format!("{} in {minutes} min{at_requests}; expected {:.1}{since}", flag.count, flag.expected),
        "returned" => format!("it was settled, and occurs in {} {}", flag.service, flag.version),
        _ => format!("never seen before in {}; first in {} {}", flag.environment, flag.service, flag.version),
    };
    FlagItem {
        flag: flag.kind.clone(),
        reference: errors::reference(flag.error_id).to_string(),
        title: flag.title.clone(),
        service: flag.service.clone(),
        environment: flag.environment.clone(),
        version: flag.version.clone(),
        by_deploy: flag.by_deploy,
        since: flag.since,
        said_at: flag.said_at,
        ended_at: flag.ended_at,
        evidence,
        why: flag.why.clone().unwrap_or_default(),
        withdrawn_at: flag.withdrawn_at,
    }
}
