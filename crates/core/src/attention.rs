//! What to open first: attention, 0 to 100, with its reasons.
//!
//! A weighted sum of thirteen factors, each between 0 and 1 and each only ever raising the score;
//! the weights sum to 100. The sum is multiplied by the weight that people have set for the service
//! or endpoint (1 where none) and held to 100. An error that follows from one in another service
//! has six tenths of that: the other is where to look. An error that is settled or quiet has a
//! quarter: somebody has said that nobody needs to look.
//!
//! | factor | weight | value |
//! | --- | --- | --- |
//! | uncaught | 16 | 1 if the exception ended a request, job or process |
//! | severity | 6 | 0 up to WARN, 0.6 for ERROR, 1 for FATAL |
//! | share | 20 | the least that the share of its endpoints' requests which fail can be (the lower Jeffreys bound, 95 %), on a logarithmic scale from 0.01 % (0) to 10 % (1); times how many failed, on a logarithmic scale from none (0) to 20 (1) |
//! | users | 9 | the least number of users that explains those seen, on a logarithmic scale from none (0) to 1,000 (1) |
//! | count | 6 | the least number of occurrences that explains those seen, on a logarithmic scale from 1 (0) to 10,000 (1) |
//! | endpoints | 3 | endpoints it occurs at, on a logarithmic scale from 1 (0) to 20 (1) |
//! | instances | 2 | instances it occurs on, on a logarithmic scale from 1 (0) to 20 (1) |
//! | kind | 5 | 1 for what points at the code or its memory (null, bounds, type, recursion, memory, …), 0.5 for what points at the data or the state, 0.3 for what points elsewhere (timeouts, connections, answers) |
//! | flag | 16 | 1 while it is flagged as surging or returned, 0.5 while as new, half of that once the flag has ended |
//! | young | 5 | 1 when first seen now, halved with every 24 hours |
//! | deploy | 7 | the same, where it was first seen within an hour of its version, and an earlier version is known |
//! | trend | 2 | how many times its even share of the window's last quarter it has there, on a logarithmic scale from 1 (0) to 4 (1) |
//! | edge | 3 | 1 if it occurs in requests that somebody waits for, not in jobs or queues alone |
//!
//! Small numbers are doubted: of a count seen, the least Poisson mean that it is likely for (95 %,
//! by the approximation of E. Wilson and M. Hilferty, 1931) is taken, and of a share the lower
//! bound of L. Brown, T. Cai and A. `DasGupta` (2001). So one failure of one run ranks below fifty
//! of fifty.

use serde::{Deserialize, Serialize};

use crate::least::least_mean;
pub use crate::least::least_share;

/// What is left of the attention of an error that follows from another.
const ECHO: f32 = 0.6;
/// What is left of the attention of an error that is settled or quiet.
const HANDLED: f64 = 0.25;

/// The score of an error that follows from one in another service.
#[must_use]
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "below 100")]
pub fn of_echo(score: u8) -> u8 {
    (f32::from(score) * ECHO).round() as u8
}

/// The score of an error that is settled or quiet, by the one that it would have open.
#[must_use]
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "below 100")]
pub fn of_handled(score: u8) -> u8 {
    (f64::from(score) * HANDLED).round() as u8
}

/// What is known of an error in the window looked at.
#[derive(Clone, Debug, Default)]
pub struct Evidence {
    /// Whether an occurrence ended a request, job or process.
    pub uncaught: bool,
    /// OTLP severity number, the highest.
    pub severity: i16,
    /// Occurrences in the window.
    pub count: u64,
    /// Users in the window.
    pub users: u64,
    /// The share of requests that failed with it, 0 to 1; `None` where no requests are known.
    pub request_share: Option<f64>,
    /// The requests that it is a share of.
    pub requests: u64,
    /// What was said of it in the window that weighs most: its kind, and whether it still stands.
    pub flag: Option<(FlagKind, bool)>,
    /// Hours since it was first seen.
    pub age_hours: f64,
    /// The version it came with, as a sentence names it (`fares 2.4.0`).
    pub came_with: Option<String>,
    /// Endpoints it occurs at.
    pub endpoints: u64,
    /// Instances it occurs on.
    pub instances: u64,
    /// Whether somebody waits for an answer at one of them.
    pub at_edge: bool,
    /// What kind of failure it is.
    pub kind: Option<&'static str>,
    /// Occurrences in the last quarter of the window.
    pub recent: u64,
    /// The weight set by people for its service or endpoint, above 0; `None` where none is set.
    pub weight: Option<f64>,
    /// Where it is settled or quiet, how, in words.
    pub handled: Option<String>,
}

