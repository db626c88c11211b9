//! Whether deploys did harm: the answer of `deploy check`, of the list of deploys and of a deploy's page.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{DeployCheck, EndpointChange, FlagItem, StoppedError, Sums};
use outcrop_core::deploy as judged;
use outcrop_core::deploy::{Harm, KNOWN_MINUTES, Outcome, judge};
use outcrop_store::deploys::facts::{Asked, Facts};
use outcrop_store::deploys::{CHARGED, Deploy, facts};
use outcrop_store::{Database, StoreError, ids};

use super::endpoint_changes::{COMPARED, changed};
use crate::answers::flag_items::{charged, flag_item, once_an_error};
use crate::answers::sentences::{Said, rates};
use crate::answers::settled;
use crate::answers::watched::Watch;

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
pub async fn check(
    database: &Database,
    deploys: &[Deploy],
    kinds: &[String],
    now: DateTime<Utc>,
) -> Result<Vec<Judged>, StoreError> {
    let asked: Vec<Asked<'_>> = deploys.iter().map(|deploy| asked(deploy, now)).collect();
    let facts = facts::read(database, &asked).await?;
    Ok(asked
        .iter()
        .zip(facts)
        .map(|(asked, facts)| decide(asked, facts, kinds, now))
        .collect())
}

/// Answers for one deploy, with what became of the errors that are settled in its version.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn check_one(
    database: &Database,
    deploy: &Deploy,
    kinds: &[String],
    now: DateTime<Utc>,
) -> Result<Judged, StoreError> {
    let asked = asked(deploy, now);
    let facts = facts::read(database, &[asked]).await?.pop().unwrap_or_default();
    let mut judged = decide(&asked, facts, kinds, now);
    judged.check.settled = settled::of_version(database, deploy.service_id, &deploy.version, now).await?;
    Ok(judged)
}

fn asked(deploy: &Deploy, now: DateTime<Utc>) -> Asked<'_> {
    let ended = deploy.ended_at.filter(|_| deploy.share.is_some()).unwrap_or(now);
    let until = ended.min(deploy.at + CHARGED);
    let before_from = deploy.at - TimeDelta::minutes(minutes_before((until - deploy.at).num_minutes()));
    Asked {
        deploy,
        before_from,
        until,
        compared_until: ended.min(deploy.at + COMPARED),
    }
}

/// As long before a deploy as since is compared, within bounds.
fn minutes_before(minutes: i64) -> i64 {
    minutes.clamp(30, BEFORE_MINUTES)
}

/// The errors first seen in the version that no flag tells of, while its place is too young for flags. Later ones are
/// flagged new, or follow from another service's.
fn first_seen(facts: &Facts, flags: &[FlagItem], now: DateTime<Utc>) -> Vec<StoppedError> {
    let told: Vec<&str> = flags.iter().map(|flag| flag.reference.as_str()).collect();
    let young_until = facts.known_since.unwrap_or(now) + TimeDelta::minutes(KNOWN_MINUTES);
    let young = facts.first_seen.iter().filter(|error| error.first_at < young_until);
    young
        .take(FIRST_SEEN)
        .map(|error| StoppedError {
            reference: ids::reference(error.error_id).to_string(),
            title: error.title.clone(),
            count: error.count,
        })
        .filter(|error| !told.contains(&error.reference.as_str()))
        .collect()
}

