//! Whether a deploy did harm: `clear` is said only when harm would have shown.
//!
//! Three things are looked at: the failure share of the version, the failure share and the latency
//! of each of its endpoints, and flags. Each is held against the versions before; where other
//! versions serve in the same minutes, against these as well. A harmless deploy is flagged in fewer
//! than 1 of 100 ([`FALSE`]), however often one asks. `clear` waits until a doubling of the failure
//! share, by a percentage point at least, and a 95th percentile half as long again would have been
//! missed in fewer than 1 of 20 ([`MISSED`]).

use statrs::distribution::{Binomial, ContinuousCDF, DiscreteCDF, Normal};

use super::Side;
use super::compare::{above, exceeding};

/// The share of harmless deploys that may be flagged.
pub const FALSE: f64 = 0.01;
/// The share of harmful deploys that may be called clear.
pub const MISSED: f64 = 0.05;
/// How often it is asked, as far as the answers do not depend on each other: a deploy of a day is
/// about eight times twice as old as at five minutes.
const LOOKS: f64 = 8.0;
/// By how much the failure share must at least rise to be harm, beside doubling: less does not wake anybody.
const LEAST_RISE: f64 = 0.01;
/// By what factor the 95th percentile must rise to be harm, and by how many microseconds.
const LEAST_FACTOR: f64 = 1.5;
const LEAST_US: f64 = 10_000.0;
/// The share of a version's requests from which on an endpoint is waited for; others are judged as far as they go.
const MATTERS: f64 = 0.05;
/// Requests of other versions in the same minutes from which on these must fail less for harm to be the deploy's.
const BESIDE_REQUESTS: u64 = 50;
/// How unlikely it must be that a version fails no more than others beside it. One of two
/// conditions, so that it need not be as strict.
const BESIDE: f64 = 0.05;
/// The over-dispersion from which on failures come in bursts.
const BURSTS: f64 = 2.0;
/// Minutes after which a place is known: before, each error of it seems new.
pub const KNOWN_MINUTES: i64 = 30;
/// Minutes before anything is called clear, and where no requests are reported.
const LEAST_MINUTES: i64 = 5;
const UNCOUNTED_MINUTES: i64 = 30;

/// What is compared: the version as a whole, or one of its endpoints.
#[derive(Clone, Copy, Debug)]
pub struct Watched<'a> {
    /// Other versions in the day before.
    pub before: &'a Side,
    /// The version since.
    pub after: &'a Side,
    /// Other versions since.
    pub beside: (u64, u64),
    /// Minutes since the deploy.
    pub minutes: i64,
}

/// Harm that shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Harm {
    /// More requests fail.
    FailsMore,
    /// Requests take longer.
    Slower,
}

/// What is said of the version or an endpoint.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Judged {
    /// Harm that shows.
    pub harm: Vec<Harm>,
    /// How many more requests it takes until harm would have shown; 0 where there were enough.
    pub needs: u64,
}

/// The answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It did harm.
    Flagged,
    /// The place is known for too short a time to say what is new.
    Unknown,
    /// There were too few minutes, of these so many.
    TooEarly(i64),
    /// There were too few requests: so many more are needed.
    TooFew(u64),
    /// It did none that matters.
    Clear,
}

/// How unlikely a difference must be to be harm, for each of so many tests.
#[expect(clippy::cast_precision_loss, reason = "endpoints are few")]
fn threshold(tests: usize) -> f64 {
    FALSE / LOOKS / tests.max(1) as f64
}

/// Judges the version as a whole, or one of so many tests of its endpoints.
///
/// Failures are held against the share of before by the conditional test of two Poisson rates
/// (Przyborowski and Wilenski 1940), with all counts divided by the over-dispersion of before
/// (quasi-likelihood, McCullagh and Nelder 1989, 9.2). Latencies are held against the 95th
/// percentile of before.
#[must_use]
pub fn judge_endpoint(watched: &Watched<'_>, tests: usize) -> Judged {
    let alpha = threshold(tests);
    let mut judged = Judged::default();
    let Watched {
        before,
        after,
        beside,
        minutes,
    } = *watched;
    let dispersion = before.scatter.dispersion(before.requests, before.failed);
    let rise = share(after.failed, after.requests) - share(before.failed, before.requests);
    let is_rise = rise >= LEAST_RISE / 2.0 && rise > outage(before, dispersion, minutes);
    let is_worse_than_beside =
        beside.0 < BESIDE_REQUESTS || or_more((beside.0, beside.1), (after.requests, after.failed), 1.0) < BESIDE;
    if is_rise
        && is_worse_than_beside
        && or_more(
            (before.requests, before.failed),
            (after.requests, after.failed),
            dispersion,
        ) < alpha
    {
        judged.harm.push(Harm::FailsMore);
    }
    if is_slower(before, after, alpha) {
        judged.harm.push(Harm::Slower);
    }
    judged.needs = needs_for_failures(before, alpha, dispersion)
        .max(needs_for_latency(before, alpha))
        .saturating_sub(after.requests);
    judged
}