/// What was said of an error.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum FlagKind {
    /// Never seen before.
    New,
    /// Settled, and back.
    Returned,
    /// More often than its past explains.
    Surging,
}

impl FlagKind {
    /// Reads the word of a flag.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Some(match word {
            "new" => Self::New,
            "returned" => Self::Returned,
            "surging" => Self::Surging,
            _ => return None,
        })
    }

    const fn word(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Returned => "back though settled",
            Self::Surging => "surging",
        }
    }

    const fn weight(self) -> f64 {
        match self {
            Self::New => 0.5,
            Self::Returned | Self::Surging => 1.0,
        }
    }
}

/// How much an error matters.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Attention {
    /// 0 to 100.
    pub score: u8,
    /// Why, the weightiest first, in words.
    pub reasons: Vec<String>,
}

/// Weighs an error; the formula is this module's documentation.
#[must_use]
pub fn attention(evidence: &Evidence) -> Attention {
    let factors: Vec<Factor> = of_impact(evidence).into_iter().chain(of_nature(evidence)).collect();
    let score: f64 = factors.iter().map(|(weight, value, _)| weight * value).sum();
    let set = evidence
        .weight
        .filter(|weight| weight.is_finite() && *weight > 0.0)
        .unwrap_or(1.0);
    let mut weighty: Vec<(f64, String)> = factors
        .into_iter()
        .map(|(weight, value, reason)| (weight * value, reason))
        .filter(|(points, _)| *points >= LEAST_POINTS)
        .collect();
    weighty.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut reasons: Vec<String> = weighty.into_iter().map(|(_, reason)| reason).collect();
    if (set - 1.0).abs() > f64::EPSILON {
        reasons.insert(0, format!("weighted {set} here"));
    }
    let left = match &evidence.handled {
        Some(handled) => {
            reasons.insert(0, handled.clone());
            HANDLED
        }
        None => 1.0,
    };
    Attention {
        score: rounded((score * set).min(100.0) * left),
        reasons,
    }
}

/// A factor's weight, its value from 0 to 1, and what it says.
type Factor = (f64, f64, String);

/// How much an error hits: requests, users, occurrences, endpoints, instances.
fn of_impact(evidence: &Evidence) -> Vec<Factor> {
    let share = evidence.request_share.unwrap_or(0.0).clamp(0.0, 1.0);
    let failed = share * as_float(evidence.requests);
    let of_share = between(least_share(share, evidence.requests), 0.0001, 0.1) * between(failed + 1.0, 1.0, 21.0);
    let users = if evidence.users == 1 { "user" } else { "users" };
    let even = as_float(evidence.count) / 4.0;
    let trend = if evidence.count >= LEAST_FOR_TREND {
        between(as_float(evidence.recent) / even, 1.0, 4.0)
    } else {
        0.0
    };
    vec![
        (20.0, of_share, format!("affects {} of its requests", percent(share))),
        (
            9.0,
            between(least_mean(evidence.users) + 1.0, 1.0, 1_001.0),
            format!("{} {users}", evidence.users),
        ),
        (
            6.0,
            between(least_mean(evidence.count), 1.0, 10_000.0),
            format!("{} occurrences", evidence.count),
        ),
        (
            3.0,
            between(as_float(evidence.endpoints), 1.0, 20.0),
            format!("{} endpoints", evidence.endpoints),
        ),
        (
            2.0,
            between(as_float(evidence.instances), 1.0, 20.0),
            format!("{} instances", evidence.instances),
        ),
        (2.0, trend, "more of it lately".to_owned()),
        (
            3.0,
            f64::from(u8::from(evidence.at_edge)),
            "a user waits for the answer".to_owned(),
        ),
    ]
}

