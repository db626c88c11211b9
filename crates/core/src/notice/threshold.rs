//! When counts pass a threshold, and when they pass it anew.

use std::collections::BTreeMap;

use super::{Measure, Measured};

/// What came in one minute.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Counted {
    /// Occurrences or log lines that are counted.
    pub count: u64,
    /// Requests beside them, where a share is asked for.
    pub requests: u64,
    /// What a metric came to.
    pub number: f64,
    /// How many minutes say what it stands at; none of a metric whose numbers add up.
    pub standing: u64,
}

impl Counted {
    /// What a metric comes to over its minutes: the sum of what came, or what it stood at in the mean.
    #[expect(clippy::cast_precision_loss, reason = "minutes of a day")]
    fn metric(self) -> f64 {
        self.number / self.standing.max(1) as f64
    }
}

/// What the minutes up to one come to, where that is above the threshold.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Passed {
    /// The last minute, since 1970.
    pub minute: i64,
    /// The sums over the threshold's minutes.
    pub sum: Counted,
}

impl Passed {
    /// It in numbers: `57 occurrences within 10 min`.
    #[must_use]
    pub fn in_words(&self, measure: &Measure) -> String {
        let (Counted { count, requests, .. }, minutes) = (self.sum, measure.minutes);
        match measure.what {
            Measured::Occurrences => format!(
                "{count} occurrences within {minutes} min; the threshold is {}",
                measure.above
            ),
            Measured::LogLines => format!(
                "{count} log lines within {minutes} min; the threshold is {}",
                measure.above
            ),
            Measured::Share => format!(
                "{} of {requests} requests failed within {minutes} min ({}); the threshold is {} %",
                count,
                crate::attention::percent(share(self.sum)),
                measure.above
            ),
            Measured::Metric if self.sum.standing > 0 => format!(
                "{} in the mean of {minutes} min; the threshold is {}",
                rounded(self.sum.metric()),
                measure.above
            ),
            Measured::Metric => format!(
                "{} within {minutes} min; the threshold is {}",
                rounded(self.sum.metric()),
                measure.above
            ),
        }
    }
}

