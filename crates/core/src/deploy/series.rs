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

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    /// The same, slow and plain: an amount for each minute.
    fn plain(amounts: &BTreeMap<Minute, f64>, from: Minute, to: Minute) -> f64 {
        amounts
            .iter()
            .filter(|(minute, _)| (from..to).contains(*minute))
            .map(|(_, amount)| amount)
            .sum()
    }

    proptest! {
        #[test]
        fn a_window_sums_what_was_added_to_its_minutes(
            start in -10_000_i64..10_000,
            steps in proptest::collection::vec((0_i64..40, 0_u32..1_000), 0..60),
            from in -20_000_i64..20_000,
            length in -50_i64..30_000,
        ) {
            let (mut sums, mut amounts, mut minute) = (Sums::default(), BTreeMap::new(), start);
            for (later, amount) in steps {
                minute += later;
                sums.add(minute, f64::from(amount));
                *amounts.entry(minute).or_default() += f64::from(amount);
            }
            prop_assert!((sums.between(from, from + length) - plain(&amounts, from, from + length)).abs() < 1e-6);
        }

        #[test]
        fn what_is_replaced_counts_in_place_of_what_was_there(
            before in proptest::collection::vec(0_u32..1_000, 1..40),
            after in proptest::collection::vec(0_u32..1_000, 1..40),
            at in any::<proptest::sample::Index>(),
        ) {
            let first = i64::try_from(at.index(before.len())).unwrap();
            let mut sums = Sums::default();
            let mut amounts: BTreeMap<Minute, f64> = BTreeMap::new();
            for (minute, amount) in (0..).zip(&before) {
                sums.add(minute, f64::from(*amount));
                amounts.insert(minute, f64::from(*amount));
            }
            let anew: Vec<(Minute, f64)> = (first..).zip(after.iter().map(|amount| f64::from(*amount))).collect();
            sums.replace(&anew);
            amounts.retain(|minute, _| *minute < first);
            amounts.extend(anew);
            for from in 0..50 {
                prop_assert!((sums.between(from, 100) - plain(&amounts, from, 100)).abs() < 1e-6, "from {from}");
            }
        }
    }

    #[test]
    fn nothing_sums_to_nothing_and_a_window_that_ends_before_it_begins_is_empty() {
        let mut sums = Sums::default();
        assert!(sums.between(0, 10).abs() < f64::EPSILON);
        sums.replace(&[]);
        sums.add(5, 2.0);
        assert!(sums.between(9, 3).abs() < f64::EPSILON);
        assert!((sums.between(5, 6) - 2.0).abs() < f64::EPSILON);
        assert!((span(3, 9) - 6.0).abs() < f64::EPSILON && span(9, 3).abs() < f64::EPSILON);
    }
}
