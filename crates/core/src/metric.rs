//! Metrics that services send: what a point says, and what points come to by the minute.
//!
//! The kinds are those of OpenTelemetry's metrics data model. A *level* says how much there is: a gauge, or a sum that
//! may fall. An *increase* says how much more there is than before. Sums since a beginning are turned into increases
//! by [`Sum::take`], which handles resets, repetitions and points that come late.

use std::collections::BTreeMap;

use crate::Timestamp;

/// What the numbers of a metric are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// How much there is: a gauge, or a sum that may fall.
    #[default]
    Level,
    /// How much came since the point before.
    Delta,
    /// How much came since a beginning.
    Cumulative,
    /// Measurements since the point before: their sum and count.
    DeltaDistribution,
    /// Measurements since a beginning: their sum and count.
    CumulativeDistribution,
}

impl Kind {
    const ALL: [(Self, i16, &'static str); 5] = [
        (Self::Level, 0, "level"),
        (Self::Delta, 1, "increase"),
        (Self::Cumulative, 2, "increase"),
        (Self::DeltaDistribution, 3, "distribution"),
        (Self::CumulativeDistribution, 4, "distribution"),
    ];

    /// The number it is stored under.
    #[must_use]
    pub fn number(self) -> i16 {
        Self::ALL
            .iter()
            .find(|(kind, ..)| *kind == self)
            .map_or(0, |(_, number, _)| *number)
    }

    /// The kind that is stored under a number; a level where a later release stored another.
    #[must_use]
    pub fn of_number(number: i16) -> Self {
        Self::ALL
            .iter()
            .find(|(_, each, _)| *each == number)
            .map_or(Self::Level, |(kind, ..)| *kind)
    }

    /// What people read: `level`, `increase` or `distribution`.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL
            .iter()
            .find(|(kind, ..)| *kind == self)
            .map_or("level", |(.., word)| word)
    }

    /// Whether its points count from a beginning.
    #[must_use]
    pub const fn is_cumulative(self) -> bool {
        matches!(self, Self::Cumulative | Self::CumulativeDistribution)
    }

    /// Whether its points have a count beside the sum.
    #[must_use]
    pub const fn is_distribution(self) -> bool {
        matches!(self, Self::DeltaDistribution | Self::CumulativeDistribution)
    }
}

/// One point of one series.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// When it was read.
    pub at: Timestamp,
    /// From when on it counts, where that was sent.
    pub start: Option<Timestamp>,
    /// The value; of a distribution the sum of its measurements.
    pub value: f64,
    /// Of a distribution the number of measurements, else 0.
    pub count: u64,
}

/// How far a beginning may lie before a series' first point for the point to be an increase: longer ago, nobody knows
/// when what it counts came.
const FRESH_MS: i64 = 5 * 60_000;
/// By how much the beginning of a new count may lie before the last point of the old one: clocks differ.
const OVERLAP_MS: i64 = 1_000;

/// Where a sum since a beginning stands.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sum {
    /// Its last point.
    pub last: Point,
}

impl Sum {
    /// Takes the next point of a sum, and returns by how much value and count rose; `None` where that is not known: of
    /// a first point that counts from long ago, and of a point that is not newer than the last one.
    ///
    /// A sum begins anew where it names a beginning after the last point, or fell.
    pub fn take(before: &mut Option<Self>, point: Point) -> Option<(f64, u64)> {
        let Some(Self { last }) = *before else {
            *before = Some(Self { last: point });
            let is_fresh = point
                .start
                .is_some_and(|start| point.at.millis() - start.millis() <= FRESH_MS);
            return is_fresh.then_some((point.value, point.count));
        };
        if point.at <= last.at {
            return None;
        }
        *before = Some(Self { last: point });
        let is_anew = point
            .start
            .is_some_and(|start| start.millis() >= last.at.millis() - OVERLAP_MS);
        if is_anew || point.value < last.value || point.count < last.count {
            return Some((point.value, point.count));
        }
        Some((point.value - last.value, point.count - last.count))
    }
}

/// What the points of one minute come to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Minute {
    /// Of a level the mean of its points, of an increase their sum, of a distribution the sum of its measurements.
    pub value: f64,
    /// Of a level the number of points, of a distribution the number of measurements, else 0.
    pub count: u64,
}

/// What points of one series come to by the minute since 1970. `sum` is where a sum since a beginning stands, and stands
/// anew afterwards. Points may come in any order.
#[must_use]
pub fn by_minute(kind: Kind, points: &mut [Point], sum: &mut Option<Sum>) -> BTreeMap<i64, Minute> {
    points.sort_by_key(|point| point.at);
    let mut minutes: BTreeMap<i64, Minute> = BTreeMap::new();
    for point in points {
        let (value, count) = match kind {
            Kind::Level => (point.value, 1),
            Kind::Delta => (point.value, 0),
            Kind::DeltaDistribution => (point.value, point.count),
            Kind::Cumulative | Kind::CumulativeDistribution => match Sum::take(sum, *point) {
                Some(rise) => rise,
                None => continue,
            },
        };
        let minute = minutes.entry(point.at.millis().div_euclid(60_000)).or_default();
        minute.add(kind, Minute { value, count });
    }
    minutes
}