/// What an error is: uncaught, severe, flagged, young, a fault of the code.
fn of_nature(evidence: &Evidence) -> Vec<Factor> {
    let severity = match evidence.severity {
        ..=16 => 0.0,
        17..=20 => 0.6,
        21.. => 1.0,
    };
    let logged = if evidence.severity >= 21 {
        "fatal"
    } else {
        "logged as an error"
    };
    let young = 0.5_f64.powf(evidence.age_hours.max(0.0) / 24.0);
    let (kind, of_kind) = kind(evidence.kind);
    let (flag, flagged) = match evidence.flag {
        None => (0.0, String::new()),
        Some((kind, true)) => (kind.weight(), kind.word().to_owned()),
        Some((kind, false)) => (kind.weight() / 2.0, format!("{} for a while", kind.word())),
    };
    let came_with = evidence.came_with.as_deref();
    let came_young = if came_with.is_some() { young } else { 0.0 };
    vec![
        (16.0, f64::from(u8::from(evidence.uncaught)), "uncaught".to_owned()),
        (6.0, severity, logged.to_owned()),
        (5.0, kind, of_kind),
        (16.0, flag, flagged),
        (7.0, came_young, format!("came with {}", came_with.unwrap_or_default())),
        (5.0, young, "first seen recently".to_owned()),
    ]
}

/// Points below which a factor is no reason worth reading.
const LEAST_POINTS: f64 = 3.0;
/// Occurrences below which a trend says nothing.
const LEAST_FOR_TREND: u64 = 8;

/// How much a kind of failure weighs, and why.
fn kind(kind: Option<&str>) -> (f64, String) {
    match kind {
        Some(kind @ ("null" | "bounds" | "type" | "recursion" | "memory" | "arithmetic" | "missing")) => {
            (1.0, format!("code defect ({kind})"))
        }
        Some(kind @ ("parse" | "database" | "argument" | "state" | "permission")) => {
            (0.5, format!("of the data or state ({kind})"))
        }
        Some(kind @ ("timeout" | "connection" | "answer")) => (0.3, format!("of what it calls ({kind})")),
        _ => (0.0, String::new()),
    }
}

/// A share as people write it: `4.2 %`, `0.03 %`.
#[must_use]
pub fn percent(share: f64) -> String {
    let percent = share * 100.0;
    if percent >= 10.0 {
        format!("{percent:.0} %")
    } else if percent >= 0.1 {
        format!("{percent:.1} %")
    } else {
        format!("{percent:.2} %")
    }
}

/// Where a value lies between two bounds on a logarithmic scale, held to 0 to 1.
fn between(value: f64, low: f64, high: f64) -> f64 {
    if value <= low {
        0.0
    } else {
        ((value / low).ln() / (high / low).ln()).min(1.0)
    }
}

