//! Metrics: what services send, folded by the minute into rows of an hour, and questions counted for good into the same rows;
//! read over time.

mod counting;
mod folding;
mod load;
mod reading;
#[cfg(test)]
mod tests;

pub use counting::{
    CountedQuestion, Counting, MAX_COUNTED, NewCounted, count, counted, counted_as, round as count_hours, uncount,
};
pub use folding::fold;
pub use load::figures;
pub use reading::{Asked, Course, Line, Listed, MAX_SERIES, course, list};

use outcrop_core::metric::{Buckets, Kind, Minute, Point, Spread, Sum};

use crate::from_utc;
use chrono::{DateTime, Utc};

/// Where a sum since a beginning stands, as it is stored.
#[derive(Clone, Debug, PartialEq, sqlx::FromRow)]
struct Standing {
    #[sqlx(rename = "sum_at")]
    at: Option<DateTime<Utc>>,
    #[sqlx(rename = "sum_start")]
    start: Option<DateTime<Utc>>,
    #[sqlx(rename = "sum_value")]
    value: Option<f64>,
    #[sqlx(rename = "sum_count")]
    count: Option<i64>,
    #[sqlx(rename = "sum_buckets")]
    buckets: Option<Vec<u8>>,
}

impl Standing {
    fn sum(&self) -> Option<Sum> {
        Some(Sum {
            last: Point {
                at: from_utc(self.at?),
                start: self.start.map(from_utc),
                value: self.value?,
                count: self.count.unwrap_or_default().unsigned_abs(),
                buckets: self.buckets.as_deref().and_then(Buckets::from_bytes),
            },
        })
    }
}

/// Points of one series as they are stored, column by column.
#[derive(sqlx::FromRow)]
struct Points {
    series_id: i32,
    at: Vec<DateTime<Utc>>,
    start_at: Vec<Option<DateTime<Utc>>>,
    value: Vec<f64>,
    n: Vec<i64>,
    buckets: Vec<Option<Vec<u8>>>,
}

impl Points {
    fn each(&self) -> Vec<Point> {
        let times = self.at.iter().zip(&self.start_at);
        let numbers = self.value.iter().zip(&self.n).zip(&self.buckets);
        times
            .zip(numbers)
            .map(|((at, start), ((value, n), buckets))| Point {
                at: from_utc(*at),
                start: start.map(from_utc),
                value: *value,
                count: n.unsigned_abs(),
                buckets: buckets.as_deref().and_then(Buckets::from_bytes),
            })
            .collect()
    }
}

/// An hour of a series as it is stored: what its minutes come to, column by column.
#[derive(sqlx::FromRow)]
struct HourRow {
    series_id: i32,
    hour: DateTime<Utc>,
    minute_values: Vec<Option<f32>>,
    minute_counts: Option<Vec<Option<i32>>>,
    minute_spreads: Option<Vec<Option<Vec<u8>>>>,
}

impl HourRow {
    /// The minutes that something came in, by their place in the hour.
    fn minutes(&self, kind: Kind) -> impl Iterator<Item = (usize, Minute)> + '_ {
        self.minute_values.iter().enumerate().filter_map(move |(place, value)| {
            let count = self.minute_counts.as_ref().and_then(|counts| *counts.get(place)?);
            let spread = self
                .minute_spreads
                .as_ref()
                .and_then(|spreads| spreads.get(place)?.as_deref());
            let minute = Minute {
                value: f64::from((*value)?),
                count: count.map_or(u64::from(kind == Kind::Level), |count| u64::from(count.unsigned_abs())),
                spread: spread.and_then(Spread::from_bytes).unwrap_or_default(),
            };
            Some((place, minute))
        })
    }
}

fn kind(number: i16) -> Kind {
    Kind::of_number(number)
}