impl Minute {
    /// Adds what came later of the same minute.
    pub fn add(&mut self, kind: Kind, more: Self) {
        let count = self.count.saturating_add(more.count);
        self.value = if kind == Kind::Level {
            #[expect(clippy::cast_precision_loss, reason = "points of a minute are few")]
            let (own, other, all) = (self.count as f64, more.count as f64, count.max(1) as f64);
            (self.value * own + more.value * other) / all
        } else {
            self.value + more.value
        };
        self.count = count;
    }
}

/// How minutes and series are put together into one number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Together {
    /// Their mean; of a distribution that of its measurements.
    Mean,
    /// Their sum. Over time a level is no sum: it is the mean over time of the sum of the series.
    Sum,
    /// The greatest.
    Most,
    /// The least.
    Least,
}

impl Together {
    const ALL: [(Self, &'static str); 4] = [
        (Self::Mean, "mean"),
        (Self::Sum, "sum"),
        (Self::Most, "most"),
        (Self::Least, "least"),
    ];

    /// Reads `mean`, `sum`, `most` or `least`.
    #[must_use]
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, each)| *each == word).map(|(each, _)| *each)
    }

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL
            .iter()
            .find(|(each, _)| *each == self)
            .map_or("mean", |(_, word)| word)
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

/// What the minutes of one step come to.
#[derive(Clone, Copy, Debug)]
struct Step {
    /// The sum of the values.
    sum: f64,
    /// How many minutes of series there were.
    minutes: u64,
    /// The sum of the counts.
    counts: u64,
    most: f64,
    least: f64,
}

impl Step {
    const NOTHING: Self = Self {
        sum: 0.0,
        minutes: 0,
        counts: 0,
        most: f64::NEG_INFINITY,
        least: f64::INFINITY,
    };
}

/// What minutes of several series come to in steps.
#[derive(Clone, Debug)]
pub struct Steps {
    kind: Kind,
    together: Together,
    all: Vec<Step>,
    /// How many minutes a step has.
    minutes: u32,
}

impl Steps {
    /// So many steps of so many minutes each, 1 at least.
    #[must_use]
    pub fn new(kind: Kind, together: Together, count: usize, minutes: u32) -> Self {
        Self {
            kind,
            together,
            all: vec![Step::NOTHING; count],
            minutes: minutes.max(1),
        }
    }