#[expect(
    clippy::cast_precision_loss,
    reason = "counts beyond 2^53 do not occur, and a score needs two digits"
)]
const fn as_float(count: u64) -> f64 {
    count as f64
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "held to 0 to 100 first"
)]
fn rounded(score: f64) -> u8 {
    score.clamp(0.0, 100.0).round() as u8
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn score(evidence: &Evidence) -> u8 {
        attention(evidence).score
    }

    proptest! {
        #[test]
        fn more_of_anything_never_lowers_attention(count in 1u64..1_000_000, users in 0u64..10_000,
            share in 0.0f64..1.0, age in 0.0f64..900.0, severity in 0i16..24) {
            let base = Evidence { uncaught: false, severity, count, users, request_share: Some(share),
                requests: 5_000, flag: None, age_hours: age, came_with: None, endpoints: 2, instances: 2,
                    at_edge: false, kind: Some("timeout"), recent: count / 5, weight: None, handled: None };
            let more = [
                Evidence { uncaught: true, ..base.clone() },
                Evidence { severity: severity + 1, ..base.clone() },
                Evidence { count: count * 2, recent: count * 2 / 5, ..base.clone() },
                Evidence { users: users + 1, ..base.clone() },
                Evidence { request_share: Some((share * 1.5).min(1.0)), ..base.clone() },
                Evidence { age_hours: age / 2.0, ..base.clone() },
                Evidence { came_with: Some("fares 2.4.0".to_owned()), ..base.clone() },
                Evidence { endpoints: 3, ..base.clone() },
                Evidence { instances: 3, ..base.clone() },
                Evidence { at_edge: true, ..base.clone() },
                Evidence { kind: Some("null"), ..base.clone() },
                Evidence { recent: count / 2, ..base.clone() },
                Evidence { weight: Some(1.5), ..base.clone() },
                Evidence { flag: Some((FlagKind::New, true)), ..base.clone() },
                Evidence { requests: 10_000, ..base.clone() },
            ];
            for evidence in more {
                prop_assert!(score(&evidence) >= score(&base), "{:?}", evidence);
            }
        }
    }

    #[test]
    fn a_bad_deploy_outranks_old_noise_and_says_why() {
        let bad = attention(&Evidence {
            uncaught: true,
            severity: 17,
            count: 1_204,
            users: 212,
            request_share: Some(0.042),
            requests: 28_600,
            flag: Some((FlagKind::New, true)),
            age_hours: 0.4,
            came_with: Some("fares 2.4.0".to_owned()),
            endpoints: 1,
            instances: 1,
            at_edge: true,
            kind: Some("arithmetic"),
            recent: 1_204,
            weight: None,
            handled: None,
        });
        let noise = attention(&Evidence {
            uncaught: false,
            severity: 13,
            count: 734,
            users: 0,
            request_share: None,
            age_hours: 720.0,
            came_with: None,
            ..Evidence::default()
        });
        assert!(bad.score > 70 && noise.score < 20, "{bad:?} {noise:?}");
        assert_eq!(bad.reasons[..3], ["affects 4.2 % of its requests", "uncaught", "new"]);
    }

    #[test]
    fn one_failure_of_one_run_ranks_below_a_surge_that_many_feel() {
        let once = Evidence {
            uncaught: true,
            severity: 17,
            count: 1,
            request_share: Some(1.0),
            requests: 1,
            ..Evidence::default()
        };
        let surge = Evidence {
            severity: 17,
            count: 231,
            users: 222,
            request_share: Some(0.01),
            requests: 23_100,
            age_hours: 400.0,
            flag: Some((FlagKind::Surging, true)),
            at_edge: true,
            ..Evidence::default()
        };
        assert!(
            score(&surge) > score(&once) + 15,
            "{:?} {:?}",
            attention(&surge),
            attention(&once)
        );
    }

    #[test]
    fn at_one_share_the_larger_numbers_rank_higher() {
        let of = |count: u64| {
            score(&Evidence {
                count,
                request_share: Some(1.0),
                requests: count,
                age_hours: 900.0,
                ..Evidence::default()
            })
        };
        let scores: Vec<u8> = [1, 2, 5, 20, 200].map(of).to_vec();
        assert!(scores.windows(2).all(|pair| pair[0] < pair[1]), "{scores:?}");
    }

    #[test]
    fn bounds_lie_below_what_was_seen_and_draw_near_with_more_of_it() {
        // χ² quantiles: 5 % of 2 degrees is 0.1026, of 20 is 10.851, of 200 is 168.28.
        for (seen, exact) in [(1, 0.0513), (10, 5.425), (100, 84.14)] {
            assert!(
                (least_mean(seen) - exact).abs() < 0.03 * exact + 0.02,
                "{seen}: {}",
                least_mean(seen)
            );
        }
        assert!(least_share(1.0, 1) < 0.3 && least_share(1.0, 1_000) > 0.99 && least_share(0.0, 10) == 0.0);
    }

    #[test]
    fn what_is_settled_or_quiet_has_a_quarter_of_its_attention_and_says_so_first() {
        let loud = Evidence {
            uncaught: true,
            severity: 21,
            count: 90_000,
            users: 5_000,
            request_share: Some(1.0),
            requests: 90_000,
            flag: Some((FlagKind::Surging, true)),
            weight: Some(4.0),
            ..Evidence::default()
        };
        assert_eq!(attention(&loud).score, 100);
        let handled = attention(&Evidence {
            handled: Some("settled in fares 2.4.1".to_owned()),
            ..loud
        });
        assert_eq!(handled.score, 25);
        assert_eq!(handled.reasons[0], "settled in fares 2.4.1");
    }
}
