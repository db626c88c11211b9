//! Minutes of series, put together into the numbers of a chart.

use std::fmt;

use super::{Kind, Minute, Spread};

/// How minutes and series are put together into one number.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Together {
    /// Their mean; of a distribution that of its measurements.
    Mean,
    /// Their sum. Over time a level is no sum: it is the sum of what each series comes to in the mean.
    Sum,
    /// The greatest.
    Most,
    /// The least.
    Least,
    /// What so many percent do not exceed: of a distribution of its measurements, else of the minutes.
    Percentile(f64),
}

const WORDS: [(Together, &str); 4] = [
    (Together::Mean, "mean"),
    (Together::Sum, "sum"),
    (Together::Most, "most"),
    (Together::Least, "least"),
];

impl Together {
    /// Reads `mean`, `sum`, `most`, `least`, or a percentile such as `p95` or `p99.9`.
    #[must_use]
    pub fn named(word: &str) -> Option<Self> {
        let known = WORDS.iter().find(|(_, each)| *each == word).map(|(each, _)| *each);
        known.or_else(|| {
            let digits = word.strip_prefix('p')?;
            let is_number = digits.starts_with(|c: char| c.is_ascii_digit());
            let percent: f64 = digits.parse().ok().filter(|_| is_number)?;
            (percent > 0.0 && percent < 100.0).then_some(Self::Percentile(percent))
        })
    }

    /// What people mean of a kind where they say nothing: the mean, but of increases the sum.
    #[must_use]
    pub const fn usual(kind: Kind) -> Self {
        match kind {
            Kind::Delta | Kind::Cumulative => Self::Sum,
            _ => Self::Mean,
        }
    }
}

impl fmt::Display for Together {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Percentile(percent) => write!(formatter, "p{percent}"),
            word => formatter.write_str(
                WORDS
                    .iter()
                    .find(|(each, _)| each == word)
                    .map_or("mean", |(_, word)| word),
            ),
        }
    }
}

/// What the minutes of one step come to.
#[derive(Clone, Debug)]
struct Step {
    /// The sum of the values.
    sum: f64,
    /// How many minutes of series there were.
    minutes: u64,
    /// The sum of the counts.
    counts: u64,
    most: f64,
    least: f64,
    /// How measurements or minutes are spread, where a percentile is asked for.
    spread: Spread,
}

impl Default for Step {
    fn default() -> Self {
        Self {
            sum: 0.0,
            minutes: 0,
            counts: 0,
            most: f64::NEG_INFINITY,
            least: f64::INFINITY,
            spread: Spread::default(),
        }
    }
}

/// What minutes of several series come to in steps. Series are added one after the other.
#[derive(Clone, Debug)]
pub struct Steps {
    kind: Kind,
    together: Together,
    /// What series that are whole come to.
    all: Vec<Step>,
    /// What the minutes of the series that is being added come to.
    one: Vec<Step>,
}

impl Steps {
    /// So many steps.
    #[must_use]
    pub fn new(kind: Kind, together: Together, count: usize) -> Self {
        Self {
            kind,
            together,
            all: vec![Step::default(); count],
            one: vec![Step::default(); count],
        }
    }

    /// Adds a minute of a series to a step; none past the last.
    pub fn add(&mut self, step: usize, minute: &Minute) {
        let Some(step) = self.one.get_mut(step) else {
            return;
        };
        step.sum += minute.value;
        step.minutes += 1;
        step.counts = step.counts.saturating_add(minute.count);
        #[expect(clippy::cast_precision_loss, reason = "a mean needs no more than 53 bits")]
        let one = if self.kind.is_distribution() && minute.count > 0 {
            minute.value / minute.count as f64
        } else {
            minute.value
        };
        step.most = step.most.max(one);
        step.least = step.least.min(one);
        match self.together {
            Together::Percentile(_) if self.kind.is_distribution() => step.spread.merge(&minute.spread),
            Together::Percentile(_) => step.spread.add(one),
            _ => {}
        }
    }