    /// Adds a minute of a series to a step; none past the last.
    pub fn add(&mut self, step: usize, minute: Minute) {
        let Some(step) = self.all.get_mut(step) else {
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
    }

    /// The number of each step; `None` where nothing came.
    #[must_use]
    pub fn finish(&self) -> Vec<Option<f64>> {
        #[expect(clippy::cast_precision_loss, reason = "a mean needs no more than 53 bits")]
        let number = |step: &Step| {
            let is_mean = self.together == Together::Mean;
            if step.minutes == 0 || self.kind.is_distribution() && step.counts == 0 && is_mean {
                return None;
            }
            Some(match self.together {
                Together::Mean if self.kind.is_distribution() => step.sum / step.counts as f64,
                Together::Mean => step.sum / step.minutes as f64,
                // The sum of the series at a time, over the minutes of the step.
                Together::Sum if self.kind == Kind::Level => step.sum / f64::from(self.minutes),
                Together::Sum => step.sum,
                Together::Most => step.most,
                Together::Least => step.least,
            })
        };
        self.all.iter().map(number).collect()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn point(seconds: i64, value: f64, start: Option<i64>) -> Point {
        Point {
            at: Timestamp::from_millis(seconds * 1_000),
            start: start.map(|start| Timestamp::from_millis(start * 1_000)),
            value,
            count: 0,
        }
    }

    fn rises(points: &[Point]) -> Vec<Option<f64>> {
        let mut sum = None;
        points
            .iter()
            .map(|point| Sum::take(&mut sum, *point).map(|(value, _)| value))
            .collect()
    }

    #[test]
    fn a_sum_is_told_by_its_rises_over_resets_repetitions_and_late_points() {
        // Since when it counts is not known, or long ago: the first point says nothing.
        assert_eq!(
            rises(&[point(60, 10.0, None), point(120, 14.0, None)]),
            [None, Some(4.0)]
        );
        assert_eq!(rises(&[point(9_000, 10.0, Some(0))]), [None]);
        assert_eq!(rises(&[point(60, 10.0, Some(0))]), [Some(10.0)]);
        // It fell, or says that it began anew though it is higher.
        assert_eq!(rises(&[point(60, 10.0, Some(0)), point(120, 3.0, None)])[1], Some(3.0));
        assert_eq!(
            rises(&[point(60, 10.0, Some(0)), point(120, 12.0, Some(70))])[1],
            Some(12.0)
        );
        assert_eq!(
            rises(&[point(60, 10.0, Some(0)), point(120, 12.0, Some(0))])[1],
            Some(2.0)
        );
        // A repetition and a late point say nothing; what they count is in the next one.
        let late = [
            point(60, 10.0, Some(0)),
            point(60, 10.0, Some(0)),
            point(30, 6.0, Some(0)),
            point(90, 11.0, Some(0)),
        ];
        assert_eq!(rises(&late), [Some(10.0), None, None, Some(1.0)]);
    }

    #[test]
    fn points_of_a_minute_are_a_mean_a_sum_or_measurements() {
        let of = |kind, points: &[Point]| {
            let minutes = by_minute(kind, &mut points.to_vec(), &mut None);
            minutes
                .into_iter()
                .map(|(minute, said)| (minute, said.value, said.count))
                .collect::<Vec<_>>()
        };
        let points = [point(5, 2.0, None), point(50, 4.0, None), point(65, 9.0, None)];
        assert_eq!(of(Kind::Level, &points), [(0, 3.0, 2), (1, 9.0, 1)]);
        assert_eq!(of(Kind::Delta, &points), [(0, 6.0, 0), (1, 9.0, 0)]);
        assert_eq!(of(Kind::Cumulative, &points), [(0, 2.0, 0), (1, 5.0, 0)]);
        let measured = [Point { count: 3, ..points[0] }, Point { count: 1, ..points[1] }];
        assert_eq!(of(Kind::DeltaDistribution, &measured), [(0, 6.0, 4)]);
    }

    #[test]
    fn steps_put_minutes_and_series_together_as_asked() {
        let two = [Minute { value: 6.0, count: 3 }, Minute { value: 2.0, count: 1 }];
        let of = |kind, together| {
            let mut steps = Steps::new(kind, together, 2, 2);
            for minute in two {
                steps.add(0, minute);
            }
            steps.add(9, two[0]);
            steps.finish()
        };
        for (kind, together, expected) in [
            (Kind::Level, Together::Mean, 4.0),
            // Two series at one minute of two: 8 in half of the time.
            (Kind::Level, Together::Sum, 4.0),
            (Kind::Level, Together::Most, 6.0),
            (Kind::Cumulative, Together::Sum, 8.0),
            (Kind::DeltaDistribution, Together::Mean, 2.0),
            (Kind::DeltaDistribution, Together::Sum, 8.0),
            (Kind::DeltaDistribution, Together::Least, 2.0),
        ] {
            assert_eq!(of(kind, together), [Some(expected), None], "{kind:?} {together:?}");
        }
        for (together, word) in Together::ALL {
            assert_eq!((Together::named(word), together.word()), (Some(together), word));
        }
        for (kind, number, word) in Kind::ALL {
            assert_eq!(
                (Kind::of_number(number), kind.number(), kind.word()),
                (kind, number, word)
            );
        }
    }

    proptest! {
        /// Against a plain model: a process counts, restarts now and then, and reports at times. The rises are what it
        /// counted between its first report and its last, whatever part of them comes late or twice.
        #[test]
        fn rises_are_what_was_counted(
            steps in prop::collection::vec((0_u8..50, prop::bool::weighted(0.1), 0_u8..4), 2..60),
            cut in 0_usize..60,
        ) {
            let (mut counted, mut start, mut model) = (0.0, 0, 0.0);
            let mut points = vec![];
            for (number, (more, restarts, repeats)) in (1_i64..).zip(steps) {
                if restarts && number > 1 {
                    // It starts just after its last report.
                    (counted, start) = (0.0, (number - 1) * 60 + 1);
                }
                counted += f64::from(more);
                model += f64::from(more);
                for _ in 0..=repeats {
                    points.push(point(number * 60, counted, Some(start)));
                }
            }
            let mut sum = None;
            let all = by_minute(Kind::Cumulative, &mut points.clone(), &mut sum);
            let total: f64 = all.values().map(|minute| minute.value).sum();
            prop_assert!((total - model).abs() < 1e-6, "{} {}", total, model);
            // Folded in two parts, as they came, it is the same.
            let (first, second) = points.split_at(cut.min(points.len()));
            let mut sum = None;
            let parts = [first, second].map(|part| {
                let folded = by_minute(Kind::Cumulative, &mut part.to_vec(), &mut sum);
                folded.values().map(|minute| minute.value).sum::<f64>()
            });
            prop_assert!((parts[0] + parts[1] - model).abs() < 1e-6);
        }

        /// A level's minute is the mean of its points, however they are split.
        #[test]
        fn a_level_is_the_mean_of_its_points(
            values in prop::collection::vec(-1e6_f64..1e6, 1..20),
            cut in 0_usize..20,
        ) {
            let points: Vec<Point> = (0..).zip(&values).map(|(second, value)| point(second, *value, None)).collect();
            let (first, second) = points.split_at(cut.min(points.len()));
            let mut whole = Minute::default();
            for part in [first, second] {
                for minute in by_minute(Kind::Level, &mut part.to_vec(), &mut None).into_values() {
                    whole.add(Kind::Level, minute);
                }
            }
            #[expect(clippy::cast_precision_loss, reason = "few")]
            let mean = values.iter().sum::<f64>() / values.len() as f64;
            prop_assert!((whole.value - mean).abs() < 1e-3);
        }
    }
}
