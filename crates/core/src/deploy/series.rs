//! Sums over minutes, kept so that any window is read at once.

use super::event::Minute;

/// Minutes of one part.
const PART: usize = 64;

/// A quantity per minute from a first minute on, with its running sum. It is kept in parts of an hour or so: one in
/// which nothing was added takes sixteen bytes, so that thousands of errors that rarely occur take little.
#[derive(Clone, Debug, Default)]
pub struct Sums {
    start: Minute,
    /// How many sums there are: that of index `i` is all before the minute `start + i`.
    length: usize,
    /// The sums, [`PART`] by [`PART`].
    parts: Vec<Part>,
}

/// The running sums of a part; past the newest one all are the same as it.
#[derive(Clone, Debug)]
struct Part {
    /// The first of them, and all where `sums` is `None`.
    first: f64,
    sums: Option<Box<[f64; PART]>>,
}

impl Part {
    fn of(&self, place: usize) -> f64 {
        self.sums.as_ref().map_or(self.first, |sums| sums[place])
    }

    /// Sets the sum at a place and all after it.
    fn set_from(&mut self, place: usize, sum: f64) {
        if place == 0 {
            *self = Self { first: sum, sums: None };
        } else if sum.total_cmp(&self.of(PART - 1)).is_ne() {
            let sums = self.sums.get_or_insert_with(|| Box::new([self.first; PART]));
            sums[place..].fill(sum);
        }
    }
}

impl Sums {
    /// Adds to a minute: the newest one, or a later one.
    pub fn add(&mut self, minute: Minute, amount: f64) {
        if self.length == 0 {
            self.start = minute;
            self.lengthen(2, 0.0);
        }
        let last = self.at(self.length - 1);
        let wanted = usize::try_from(minute - self.start + 2).unwrap_or_default();
        self.lengthen(wanted, last);
        self.set_last(last + amount);
    }

    /// Makes room for so many sums; the new ones are all the same.
    fn lengthen(&mut self, length: usize, sum: f64) {
        self.length = self.length.max(length);
        self.parts
            .resize(self.length.div_ceil(PART), Part { first: sum, sums: None });
    }

    fn set_last(&mut self, sum: f64) {
        let place = (self.length - 1) % PART;
        if let Some(part) = self.parts.last_mut() {
            part.set_from(place, sum);
        }
    }

    fn at(&self, place: usize) -> f64 {
        self.parts.get(place / PART).map_or(0.0, |part| part.of(place % PART))
    }

    /// Puts other amounts in place of those of the latest minutes, which are all from the first of these on.
    pub fn replace(&mut self, amounts: &[(Minute, f64)]) {
        let Some((first, _)) = amounts.first() else { return };
        let kept = usize::try_from(first - self.start + 1).unwrap_or_default().max(1);
        if kept < self.length {
            let last = self.at(kept - 1);
            self.length = kept;
            self.parts.truncate(kept.div_ceil(PART));
            self.set_last(last);
        }
        for (minute, amount) in amounts {
            self.add(*minute, *amount);
        }
    }

    fn before(&self, minute: Minute) -> f64 {
        if self.length == 0 || minute <= self.start {
            return 0.0;
        }
        let place = usize::try_from(minute - self.start).unwrap_or_default();
        self.at(place.min(self.length - 1))
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
            steps in proptest::collection::vec((prop_oneof![0_i64..3, 0_i64..40, 0_i64..300], 0_u32..1_000), 0..60),
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
            before in proptest::collection::vec(0_u32..3, 1..200),
            after in proptest::collection::vec(0_u32..1_000, 1..200),
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
            for from in 0..420 {
                prop_assert!((sums.between(from, 420) - plain(&amounts, from, 420)).abs() < 1e-6, "from {from}");
            }
        }
    }

    #[test]
    fn a_quantity_that_is_rarely_there_takes_little() {
        let mut sums = Sums::default();
        for hour in 0..8 * 24 {
            sums.add(hour * 60 * 24, 1.0);
        }
        let full = sums.parts.iter().filter(|part| part.sums.is_some()).count();
        assert!(
            full <= 8 * 24 && sums.parts.len() > 4_000,
            "{full} of {}",
            sums.parts.len()
        );
        assert!((sums.between(0, 60 * 24 * 200) - 192.0).abs() < f64::EPSILON);
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