/// What was said of a version.
#[derive(Clone, Copy, Debug)]
pub struct VersionFacts<'s> {
    /// Flags that are charged to it.
    pub flags: usize,
    /// How long it has run, in minutes.
    pub minutes: i64,
    /// How long its place is known, in minutes.
    pub known_minutes: i64,
    /// Its judgement as a whole.
    pub version: &'s Judged,
    /// The judgement of each endpoint, with its share of the requests.
    pub endpoints: &'s [(f64, Judged)],
    /// Whether requests are reported.
    pub has_requests: bool,
}

/// Puts together what was said of a version.
#[must_use]
pub fn judge(facts: &VersionFacts<'_>) -> Outcome {
    let VersionFacts {
        flags,
        minutes,
        known_minutes,
        version,
        endpoints,
        has_requests,
    } = *facts;
    if flags > 0 || !version.harm.is_empty() || endpoints.iter().any(|(_, judged)| !judged.harm.is_empty()) {
        return Outcome::Flagged;
    }
    if known_minutes < KNOWN_MINUTES {
        return Outcome::Unknown;
    }
    let least = if has_requests { LEAST_MINUTES } else { UNCOUNTED_MINUTES };
    if minutes < least {
        return Outcome::TooEarly(least);
    }
    match missing(version, endpoints) {
        needs if has_requests && needs > 0 => Outcome::TooFew(needs),
        _ => Outcome::Clear,
    }
}

/// How many more requests the version must serve until harm of the size that matters shows in it and in each endpoint
/// that has a share of at least [`MATTERS`] of its requests.
#[must_use]
pub fn missing(version: &Judged, endpoints: &[(f64, Judged)]) -> u64 {
    let of_endpoints = endpoints
        .iter()
        .filter(|(share, _)| *share >= MATTERS)
        .map(|(share, judged)| over(judged.needs, *share));
    of_endpoints.chain([version.needs]).max().unwrap_or_default()
}

/// So many requests of an endpoint as requests of the version, of which it has a share.
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "counts of requests"
)]
fn over(needs: u64, share: f64) -> u64 {
    (needs as f64 / share).ceil() as u64
}

#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn share(part: u64, all: u64) -> f64 {
    if all == 0 { 0.0 } else { part as f64 / all as f64 }
}

/// The chance of so many failures or more on the later side, were the rates the same, with all
/// counts divided by a dispersion.
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "counts beyond 2^53 do not occur"
)]
fn or_more(before: (u64, u64), after: (u64, u64), dispersion: f64) -> f64 {
    let all = ((before.1 + after.1) as f64 / dispersion).round() as u64;
    let later = (after.1 as f64 / dispersion).floor() as u64;
    if before.0 == 0 || after.0 == 0 || later == 0 {
        return 1.0;
    }
    let of_later = after.0 as f64 / (before.0 + after.0) as f64;
    Binomial::new(of_later, all.max(later)).map_or(1.0, |usual| usual.sf(later - 1))
}

/// By how much one outage more, like the worst ten minutes of before, would raise the failure share
/// since the deploy, where failures come in bursts: how large the next one is no test of the past's
/// mean knows.
#[expect(clippy::cast_precision_loss, reason = "minutes of a day")]
fn outage(before: &Side, dispersion: f64, minutes: i64) -> f64 {
    if dispersion < BURSTS {
        return 0.0;
    }
    // It lies across two blocks as a rule, and fills as much of a third.
    let part = (30.0 / minutes.max(1) as f64).min(1.0);
    (before.scatter.worst - share(before.failed, before.requests)).max(0.0) * part
}

