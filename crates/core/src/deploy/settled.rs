//! Whether an error that people settled is gone.

/// Occurrences of an error over a time, and what it was exposed to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Exposed {
    /// Its occurrences.
    pub occurrences: f64,
    /// Requests, or hours where none are reported.
    pub exposure: f64,
}

/// What is to be said of a settled error.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Settled {
    /// It occurred since.
    Back,
    /// It did not, and would hardly have stayed away by chance. `chance`: of an error as before to do so, 0 to 1.
    Gone {
        /// How often an error as before would have stayed away so long.
        chance: f64,
    },
    /// It did not, and an error as before may well have stayed away so long.
    TooEarly {
        /// How often an error as before would have stayed away so long.
        chance: f64,
        /// How much further exposure tells.
        further: f64,
    },
    /// Nothing is known of it before, or nothing since.
    Unknown,
}

/// The chance below which an error did not stay away by chance.
const HARDLY: f64 = 0.05;

/// Says whether an error is gone since the version that it was settled in. `before`: in older
/// versions; `since`: in that version and later ones; `scatter`: the variance of its hourly counts
/// over their mean, 1 for single occurrences by chance.
///
/// The rate of before is gamma-distributed, known from as many occurrences as came by themselves
/// (those of before over `scatter`), with the prior of Jeffreys. None at the exposure of since is
/// then negative-binomial: `(1 + since / before)^−(occurrences / scatter + 1/2)`.
///
/// # Example
/// ```
/// use outcrop_core::deploy::{Exposed, Settled, settled};
/// // 100 in 90,000 requests before: 1 in 900.
/// let before = Exposed { occurrences: 100.0, exposure: 90_000.0 };
/// let since = |requests| Exposed { occurrences: 0.0, exposure: requests };
/// assert!(matches!(settled(before, since(120_000.0), 1.0), Settled::Gone { chance } if chance < 1e-30));
/// let Settled::TooEarly { chance, further } = settled(before, since(900.0), 1.0) else { panic!() };
/// // Of one due none comes in 37 of 100 times; 3 must be due.
/// assert!((chance - 0.37).abs() < 0.01 && (further - 1_830.0).abs() < 50.0, "{chance} {further}");
/// ```
#[must_use]
pub fn settled(before: Exposed, since: Exposed, scatter: f64) -> Settled {
    if since.occurrences > 0.0 {
        return Settled::Back;
    }
    if before.occurrences <= 0.0 || before.exposure <= 0.0 {
        return Settled::Unknown;
    }
    let shape = before.occurrences / scatter.max(1.0) + 0.5;
    let chance = (1.0 + since.exposure / before.exposure).powf(-shape);
    if chance <= HARDLY {
        Settled::Gone { chance }
    } else {
        let enough = before.exposure * (HARDLY.powf(-1.0 / shape) - 1.0);
        Settled::TooEarly {
            chance,
            further: enough - since.exposure,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::it_occurred_again(10.0, 1_000.0, 1.0, 50.0, "back")]
    #[case::nothing_is_known_of_before(0.0, 1_000.0, 0.0, 50.0, "unknown")]
    #[case::no_request_of_before(3.0, 0.0, 0.0, 50.0, "unknown")]
    #[case::long_enough(10.0, 1_000.0, 0.0, 500.0, "gone")]
    #[case::too_short(10.0, 1_000.0, 0.0, 50.0, "too early")]
    #[case::nothing_since(10.0, 1_000.0, 0.0, 0.0, "too early")]
    fn a_settled_error_is_judged(
        #[case] occurrences: f64,
        #[case] exposure: f64,
        #[case] again: f64,
        #[case] since: f64,
        #[case] expected: &str,
    ) {
        let said = settled(
            Exposed { occurrences, exposure },
            Exposed {
                occurrences: again,
                exposure: since,
            },
            1.0,
        );
        let word = match said {
            Settled::Back => "back",
            Settled::Gone { .. } => "gone",
            Settled::TooEarly { .. } => "too early",
            Settled::Unknown => "unknown",
        };
        assert_eq!(word, expected);
    }

    proptest! {
        #[test]
        fn what_is_further_needed_is_enough_and_bursts_need_more(
            occurrences in 1.0..1_000.0_f64,
            exposure in 1.0..1e6_f64,
            share in 0.0..5.0_f64,
            scatter in 1.0..50.0_f64,
        ) {
            let before = Exposed { occurrences, exposure };
            let since = Exposed { occurrences: 0.0, exposure: exposure * share / occurrences };
            if let Settled::TooEarly { chance, further } = settled(before, since, scatter) {
                prop_assert!(chance > HARDLY && further > 0.0);
                let later = Exposed { exposure: since.exposure + further * 1.001, ..since };
                let is_gone = matches!(settled(before, later, scatter), Settled::Gone { .. });
                prop_assert!(is_gone);
            } else {
                let by_chance = settled(before, since, 1.0);
                prop_assert!(matches!(by_chance, Settled::Gone { .. }), "{by_chance:?}");
            }
        }
    }
}
