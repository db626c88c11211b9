//! Metrics that services send: folded by the minute into rows of an hour, and read over time.

mod folding;
mod reading;
#[cfg(test)]
mod tests;

pub use folding::fold;
pub use reading::{Asked, Course, Line, Listed, MAX_LINES, MAX_SERIES, course, list};

use outcrop_core::metric::{Kind, Minute, Point, Sum};

use crate::from_utc;
use chrono::{DateTime, Utc};

/// Where a sum since a beginning stands, as it is stored.
#[derive(Clone, Copy, Debug, PartialEq, sqlx::FromRow)]
struct Standing {
    #[sqlx(rename = "sum_at")]
    at: Option<DateTime<Utc>>,
    #[sqlx(rename = "sum_start")]
    start: Option<DateTime<Utc>>,
    #[sqlx(rename = "sum_value")]
    value: Option<f64>,
    #[sqlx(rename = "sum_count")]
    count: Option<i64>,
}

impl Standing {
    fn sum(self) -> Option<Sum> {
        Some(Sum {
            last: Point {
                at: from_utc(self.at?),
                start: self.start.map(from_utc),
                value: self.value?,
                count: self.count.unwrap_or_default().unsigned_abs(),
            },
        })
    }
}

/// A point as it is stored.
fn point(at: DateTime<Utc>, start: Option<DateTime<Utc>>, value: f64, n: i64) -> Point {
    Point {
        at: from_utc(at),
        start: start.map(from_utc),
        value,
        count: n.unsigned_abs(),
    }
}

/// An hour of a series as it is stored: the series, the hour, values and counts by the minute.
type HourRow = (i32, DateTime<Utc>, Vec<Option<f32>>, Option<Vec<Option<i32>>>);

/// The minutes of an hour that something came in, by their place in it.
fn minutes_of<'a>(
    kind: Kind,
    values: &'a [Option<f32>],
    counts: Option<&'a [Option<i32>]>,
) -> impl Iterator<Item = (usize, Minute)> + 'a {
    values.iter().enumerate().filter_map(move |(place, value)| {
        let count = counts.and_then(|counts| counts.get(place).copied().flatten());
        Some((
            place,
            Minute {
                value: f64::from((*value)?),
                count: count.map_or(u64::from(kind == Kind::Level), |count| u64::from(count.unsigned_abs())),
            },
        ))
    })
}

fn kind(number: i16) -> Kind {
    Kind::of_number(number)
}
