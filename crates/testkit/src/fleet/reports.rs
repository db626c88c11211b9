//! What is reported of requests and errors, and how reports are disturbed.

use std::collections::BTreeMap;

use rand::Rng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Binomial, Distribution};

use super::rates::{exponential, to_float};
use super::{At, Condition, DAY, LEARNT};

/// Counts by minute and version.
pub(super) type Counts = BTreeMap<(At, usize), u64>;

/// Stretches of 20 to 240 minutes in which reports are disturbed, with how strongly: some three in two days.
pub(super) fn stretches(chance: &mut ChaCha8Rng, condition: Condition, minutes: At) -> Vec<(At, At, f64)> {
    let mut stretches = vec![];
    if !condition.has_stretches() {
        return stretches;
    }
    // What was there before must have been heard of.
    let mut at = if condition == Condition::ErrorsMissing {
        LEARNT
    } else {
        LEARNT / 2
    };
    loop {
        #[expect(clippy::cast_possible_truncation, reason = "minutes of some days")]
        let pause = exponential(chance, 1.5 / to_float(DAY)) as At;
        at += pause;
        let length = chance.random_range(20..=240);
        if at + length >= minutes {
            return stretches;
        }
        let strength = match condition {
            Condition::CountsThinned => [0.1, 0.5, 0.25][chance.random_range(0..3)],
            Condition::CountsPartial => chance.random_range(0.3..0.85),
            Condition::CountsLate => to_float(chance.random_range(1..8)),
            Condition::ErrorsLate => to_float(chance.random_range(1..3)),
            _ => 0.0,
        };
        stretches.push((at, at + length, strength));
        at += length + 30;
    }
}

fn thinned(chance: &mut ChaCha8Rng, count: u64, share: f64) -> u64 {
    Binomial::new(count, share.clamp(0.0, 1.0))
        .expect("a share")
        .sample(chance)
}

#[expect(clippy::cast_possible_truncation, reason = "a few minutes")]
fn late(counts: &Counts, stretches: &[(At, At, f64)], minutes: At) -> Counts {
    let mut reported = Counts::new();
    for ((minute, version), count) in counts {
        let within = stretches
            .iter()
            .find(|(from, until, _)| (*from..*until).contains(minute));
        // What was late is reported at once when it is mended.
        let at = within
            .map_or(*minute, |(_, until, by)| (*minute + *by as At).min(*until))
            .min(minutes - 1);
        *reported.entry((at, *version)).or_default() += count;
    }
    reported
}

/// What is reported of requests.
pub(super) fn requests(
    chance: &mut ChaCha8Rng,
    condition: Condition,
    counts: &Counts,
    stretches: &[(At, At, f64)],
    minutes: At,
) -> Counts {
    if condition == Condition::CountsLate {
        return late(counts, stretches, minutes);
    }
    let mut reported = Counts::new();
    for ((minute, version), count) in counts {
        let within = stretches
            .iter()
            .find(|(from, until, _)| (*from..*until).contains(minute));
        let (at, count) = match (condition, within) {
            (Condition::CountsMissing, Some(_)) => continue,
            (Condition::CountsPartial | Condition::CountsThinned, Some((_, _, share))) => {
                (*minute, thinned(chance, *count, *share))
            }
            (Condition::CountsDoubled, Some(_)) => (*minute, count * 2),
            (Condition::CountsInLumps, Some((from, until, _))) => {
                ((from + (minute - from) / 5 * 5 + 4).min(*until - 1), *count)
            }
            _ => (*minute, *count),
        };
        if count > 0 {
            *reported.entry((at, *version)).or_default() += count;
        }
    }
    reported
}

/// What is reported of an error.
pub(super) fn errors(condition: Condition, counts: &Counts, stretches: &[(At, At, f64)], minutes: At) -> Counts {
    match condition {
        Condition::ErrorsLate => late(counts, stretches, minutes),
        Condition::ErrorsMissing => counts
            .iter()
            .filter(|((minute, _), _)| {
                !stretches
                    .iter()
                    .any(|(from, until, _)| (*from..*until).contains(minute))
            })
            .map(|(at, count)| (*at, *count))
            .collect(),
        _ => counts.clone(),
    }
}

/// Requests of a version of which only a share is reported.
pub(super) fn sampled(chance: &mut ChaCha8Rng, counts: &mut Counts, shares: &[f64]) {
    for ((_, version), count) in counts.iter_mut() {
        *count = thinned(chance, *count, shares.get(*version).copied().unwrap_or(1.0));
    }
    counts.retain(|_, count| *count > 0);
}
