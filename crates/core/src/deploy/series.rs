//! Sums over minutes, kept so that any window is read at once.

use super::event::Minute;

/// A quantity per minute from a first minute on, with its running sum.
#[derive(Clone, Debug, Default)]
pub struct Sums {
    start: Minute,
    /// `sums[i]`: all before the minute `start + i`.
    sums: Vec<f64>,
}

impl Sums {
    /// Adds to a minute: the newest one, or a later one.
    pub fn add(&mut self, minute: Minute, amount: f64) {
        if self.sums.is_empty() {
            self.start = minute;
            self.sums = vec![0.0, 0.0];
        }
        self.reach(minute);
        if let Some(last) = self.sums.last_mut() {
            *last += amount;
        }
    }

    fn reach(&mut self, minute: Minute) {
        let wanted = usize::try_from(minute - self.start + 2).unwrap_or_default();
        let last = self.sums.last().copied().unwrap_or_default();
        if self.sums.len() < wanted {
            self.sums.resize(wanted, last);
        }
    }

    /// Puts other amounts in place of those of the latest minutes, which are all from the first of these on.
    pub fn replace(&mut self, amounts: &[(Minute, f64)]) {
        let Some((first, _)) = amounts.first() else { return };
        let kept = usize::try_from(first - self.start + 1).unwrap_or_default().max(1);
        self.sums.truncate(kept);
        for (minute, amount) in amounts {
            self.add(*minute, *amount);
        }
    }

    fn before(&self, minute: Minute) -> f64 {
        if self.sums.is_empty() || minute <= self.start {
            return 0.0;
        }
        let place = usize::try_from(minute - self.start).unwrap_or_default();
        self.sums[place.min(self.sums.len() - 1)]
    }

    /// The sum over minutes from one up to, and without, another.
    #[must_use]
    pub fn between(&self, from: Minute, to: Minute) -> f64 {
        if from < to {
            self.before(to) - self.before(from)
        } else {
            0.0
        }
    }
}

/// Minutes from one to another, as a number to reckon with.
#[expect(clippy::cast_precision_loss, reason = "minutes of some days")]
pub(super) fn span(from: Minute, to: Minute) -> f64 {
    (to - from).max(0) as f64
}