/// A number with the digits that tell: four of a small one, none after the point of a large one.
fn rounded(number: f64) -> String {
    if number == 0.0 || number.abs() >= 1_000.0 {
        return format!("{number:.0}");
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a few digits")]
    let digits = (3.0 - number.abs().log10().floor()).clamp(0.0, 9.0) as usize;
    let text = format!("{number:.digits$}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn share(sum: Counted) -> f64 {
    // More fail than requests are known of where their spans come later.
    if sum.requests == 0 {
        0.0
    } else {
        (sum.count as f64 / sum.requests as f64).min(1.0)
    }
}

/// Whether the minutes that end with one come to more than the threshold.
#[must_use]
pub fn passed(measure: &Measure, minutes: &BTreeMap<i64, Counted>, minute: i64) -> Option<Passed> {
    let from = minute - i64::from(measure.minutes) + 1;
    let sum = minutes
        .range(from..=minute)
        .fold(Counted::default(), |sum, (_, each)| Counted {
            count: sum.count + each.count,
            requests: sum.requests + each.requests,
            number: sum.number + each.number,
            standing: sum.standing + each.standing,
        });
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    let is_above = match measure.what {
        Measured::Share => share(sum) * 100.0 > measure.above,
        Measured::Occurrences | Measured::LogLines => sum.count as f64 > measure.above,
        Measured::Metric => sum.metric() > measure.above,
    };
    is_above.then_some(Passed { minute, sum })
}

/// The minutes of a time at which a threshold was passed anew: after it had not been for as long as is
/// counted over.
#[must_use]
pub fn passes(measure: &Measure, minutes: &BTreeMap<i64, Counted>, (from, to): (i64, i64)) -> Vec<Passed> {
    let mut passes = vec![];
    let mut last: Option<i64> = None;
    for minute in from..to {
        let Some(now) = passed(measure, minutes, minute) else {
            continue;
        };
        if last.is_none_or(|last| minute - last > i64::from(measure.minutes)) {
            passes.push(now);
        }
        last = Some(minute);
    }
    passes
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn measure(what: Measured, above: f64, minutes: u32) -> Measure {
        Measure { what, above, minutes }
    }

    fn counts(counts: &[(i64, u64, u64)]) -> BTreeMap<i64, Counted> {
        counts
            .iter()
            .map(|(minute, count, requests)| {
                (
                    *minute,
                    Counted {
                        count: *count,
                        requests: *requests,
                        ..Counted::default()
                    },
                )
            })
            .collect()
    }

    #[test]
    fn a_threshold_is_passed_by_the_sum_and_told_once_while_it_lasts() {
        let minutes = counts(&[(0, 3, 0), (1, 3, 0), (2, 3, 0), (3, 1, 0), (30, 9, 0)]);
        let told = passes(&measure(Measured::Occurrences, 5.0, 3), &minutes, (0, 60));
        assert_eq!(
            told.iter()
                .map(|passed| (passed.minute, passed.sum.count))
                .collect::<Vec<_>>(),
            [(1, 6), (30, 9)]
        );
        assert_eq!(passes(&measure(Measured::Occurrences, 9.0, 3), &minutes, (0, 60)), []);
        assert_eq!(
            told[0].in_words(&measure(Measured::Occurrences, 5.0, 3)),
            "6 occurrences within 3 min; the threshold is 5"
        );
    }

    #[test]
    fn a_share_is_of_the_requests_and_nothing_where_there_are_none() {
        let minutes = counts(&[(0, 3, 100), (1, 8, 100), (2, 4, 0)]);
        let five = measure(Measured::Share, 5.0, 2);
        assert_eq!(passed(&five, &minutes, 0), None);
        let told = passed(&five, &minutes, 1).unwrap();
        assert_eq!(
            told.in_words(&five),
            "11 of 200 requests failed within 2 min (5.5 %); the threshold is 5 %"
        );
        assert_eq!(passed(&measure(Measured::Share, 5.0, 1), &minutes, 2), None);
    }

    #[test]
    fn the_first_log_line_is_told() {
        let minutes = counts(&[(7, 1, 0), (8, 2, 0)]);
        let told = passes(&measure(Measured::LogLines, 0.0, 1), &minutes, (0, 60));
        assert_eq!(told.len(), 1);
    }

    #[test]
    fn a_metric_passes_by_what_came_or_by_what_it_stands_at_in_the_mean() {
        let of = |number, standing| Counted {
            number,
            standing,
            ..Counted::default()
        };
        let stands: BTreeMap<i64, Counted> = [(0, of(0.5, 1)), (1, of(0.97, 1)), (2, of(0.99, 1))].into();
        let above = measure(Measured::Metric, 0.9, 2);
        assert_eq!(passed(&above, &stands, 1), None);
        let told = passed(&above, &stands, 2).unwrap();
        assert_eq!(told.in_words(&above), "0.98 in the mean of 2 min; the threshold is 0.9");
        // A minute of which nothing is known says nothing.
        assert!(passed(&above, &stands, 3).is_some() && passed(&above, &stands, 4).is_none());
        let comes: BTreeMap<i64, Counted> = [(0, of(700.0, 0)), (1, of(534.5, 0))].into();
        let many = measure(Measured::Metric, 1_000.0, 2);
        assert_eq!(passed(&many, &comes, 0), None);
        let told = passed(&many, &comes, 1).unwrap();
        assert_eq!(told.in_words(&many), "1234 within 2 min; the threshold is 1000");
    }

    proptest! {
        /// Looking minute by minute, as it is done live, tells the same as going over the whole time.
        #[test]
        fn a_look_each_minute_tells_the_same(
            drawn in proptest::collection::vec(0u64..6, 120), above in 0u32..12, over in 1u32..15,
        ) {
            let counted = |count| Counted { count, ..Counted::default() };
            let minutes: BTreeMap<i64, Counted> = (0..).zip(drawn.into_iter().map(counted)).collect();
            let measure = measure(Measured::Occurrences, above.into(), over);
            let (mut open, mut told) = (None, vec![]);
            for minute in 0..120 {
                // An episode ends once it was not passed for as long as is counted over.
                if open.is_some_and(|last| minute - last > i64::from(over)) {
                    open = None;
                }
                if let Some(passed) = passed(&measure, &minutes, minute) {
                    if open.is_none() {
                        told.push(passed);
                    }
                    open = Some(minute);
                }
            }
            prop_assert_eq!(told, passes(&measure, &minutes, (0, 120)));
        }
    }
}