    /// Ends a series: what is added next is of another one.
    pub fn end_series(&mut self) {
        let is_sum_of_levels = self.kind == Kind::Level && self.together == Together::Sum;
        for (all, one) in self.all.iter_mut().zip(&mut self.one) {
            let one = std::mem::take(one);
            if one.minutes == 0 {
                continue;
            }
            #[expect(clippy::cast_precision_loss, reason = "a mean needs no more than 53 bits")]
            if is_sum_of_levels {
                // How much there was of it at a time, however often it was sent.
                all.sum += one.sum / one.minutes as f64;
            } else {
                all.sum += one.sum;
            }
            all.minutes += one.minutes;
            all.counts = all.counts.saturating_add(one.counts);
            all.most = all.most.max(one.most);
            all.least = all.least.min(one.least);
            all.spread.merge(&one.spread);
        }
    }

    /// The number of each step, of the series that ended; `None` where nothing came.
    #[must_use]
    pub fn finish(&self) -> Vec<Option<f64>> {
        self.all.iter().map(|step| self.number(step)).collect()
    }

    #[expect(clippy::cast_precision_loss, reason = "a mean needs no more than 53 bits")]
    fn number(&self, step: &Step) -> Option<f64> {
        if step.minutes == 0 {
            return None;
        }
        match self.together {
            Together::Mean if self.kind.is_distribution() => (step.counts > 0).then(|| step.sum / step.counts as f64),
            Together::Mean => Some(step.sum / step.minutes as f64),
            Together::Sum => Some(step.sum),
            Together::Most => Some(step.most),
            Together::Least => Some(step.least),
            Together::Percentile(percent) => step.spread.percentile(percent / 100.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Buckets;
    use super::*;

    fn minute(value: f64, count: u64) -> Minute {
        Minute {
            value,
            count,
            ..Minute::default()
        }
    }

    #[test]
    fn steps_put_minutes_and_series_together_as_asked() {
        let two = [minute(6.0, 3), minute(2.0, 1)];
        let of = |kind, together| {
            let mut steps = Steps::new(kind, together, 2);
            for minute in &two {
                steps.add(0, minute);
            }
            steps.add(9, &two[0]);
            steps.end_series();
            steps.finish()
        };
        for (kind, together, expected) in [
            (Kind::Level, Together::Mean, 4.0),
            // Two minutes of one series: there was as much as in their mean.
            (Kind::Level, Together::Sum, 4.0),
            (Kind::Level, Together::Most, 6.0),
            (Kind::Cumulative, Together::Sum, 8.0),
            (Kind::DeltaDistribution, Together::Mean, 2.0),
            (Kind::DeltaDistribution, Together::Sum, 8.0),
            (Kind::DeltaDistribution, Together::Least, 2.0),
        ] {
            assert_eq!(of(kind, together), [Some(expected), None], "{kind:?} {together:?}");
        }
        // Buckets were not sent: nothing is known of the measurements. Of a level it is the minutes.
        assert_eq!(of(Kind::DeltaDistribution, Together::Percentile(95.0)), [None, None]);
        let half = of(Kind::Level, Together::Percentile(50.0))[0].unwrap();
        assert!((half - 2.0).abs() < 0.1, "{half}");
    }

    #[test]
    fn the_sum_of_levels_is_that_of_all_series_at_a_time() {
        let mut steps = Steps::new(Kind::Level, Together::Sum, 1);
        for (times, value) in [(10, 3.0), (2, 5.0)] {
            for _ in 0..times {
                steps.add(0, &minute(value, 1));
            }
            steps.end_series();
        }
        assert_eq!(steps.finish(), [Some(8.0)]);
    }

    #[test]
    fn a_percentile_is_of_all_measurements_of_all_series() {
        let mut steps = Steps::new(Kind::CumulativeDistribution, Together::Percentile(95.0), 1);
        for (bound, count) in [(1.0, 94), (8.0, 6)] {
            let buckets = Buckets::new(vec![bound / 2.0, bound], vec![0, count, 0]).unwrap();
            let spread = Spread::of(&buckets);
            steps.add(
                0,
                &Minute {
                    spread,
                    ..minute(bound, count)
                },
            );
            steps.end_series();
        }
        let said = steps.finish()[0].unwrap();
        assert!((4.0..8.0).contains(&said), "{said}");
    }

    #[test]
    fn words_are_read_as_they_are_written() {
        for word in ["mean", "sum", "most", "least", "p50", "p99.9"] {
            assert_eq!(Together::named(word).unwrap().to_string(), word);
        }
        for word in ["median", "p", "p0", "p100", "p-5", "pNaN", "pinf", "p1e1x", ""] {
            assert_eq!(Together::named(word), None, "{word}");
        }
    }
}
