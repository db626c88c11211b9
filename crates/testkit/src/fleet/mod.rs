//! Simulated fleets whose every true rate is known: what is reported of them, what changed, and
//! what a judge of it got right.
//!
//! A [`Condition`] is something that operators meet: counts that are thinned without notice,
//! deploys in an outage, nightly jobs that move. [`Fleet::new`] simulates some days of six services
//! under one, [`Score`] holds flags against what is true.

mod condition;
mod rates;
mod reports;
mod score;
mod simulated;
mod surges;
mod truth;

pub use condition::Condition;
pub use score::{Score, bounds};
pub use simulated::Fleet;
pub use truth::{Change, Difficulty, Silent};

/// Minutes since the beginning of a simulated fleet.
pub(crate) type At = i64;

/// Minutes of a day.
pub(crate) const DAY: At = 1_440;
/// Minutes that are learnt from: flags in them do not count.
pub(crate) const LEARNT: At = DAY;
/// 2026-11-02T00:00Z, a Monday, in minutes since 1970.
pub(crate) const START: i64 = 29_366_640;