fn is_slower(before: &Side, after: &Side, alpha: f64) -> bool {
    let Some((above, of)) = above(&before.latency, &after.latency, 0.95).filter(|(above, _)| *above > 0) else {
        return false;
    };
    let Some((was, is)) = before.latency.quantile(0.95).zip(after.latency.quantile(0.95)) else {
        return false;
    };
    exceeding((usually_above(before), before.latency.count()), (above, of)) < alpha
        && is >= was * (1.0 + LEAST_FACTOR) / 2.0
        && is >= was + LEAST_US / 2.0
}

/// How many requests of before may lie above its 95th percentile: requests of one time are alike, so half as many
/// again are allowed.
fn usually_above(before: &Side) -> u64 {
    let count = before.latency.count();
    (3 * count).div_ceil(40).min(count / 2)
}

fn quantile_of_normal(chance: f64) -> f64 {
    Normal::standard().inverse_cdf(1.0 - chance)
}

/// Requests by which a rise from one share to another shows but for [`MISSED`] of the cases: the
/// normal approximation of a test of one share.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a positive number of requests"
)]
fn needed(usual: f64, risen: f64, alpha: f64, dispersion: f64) -> u64 {
    let (no, yes) = (quantile_of_normal(alpha), quantile_of_normal(MISSED));
    let spread = no * (usual * (1.0 - usual)).sqrt() + yes * (risen * (1.0 - risen)).max(0.0).sqrt();
    (dispersion * (spread / (risen - usual)).powi(2)).ceil() as u64
}

/// Failures of before are known as well as they are many: what they may be is taken, not what they were.
#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn needs_for_failures(before: &Side, alpha: f64, dispersion: f64) -> u64 {
    if before.requests == 0 {
        return u64::MAX;
    }
    let usual = ((before.failed as f64 + 1.0) / (before.requests as f64 + 2.0)).min(0.5);
    let risen = (2.0 * usual).max(usual + LEAST_RISE).min(0.95);
    beside_an_estimate(needed(usual, risen, alpha, dispersion), before.requests)
}

fn needs_for_latency(before: &Side, alpha: f64) -> u64 {
    if before.latency.count() < 20 {
        return 0;
    }
    let Some(was) = before
        .latency
        .quantile(0.95)
        .filter(|was| *was * (LEAST_FACTOR - 1.0) >= LEAST_US)
    else {
        return 0;
    };
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "microseconds of a request"
    )]
    let above = before.latency.above((was / LEAST_FACTOR).round() as u64);
    let count = before.latency.count();
    let (usual, risen) = (share(usually_above(before), count), share(above, count).min(0.95));
    // Where hardly any lie between, half as long again is no shift of the 95th percentile that
    // requests could show; it is not promised.
    if risen <= usual * 1.2 {
        0
    } else {
        beside_an_estimate(needed(usual, risen, alpha, 1.0), count)
    }
}