fn decide(&Asked { deploy, until, .. }: &Asked<'_>, facts: Facts, kinds: &[String], now: DateTime<Utc>) -> Judged {
    let minutes = (until - deploy.at).num_minutes().max(0);
    let before_minutes = minutes_before(minutes);
    let Facts {
        before,
        after,
        has_untold,
        ..
    } = facts;
    let counts = |kind: &str| kinds.is_empty() || kinds.iter().any(|named| named == kind);
    let withdrawn = facts
        .flags
        .iter()
        .filter(|flag| flag.withdrawn_at.is_some())
        .map(flag_item)
        .collect();
    let mut flags = charged(&facts);
    flags.retain(|flag| counts(&flag.flag));
    let flags = once_an_error(flags);
    let first_seen = first_seen(&facts, &flags, now);
    let watch = Watch::over(&facts, minutes, &counts);
    let known_minutes = facts.known_since.map_or(0, |since| (now - since).num_minutes());
    let has_requests = facts.whole.before.requests + facts.whole.after.requests > 0;
    let outcome = judge(&judged::VersionFacts {
        flags: flags.len(),
        minutes,
        known_minutes,
        version: &watch.whole,
        endpoints: &watch.endpoints,
        has_requests,
    });
    let endpoints = changed(facts.endpoints);
    let named = |names: &[String]| {
        endpoints
            .iter()
            .filter(|endpoint| names.contains(&endpoint.endpoint))
            .cloned()
            .collect::<Vec<_>>()
    };
    let (failing, slower) = (named(&watch.failing), named(&watch.slower));
    let subject = format!("{} {} in {}", deploy.service, deploy.version, deploy.environment);
    let is_over = until < now;
    let said = Said {
        flags: &flags,
        failing: &failing,
        slower: &slower,
        first_seen: &first_seen,
        before,
        after,
        minutes,
    };
    let (outcome, sentence) = match outcome {
        Outcome::Flagged => (
            "flagged",
            said.harm(watch.whole.harm.contains(&Harm::FailsMore) && counts("failing")),
        ),
        Outcome::Unknown => ("too early", said.unknown(deploy, facts.known_since, known_minutes)),
        Outcome::TooEarly(least) => (
            "too early",
            format!(
                "{minutes} min since this deploy; it takes at least \
            {least}."
            ),
        ),
        Outcome::TooFew(needs) => ("too early", said.too_few(needs, facts.whole.before.requests, is_over)),
        Outcome::Clear if has_untold => (
            "too early",
            "this service has more errors than are told apart, so nobody can say that none is new; join errors, or \
             drop what is noise."
                .to_owned(),
        ),
        Outcome::Clear => ("clear", said.clear(has_requests)),
    };
    let needs = match outcome {
        "flagged" => 0,
        _ => i64::try_from(judged::missing(&watch.whole, &watch.endpoints)).unwrap_or(i64::MAX),
    };
    let check = DeployCheck {
        outcome: outcome.to_owned(),
        sentence: format!("{subject}: {sentence}"),
        rates: has_requests.then(|| rates(outcome == "flagged", needs)),
        flags,
        withdrawn,
        failing,
        slower,
        first_seen,
        settled: vec![],
        before: Sums {
            requests: before.0,
            failed: before.1,
            minutes: before_minutes,
        },
        after: Sums {
            requests: after.0,
            failed: after.1,
            minutes,
        },
        needs_requests: needs,
        page: None,
    };
    Judged { check, endpoints }
}

/// Errors listed that were first seen in a version.
const FIRST_SEEN: usize = 10;

#[cfg(test)]
mod tests {
    use crate::answers::sentences::grouped;
    use outcrop_core::deploy::{FlagKind, Scatter, Side};
    use outcrop_store::deploys::comparison::Compared;
    use outcrop_store::deploys::facts::FirstSeen;
    use outcrop_store::flags::Flag;

    use super::*;

    fn deploy(at: DateTime<Utc>) -> Deploy {
        Deploy {
            service_id: 1,
            service: "manifest".to_owned(),
            environment_id: 1,
            environment: "production".to_owned(),
            version: "1.1.0".to_owned(),
            at,
            ended_at: None,
            share: None,
            instance_group: None,
            announced: true,
            rollback: false,
            revision: String::new(),
            link: String::new(),
            by: String::new(),
            last_event_at: None,
        }
    }

    fn compared(before: (u64, u64), after: (u64, u64)) -> Compared {
        let side = |(requests, failed)| Side {
            requests,
            failed,
            ..Side::default()
        };
        let scatter = Scatter {
            blocks: 10,
            squares: 0.0,
            worst: 0.0,
        };
        Compared {
            before: Side {
                scatter,
                ..side(before)
            },
            after: side(after),
            beside: (0, 0),
        }
    }

    /// A deploy of 40 minutes ago, in a place that is known for so many.
    fn answer(known: i64, facts: Facts, kinds: &[&str]) -> DeployCheck {
        let now = Utc::now();
        let deploy = deploy(now - TimeDelta::minutes(40));
        let asked = asked(&deploy, now);
        let whole = |of: fn(&Compared) -> &Side| {
            facts.endpoints.values().fold(Side::default(), |sum, compared| {
                let side = of(compared);
                Side {
                    requests: sum.requests + side.requests,
                    failed: sum.failed + side.failed,
                    scatter: side.scatter,
                    ..sum
                }
            })
        };
        let whole = Compared {
            before: whole(|compared| &compared.before),
            after: whole(|compared| &compared.after),
            beside: (0, 0),
        };
        let requests = |side: &Side| {
            (
                i64::try_from(side.requests).unwrap(),
                i64::try_from(side.failed).unwrap(),
            )
        };
        let facts = Facts {
            before: requests(&whole.before),
            after: requests(&whole.after),
            whole,
            known_since: Some(now - TimeDelta::minutes(known)),
            ..facts
        };
        let kinds: Vec<String> = kinds.iter().map(|kind| (*kind).to_owned()).collect();
        decide(&asked, facts, &kinds, now).check
    }

    fn endpoints(all: &[(&str, Compared)]) -> Facts {
        Facts {
            endpoints: all
                .iter()
                .map(|(name, compared)| ((*name).to_owned(), compared.clone()))
                .collect(),
            ..Facts::default()
        }
    }

    fn first_seen(minutes_ago: i64) -> FirstSeen {
        FirstSeen {
            error_id: 7,
            title: "BerthTaken".to_owned(),
            count: 100,
            first_at: Utc::now() - TimeDelta::minutes(minutes_ago),
        }
    }

