//! What is true of a fleet: what changed, which deploys changed nothing, and what a reader who
//! knows every true rate finds.

use outcrop_core::deploy::FlagKind;

use super::At;

/// How plain a change is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Difficulty {
    /// 25 nats and more are to be expected within its window; of what is new, five occurrences in half an hour.
    Easy,
    /// 12 to 25 nats; of what is new, more than one occurrence.
    Medium,
    /// 4 to 12 nats; of what is new, one.
    Hard,
    /// Too little to ask for.
    Beyond,
}

impl Difficulty {
    /// The difficulty of a surge of which so many nats are to be expected.
    pub(super) fn of(nats: f64) -> Self {
        match nats {
            25.0.. => Self::Easy,
            12.0.. => Self::Medium,
            4.0.. => Self::Hard,
            _ => Self::Beyond,
        }
    }
}

/// The evidence of a count against what is usual, in nats: the quasi-likelihood of a Poisson count
/// (Wedderburn 1974) whose variance is `scatter` times its mean.
pub(super) fn evidence(count: f64, usual: f64, scatter: f64) -> f64 {
    if count <= usual || usual <= 0.0 {
        0.0
    } else {
        (count * (count / usual).ln() - (count - usual)) / scatter
    }
}

/// Nats from which on the reader who knows every rate says that there is a surge.
pub(super) const READER: f64 = 10.0;

/// A true change.
#[derive(Clone, Debug)]
pub struct Change {
    /// What is to be said of it.
    pub flag: FlagKind,
    /// The service.
    pub service: String,
    /// The error.
    pub group: String,
    /// The minute in which it began.
    pub began: At,
    /// The minute in which it ended, where it did.
    pub ended: Option<At>,
    /// How plain it is.
    pub difficulty: Difficulty,
    /// Minutes after which a reader who knows every true rate finds it; none where that reader does not.
    pub reader: Option<At>,
}

/// A deploy that changed nothing, up to the next deploy of its service.
#[derive(Clone, Debug)]
pub struct Silent {
    /// The service.
    pub service: String,
    /// Its minute.
    pub from: At,
    /// The minute of the next deploy of the service.
    pub until: At,
}
