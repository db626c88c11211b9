//! What a window's counts are read from: whole days, whole hours, and the minutes at its ends.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};

/// A part of a window: the step its counts are kept by (`day`, `hour`, `minute`: a column's name
/// and a table's ending), from, to.
pub(crate) type Part = (&'static str, DateTime<Utc>, DateTime<Utc>);

fn floor(at: DateTime<Utc>, step: TimeDelta) -> DateTime<Utc> {
    at.duration_trunc(step).unwrap_or(at)
}

fn ceil(at: DateTime<Utc>, step: TimeDelta) -> DateTime<Utc> {
    let start = floor(at, step);
    if start < at { start + step } else { start }
}

/// What of `from..to` lies in whole steps, and what remains before and after; without a whole step,
/// all of it remains before.
fn whole(from: DateTime<Utc>, to: DateTime<Utc>, step: TimeDelta) -> (DateTime<Utc>, DateTime<Utc>) {
    let (first, end) = (ceil(from, step), floor(to, step));
    if first < end { (first, end) } else { (to, to) }
}

/// Cuts a window into what is read by the day, by the hour and by the minute.
pub(crate) fn cut(from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<Part> {
    let (first, end) = whole(from, to, TimeDelta::hours(1));
    let minutes = [("minute", from, first), ("minute", end, to)];
    minutes
        .into_iter()
        .chain(cut_hours(first, end))
        .filter(|(_, from, to)| from < to)
        .collect()
}

/// Cuts a window of whole hours into what is read by the day and by the hour.
pub(crate) fn cut_hours(from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<Part> {
    let (first, end) = whole(from, to, TimeDelta::days(1));
    let parts = [("hour", from, first), ("day", first, end), ("hour", end, to)];
    parts.into_iter().filter(|(_, from, to)| from < to).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    #[test]
    fn parts_of_a_window_join_without_gap_or_overlap() {
        let windows = [
            ("2026-11-20T10:20:30Z", "2026-11-27T23:59:59Z", 5),
            ("2026-11-27T00:00:00Z", "2026-11-28T00:00:00Z", 1),
            ("2026-11-27T10:20:00Z", "2026-11-27T10:50:00Z", 1),
            ("2026-11-27T10:20:00Z", "2026-11-27T13:00:00Z", 2),
            ("2026-11-27T23:30:00Z", "2026-11-29T00:10:00Z", 3),
        ];
        for (from, to, count) in windows {
            let mut parts = cut(at(from), at(to));
            assert_eq!(parts.len(), count, "{parts:?}");
            parts.sort_by_key(|(_, from, _)| *from);
            assert!(parts.windows(2).all(|pair| pair[0].2 == pair[1].1), "{parts:?}");
            assert_eq!((parts[0].1, parts[count - 1].2), (at(from), at(to)));
            for (step, from, to) in parts {
                let length = if step == "day" {
                    TimeDelta::days(1)
                } else {
                    TimeDelta::hours(1)
                };
                assert!(
                    step == "minute" || floor(from, length) == from && floor(to, length) == to,
                    "{step} {from} {to}"
                );
            }
        }
    }
}
