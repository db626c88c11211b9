//! Metrics that services send: what a point says, and what points come to by the minute.
//!
//! The kinds are those of OpenTelemetry's metrics data model. A *level* says how much there is: a gauge, or a sum that
//! may fall. An *increase* says how much more there is than before. Sums since a beginning are turned into increases
//! by [`Sum::take`], which handles resets, repetitions and points that come late.

mod buckets;
mod exposition;
mod load;
mod spread;
mod steps;

use std::collections::BTreeMap;

use crate::Timestamp;

pub use buckets::{Buckets, MAX_BOUNDS, Side};
pub use exposition::open_metrics;
pub use load::{Figure, Highest, highest_before};
pub use spread::Spread;
pub use steps::{Steps, Together};

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
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    /// When it was read.
    pub at: Timestamp,
    /// From when on it counts, where that was sent.
    pub start: Option<Timestamp>,
    /// The value; of a distribution the sum of its measurements.
    pub value: f64,
    /// Of a distribution the number of measurements, else 0.
    pub count: u64,
    /// Of a distribution its buckets, where they were sent.
    pub buckets: Option<Buckets>,
}

/// How far a beginning may lie before a series' first point for the point to be an increase: longer ago, nobody knows
/// when what it counts came.
const FRESH_MS: i64 = 5 * 60_000;
/// By how much the beginning of a new count may lie before the last point of the old one: clocks differ.
const OVERLAP_MS: i64 = 1_000;

/// Where a sum since a beginning stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Sum {
    /// Its last point.
    pub last: Point,
}

impl Sum {
    /// Takes the next point of a sum, and returns what came since the one before, as a point; `None` where that is not
    /// known: of a first point that counts from long ago, and of a point that is not newer than the last one.
    ///
    /// A sum begins anew where it names a beginning after the last point, or fell; a distribution where its count fell.
    pub fn take(before: &mut Option<Self>, point: Point, kind: Kind) -> Option<Point> {
        let Some(Self { last }) = before.as_ref() else {
            let is_fresh = point
                .start
                .is_some_and(|start| point.at.millis() - start.millis() <= FRESH_MS);
            *before = Some(Self { last: point.clone() });
            return is_fresh.then_some(point);
        };
        if point.at <= last.at {
            return None;
        }
        let names_beginning = point
            .start
            .is_some_and(|start| start.millis() >= last.at.millis() - OVERLAP_MS);
        let fell = if kind.is_distribution() {
            point.count < last.count
        } else {
            point.value < last.value
        };
        let rise = if names_beginning || fell {
            point.clone()
        } else {
            let buckets = point.buckets.as_ref().zip(last.buckets.as_ref());
            Point {
                value: point.value - last.value,
                count: point.count.saturating_sub(last.count),
                buckets: buckets.and_then(|(now, then)| now.since(then)),
                ..point
            }
        };
        *before = Some(Self { last: point });
        Some(rise)
    }
}

/// What the points of one minute come to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Minute {
    /// Of a level the mean of its points, of an increase their sum, of a distribution the sum of its measurements.
    pub value: f64,
    /// Of a level the number of points, of a distribution the number of measurements, else 0.
    pub count: u64,
    /// Of a distribution how its measurements are spread, as far as that is known.
    pub spread: Spread,
}

/// What points of one series come to by the minute since 1970. `sum` is where a sum since a beginning stands, and stands
/// anew afterwards. Points may come in any order.
#[must_use]
pub fn by_minute(kind: Kind, mut points: Vec<Point>, sum: &mut Option<Sum>) -> BTreeMap<i64, Minute> {
    points.sort_by_key(|point| point.at);
    let mut minutes: BTreeMap<i64, Minute> = BTreeMap::new();
    for point in points {
        let at = point.at;
        let came = if kind.is_cumulative() {
            Sum::take(sum, point, kind)
        } else {
            Some(point)
        };
        let Some(came) = came else { continue };
        let more = Minute {
            value: came.value,
            count: match kind {
                Kind::Level => 1,
                Kind::Delta | Kind::Cumulative => 0,
                Kind::DeltaDistribution | Kind::CumulativeDistribution => came.count,
            },
            spread: came.buckets.as_ref().map(Spread::of).unwrap_or_default(),
        };
        let minute = minutes.entry(at.millis().div_euclid(60_000)).or_default();
        minute.add(kind, &more);
    }
    minutes
}