/// Requests needed where the usual share is itself an estimate of so many: with as few as are needed it would add as
/// much again.
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a positive number of requests"
)]
fn beside_an_estimate(needed: u64, of: u64) -> u64 {
    let needed = needed as f64;
    let left = (1.0 - needed / of as f64).max(0.1);
    (needed / left).ceil() as u64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::Scatter;
    use super::*;

    fn side(requests: u64, failed: u64) -> Side {
        Side {
            requests,
            failed,
            ..Side::default()
        }
    }

    fn judged(before: (u64, u64), after: (u64, u64), beside: (u64, u64)) -> Judged {
        let (before, after) = (side(before.0, before.1), side(after.0, after.1));
        judge_endpoint(
            &Watched {
                before: &before,
                after: &after,
                beside,
                minutes: 60,
            },
            10,
        )
    }

    #[test]
    fn a_deploy_that_fails_more_is_flagged_and_one_like_before_clear_once_there_were_enough_requests() {
        // 27 % of 476 requests, 8 % before: seen in use, and called clear.
        assert_eq!(judged((900, 72), (476, 128), (0, 0)).harm, [Harm::FailsMore]);
        let same = judged((90_000, 7_200), (1_000, 80), (0, 0));
        assert_eq!((same.harm.len(), same.needs), (0, 0));
        assert!(judged((90_000, 7_200), (100, 8), (0, 0)).needs > 300);
        assert_eq!(
            judged((90_000, 90), (200, 10), (0, 0)).harm,
            [Harm::FailsMore],
            "also where hardly any failed"
        );
    }

    #[test]
    fn what_other_versions_suffer_in_the_same_minutes_is_not_the_deploys() {
        assert_eq!(judged((90_000, 90), (2_000, 400), (2_000, 410)).harm, []);
        assert_eq!(judged((90_000, 90), (2_000, 400), (2_000, 12)).harm, [Harm::FailsMore]);
    }

    #[test]
    fn over_dispersion_is_one_by_chance_alone_and_what_it_is_in_bursts() {
        let (mut even, mut bursts) = (Scatter::default(), Scatter::default());
        for block in 0..144_u64 {
            even.add(100, 2);
            bursts.add(100, if block % 36 == 0 { 72 } else { 0 });
        }
        assert!((even.dispersion(14_400, 288) - 1.0).abs() < 1e-9);
        assert!(
            bursts.dispersion(14_400, 288) > 50.0,
            "{}",
            bursts.dispersion(14_400, 288)
        );
        assert!((Scatter::default().dispersion(10, 1) - 1.0).abs() < 1e-9);
    }

    #[rstest]
    #[case::a_flag(1, 60, 600, 0, true, Outcome::Flagged)]
    #[case::a_young_place(0, 60, 12, 0, true, Outcome::Unknown)]
    #[case::too_young(0, 4, 600, 0, true, Outcome::TooEarly(5))]
    #[case::too_few(0, 60, 600, 40, true, Outcome::TooFew(400))]
    #[case::enough(0, 60, 600, 0, true, Outcome::Clear)]
    #[case::without_requests_too_young(0, 29, 600, u64::MAX, false, Outcome::TooEarly(30))]
    #[case::without_requests(0, 30, 600, u64::MAX, false, Outcome::Clear)]
    fn the_answer_is(
        #[case] flags: usize,
        #[case] minutes: i64,
        #[case] known: i64,
        #[case] needs: u64,
        #[case] counted: bool,
        #[case] expected: Outcome,
    ) {
        let endpoints = [
            (0.1, Judged { harm: vec![], needs }),
            (
                0.01,
                Judged {
                    harm: vec![],
                    needs: 1_000_000,
                },
            ),
        ];
        let version = Judged {
            harm: vec![],
            needs: if needs == 0 { 0 } else { 7 },
        };
        let facts = VersionFacts {
            flags,
            minutes,
            known_minutes: known,
            version: &version,
            endpoints: &endpoints,
            has_requests: counted,
        };
        assert_eq!(judge(&facts), expected);
    }

    #[test]
    fn an_endpoint_of_few_requests_decides_where_it_fails_and_is_not_waited_for_where_it_does_not() {
        let fine = Judged::default();
        let failing = Judged {
            harm: vec![Harm::FailsMore],
            needs: 0,
        };
        let answer = |endpoints: &[(f64, Judged)]| {
            judge(&VersionFacts {
                flags: 0,
                minutes: 60,
                known_minutes: 600,
                version: &fine,
                endpoints,
                has_requests: true,
            })
        };
        assert_eq!(answer(&[(0.01, failing)]), Outcome::Flagged);
        let unknown = Judged {
            harm: vec![],
            needs: 9_000,
        };
        assert_eq!(answer(&[(0.01, unknown)]), Outcome::Clear);
    }

    #[rstest]
    #[case::of_the_version(700, &[], 700)]
    #[case::of_an_endpoint_with_a_tenth(700, &[(0.1, 100)], 1_000)]
    #[case::of_an_endpoint_that_does_not_matter(700, &[(0.01, 100)], 700)]
    #[case::nothing(0, &[(0.5, 0)], 0)]
    fn what_is_missing_is_the_most_of_the_version_and_of_endpoints_that_matter(
        #[case] needs: u64,
        #[case] endpoints: &[(f64, u64)],
        #[case] expected: u64,
    ) {
        let judged = |needs| Judged { harm: vec![], needs };
        let endpoints: Vec<(f64, Judged)> = endpoints
            .iter()
            .map(|(share, needs)| (*share, judged(*needs)))
            .collect();
        assert_eq!(missing(&judged(needs), &endpoints), expected);
    }
}