    #[test]
    fn an_endpoint_that_fails_more_decides_and_is_named_where_other_kinds_are_asked_for() {
        // Seen in use, and called clear: 27 % of 476 requests failed, 8 % before.
        let facts = || {
            endpoints(&[
                ("GET /ok", compared((400, 0), (238, 60))),
                ("GET /late", compared((400, 64), (238, 68))),
            ])
        };
        let check = answer(600, facts(), &[]);
        assert_eq!(check.outcome, "flagged");
        assert_eq!(
            check
                .failing
                .iter()
                .map(|endpoint| endpoint.endpoint.as_str())
                .collect::<Vec<_>>(),
            ["GET /ok"]
        );
        assert!(
            check
                .sentence
                .ends_with("1 endpoint fails more; 27 % of 476 requests failed (8.0 % before) since this deploy."),
            "{}",
            check.sentence
        );
        let check = answer(600, facts(), &["new", "surging"]);
        assert_ne!(check.outcome, "flagged");
        assert_eq!(check.failing.len(), 1, "named all the same");
        assert_eq!(answer(600, facts(), &["failing"]).outcome, "flagged");
    }

    #[test]
    fn a_young_place_is_too_early_and_lists_what_was_first_seen_meanwhile() {
        let fine = || Facts {
            first_seen: vec![first_seen(10)],
            ..endpoints(&[("GET /ok", compared((90_000, 900), (9_000, 90)))])
        };
        let check = answer(12, fine(), &[]);
        assert_eq!((check.outcome.as_str(), check.first_seen.len()), ("too early", 1));
        let said =
            "(12 min); what is new there can be told after 30 min. Meanwhile 1 error was first seen in this version.";
        assert!(check.sentence.ends_with(said), "{}", check.sentence);
        let check = answer(35, fine(), &[]);
        assert_eq!(
            (check.outcome.as_str(), check.first_seen.len()),
            ("clear", 1),
            "{}",
            check.sentence
        );
        assert!(
            check
                .sentence
                .ends_with("While its place was young 1 error was first seen in this version."),
            "{}",
            check.sentence
        );
        assert_eq!(
            answer(600, fine(), &[]).first_seen.len(),
            0,
            "an error of a place that is known is flagged, or follows from another"
        );
    }

    #[test]
    fn clear_waits_for_enough_requests_and_says_how_often_it_is_wrong() {
        let check = answer(
            600,
            endpoints(&[("GET /ok", compared((90_000, 900), (9_000, 90)))]),
            &[],
        );
        assert_eq!(
            (check.outcome.as_str(), check.needs_requests),
            ("clear", 0),
            "{}",
            check.sentence
        );
        assert!(check.rates.unwrap().contains("missed in fewer than 1 of 20"));
        let check = answer(600, endpoints(&[("GET /ok", compared((90_000, 900), (100, 1)))]), &[]);
        assert!(
            check.outcome == "too early" && check.needs_requests > 2_000,
            "{}",
            check.sentence
        );
        assert!(check.rates.unwrap().contains("could be missed in more than 1 of 20"));
        let nothing_before = answer(600, endpoints(&[("GET /ok", compared((0, 0), (9_000, 90)))]), &[]);
        assert!(
            nothing_before.sentence.contains("nothing to compare with"),
            "{}",
            nothing_before.sentence
        );
        let without_requests = answer(600, Facts::default(), &[]);
        assert_eq!(
            (without_requests.outcome.as_str(), without_requests.rates),
            ("clear", None)
        );
        assert!(
            without_requests.sentence.contains("it reports no requests"),
            "{}",
            without_requests.sentence
        );
    }

    #[test]
    fn an_error_that_is_new_and_surges_is_one_error() {
        let flag = |kind: &str, error_id| Flag {
            error_id,
            title: "BerthTaken".to_owned(),
            service: "manifest".to_owned(),
            environment: "production".to_owned(),
            kind: FlagKind::of(kind).unwrap(),
            version: "1.1.0".to_owned(),
            by_deploy: true,
            since: Utc::now(),
            said_at: Utc::now(),
            ended_at: None,
            count: 11,
            expected: 0.0,
            evidence: 20.0,
            requests: Some(66),
            why: None,
            withdrawn_at: None,
        };
        let facts = || Facts {
            flags: vec![flag("surging", 7), flag("new", 7), flag("surging", 8)],
            ..Facts::default()
        };
        let check = answer(600, facts(), &[]);
        assert_eq!(
            check.flags.iter().map(|flag| flag.flag.as_str()).collect::<Vec<_>>(),
            ["new", "surging"]
        );
        assert!(
            check.sentence.contains("1 new error, 1 surging error"),
            "{}",
            check.sentence
        );
        assert_eq!(
            answer(600, facts(), &["surging"]).flags.len(),
            2,
            "asked for surging ones alone, it is one of them"
        );
    }

    #[test]
    fn numbers_have_their_thousands_apart() {
        assert_eq!(
            [0, 999, 1_000, 1_234_567].map(grouped),
            ["0", "999", "1,000", "1,234,567"]
        );
    }
}