impl Minute {
    /// Adds what came later of the same minute.
    pub fn add(&mut self, kind: Kind, more: &Self) {
        let count = self.count.saturating_add(more.count);
        self.value = if kind == Kind::Level {
            #[expect(clippy::cast_precision_loss, reason = "points of a minute are few")]
            let (own, other, all) = (self.count as f64, more.count as f64, count.max(1) as f64);
            (self.value * own + more.value * other) / all
        } else {
            self.value + more.value
        };
        self.count = count;
        self.spread.merge(&more.spread);
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
            buckets: None,
        }
    }

    fn rises(points: &[Point]) -> Vec<Option<f64>> {
        let mut sum = None;
        points
            .iter()
            .map(|point| Sum::take(&mut sum, point.clone(), Kind::Cumulative).map(|rise| rise.value))
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
            let minutes = by_minute(kind, points.to_vec(), &mut None);
            minutes
                .into_iter()
                .map(|(minute, said)| (minute, said.value, said.count))
                .collect::<Vec<_>>()
        };
        let points = [point(5, 2.0, None), point(50, 4.0, None), point(65, 9.0, None)];
        assert_eq!(of(Kind::Level, &points), [(0, 3.0, 2), (1, 9.0, 1)]);
        assert_eq!(of(Kind::Delta, &points), [(0, 6.0, 0), (1, 9.0, 0)]);
        assert_eq!(of(Kind::Cumulative, &points), [(0, 2.0, 0), (1, 5.0, 0)]);
        let measured = [(3, &points[0]), (1, &points[1])].map(|(count, point)| Point { count, ..point.clone() });
        assert_eq!(of(Kind::DeltaDistribution, &measured), [(0, 6.0, 4)]);
    }

    #[test]
    fn a_kind_is_stored_and_read_back() {
        for (kind, number, word) in Kind::ALL {
            assert_eq!(
                (Kind::of_number(number), kind.number(), kind.word()),
                (kind, number, word)
            );
        }
    }

    #[test]
    fn a_distribution_since_a_beginning_is_told_by_what_came_in_its_buckets() {
        let at = |minute: i64, counts: &[u64], sum: f64| Point {
            count: counts.iter().sum(),
            buckets: Buckets::new(vec![1.0, 2.0, 4.0], counts.to_vec()),
            ..point(minute * 60, sum, None)
        };
        let kind = Kind::CumulativeDistribution;
        // Measurements may be below zero: that the sum falls is no beginning.
        let points = vec![
            at(1, &[5, 0, 0, 0], 3.0),
            at(2, &[5, 4, 0, 0], 2.0),
            at(3, &[1, 0, 1, 0], 4.0),
        ];
        let minutes = by_minute(kind, points, &mut None);
        let said: Vec<_> = minutes.values().map(|minute| (minute.value, minute.count)).collect();
        assert_eq!(said, [(-1.0, 4), (4.0, 2)], "it fell, so it began anew");
        let median = minutes[&2].spread.percentile(0.5).unwrap();
        assert!((1.0..2.0).contains(&median), "{median}");
        // Other buckets than before: how many came is known, how they are spread is not.
        let other = Point {
            buckets: Buckets::new(vec![1.5], vec![9, 0]),
            ..at(2, &[9, 0, 0, 0], 9.0)
        };
        let minutes = by_minute(kind, vec![at(1, &[5, 1, 0, 0], 3.0), other], &mut None);
        assert_eq!((minutes[&2].count, minutes[&2].spread.is_empty()), (3, true));
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
            let all = by_minute(Kind::Cumulative, points.clone(), &mut sum);
            let total: f64 = all.values().map(|minute| minute.value).sum();
            prop_assert!((total - model).abs() < 1e-6, "{} {}", total, model);
            // Folded in two parts, as they came, it is the same.
            let (first, second) = points.split_at(cut.min(points.len()));
            let mut sum = None;
            let parts = [first, second].map(|part| {
                let folded = by_minute(Kind::Cumulative, part.to_vec(), &mut sum);
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
                for minute in by_minute(Kind::Level, part.to_vec(), &mut None).into_values() {
                    whole.add(Kind::Level, &minute);
                }
            }
            #[expect(clippy::cast_precision_loss, reason = "few")]
            let mean = values.iter().sum::<f64>() / values.len() as f64;
            prop_assert!((whole.value - mean).abs() < 1e-3);
        }
    }
}
