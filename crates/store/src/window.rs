//! The part of all telemetry that a question looks at: a window of time, a service, an environment, a version.

use std::sync::Arc;

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::query::Predicate;
use sqlx::{Postgres, QueryBuilder};

/// What part of all errors is looked at. Counts are by the minute: the window is widened to whole minutes.
#[derive(Clone, Debug)]
pub struct Scope {
    /// Only errors of services of this name.
    pub service: Option<String>,
    /// Only what happened in this environment.
    pub environment: Option<String>,
    /// Only what happened in this version.
    pub version: Option<String>,
    /// Beginning of the window.
    pub from: DateTime<Utc>,
    /// End of the window, excluded.
    pub to: DateTime<Utc>,
    /// Only occurrences for which it holds.
    pub predicate: Option<Arc<Predicate>>,
}

impl Scope {
    /// Adds the conditions that rows of `table`, which have a service, an environment and a version, are in scope.
    pub(crate) fn narrow(&self, sql: &mut QueryBuilder<Postgres>, table: &str) {
        self.narrow_service(sql, &format!("{table}.service_id"));
        self.narrow_place(sql, table);
    }

    /// Adds the condition that a column holds a service in scope.
    pub(crate) fn narrow_service(&self, sql: &mut QueryBuilder<Postgres>, column: &str) {
        if let Some(service) = &self.service {
            sql.push(format!(" AND {column} IN (SELECT services_named("))
                .push_bind(service.clone())
                .push("))");
        }
    }

    /// Adds the conditions that rows of `table` have an environment and a version in scope.
    pub(crate) fn narrow_place(&self, sql: &mut QueryBuilder<Postgres>, table: &str) {
        for (column, names, name, value) in [
            ("environment_id", "environment", "name", &self.environment),
            ("version_id", "version", "label", &self.version),
        ] {
            if let Some(value) = value {
                sql.push(format!(
                    " AND {table}.{column} IN (SELECT id FROM {names} WHERE {name} = "
                ))
                .push_bind(value.clone())
                .push(")");
            }
        }
    }
}

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

/// Cuts a window into what is read by the hour and by the minute.
pub(crate) fn cut_within_hours(from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<Part> {
    let (first, end) = whole(from, to, TimeDelta::hours(1));
    let parts = [("minute", from, first), ("hour", first, end), ("minute", end, to)];
    parts.into_iter().filter(|(_, from, to)| from < to).collect()
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
    fn a_scope_narrows_by_what_it_names_and_by_nothing_else() {
        let from = at("2026-11-08T09:00:00Z");
        let mut scope = Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to: from,
            predicate: None,
        };
        let narrowed = |scope: &Scope| {
            let mut sql = QueryBuilder::new("");
            scope.narrow(&mut sql, "t");
            sql.sql().as_str().to_owned()
        };
        assert_eq!(narrowed(&scope), "");
        scope.service = Some("fares".to_owned());
        scope.version = Some("2.4.0".to_owned());
        assert_eq!(
            narrowed(&scope),
            " AND t.service_id IN (SELECT services_named($1)) AND t.version_id IN \
             (SELECT id FROM version WHERE label = $2)"
        );
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
