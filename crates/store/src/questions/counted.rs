//! Questions that are answered from counts by the minute, hour and day: whether they are, and the counts as records.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::query::Field;
use outcrop_core::question::{Group, Measure, Question, Source};
use sqlx::{Postgres, QueryBuilder};

use crate::Scope;
use crate::window::{Part, cut, cut_within_hours};

const MINUTE_MS: i64 = 60_000;
const HOUR_MS: i64 = 60 * MINUTE_MS;
const DAY_MS: i64 = 24 * HOUR_MS;

/// Whether a question over a window that begins at a time is answered from counts: it asks for nothing else than whose
/// the failures or requests are, in steps of whole minutes. Such counts reach further back, hold what has no record of
/// its own, and are of whole minutes.
#[must_use]
pub fn is_folded(question: &Question, from: DateTime<Utc>) -> bool {
    let source = question.source;
    let is_counted = |field: &Field| match field {
        Field::Service | Field::Namespace | Field::Environment | Field::Version => source != Source::Lines,
        Field::Error | Field::Title | Field::Kind => source == Source::Occurrences,
        Field::Endpoint => source == Source::Requests,
        _ => false,
    };
    let of_measures = question.measures.iter().all(|measure| match measure {
        Measure::Count | Measure::Failed | Measure::Share => true,
        Measure::Distinct(field) => is_counted(field),
        _ => false,
    });
    let of_groups = question
        .by
        .iter()
        .all(|group| matches!(group, Group::Field(field) if is_counted(field)));
    let tests = question.matching.iter().flat_map(|matching| matching.predicate.tests());
    let mut tests = tests.map(|test| &test.field);
    let of_steps = question
        .each
        .is_none_or(|step| step % MINUTE_MS == 0 && is_whole(from, MINUTE_MS));
    source != Source::Lines
        && of_steps
        && of_measures
        && of_groups
        && tests.all(|field| is_counted(field) || source == Source::Occurrences && field.is_of_error())
}

/// Whether a folded question is answered from counts by the minute alone, which are kept as long as records.
#[must_use]
pub fn is_by_minute(question: &Question, from: DateTime<Utc>) -> bool {
    question
        .each
        .is_some_and(|step| step % HOUR_MS != 0 || !is_whole(from, HOUR_MS))
}

fn is_whole(at: DateTime<Utc>, millis: i64) -> bool {
    at.duration_trunc(TimeDelta::milliseconds(millis)) == Ok(at)
}

/// The parts of a window whose counts each lie in one of the question's steps.
fn parts(question: &Question, from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<Part> {
    if is_by_minute(question, from) {
        return vec![("minute", from, to)];
    }
    match question.each {
        Some(step) if step % DAY_MS != 0 || !is_whole(from, DAY_MS) => cut_within_hours(from, to),
        _ => cut(from, to),
    }
}

/// Writes what was counted over a scope's window, as `o`: `n` of each error or endpoint, environment and version at each
/// time, of requests with those that failed as `f`.
pub(super) fn write(sql: &mut QueryBuilder<Postgres>, question: &Question, scope: &Scope) {
    let minute = TimeDelta::minutes(1);
    let from = scope.from.duration_trunc(minute).unwrap_or(scope.from);
    let to = (scope.to + minute - TimeDelta::microseconds(1))
        .duration_trunc(minute)
        .unwrap_or(scope.to);
    sql.push("(");
    for (at, (step, from, to)) in parts(question, from, to).into_iter().enumerate() {
        sql.push(if at > 0 { " UNION ALL " } else { "" });
        sql.push(match question.source {
            Source::Requests => format!(
                "SELECT t.service_id, t.endpoint_id, t.environment_id, t.version_id, t.requests AS n, t.failed AS f, \
                 t.{step} AS at FROM traffic_{step} t WHERE t.requests > 0"
            ),
            _ => format!(
                "SELECT cause.service_id, t.cause_id, t.environment_id, t.version_id, t.n, 0::bigint AS f, t.{step} AS \
                 at FROM tally_{step} t JOIN cause ON cause.id = t.cause_id WHERE t.n > 0"
            ),
        });
        sql.push(format!(" AND t.{step} >= "))
            .push_bind(from)
            .push(format!(" AND t.{step} < "))
            .push_bind(to);
    }
    sql.push(") o");
}

#[cfg(test)]
mod tests {
    use outcrop_core::question::read;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("count, errors, services of occurrences by version where settled", true)]
    #[case("count of occurrences by error each 5m", true)]
    #[case(
        "count, failed, share of requests by endpoint, version where service = fares each 1h",
        true
    )]
    #[case("count of occurrences by endpoint", false)]
    #[case("users of occurrences by service", false)]
    #[case("count of requests by failed", false)]
    #[case("count, p95 duration of requests by endpoint", false)]
    #[case("count of requests by hour_of_day", false)]
    #[case("count of lines by service", false)]
    fn what_asks_for_nothing_but_whose_they_are_is_counted_already(#[case] text: &str, #[case] expected: bool) {
        let midnight = "2026-11-20T00:00:00Z".parse().unwrap();
        let question = read(text).unwrap();
        assert_eq!(is_folded(&question, midnight), expected);
        let off = midnight + TimeDelta::seconds(20);
        assert_eq!(is_folded(&question, off), expected && question.each.is_none());
    }

    #[rstest]
    #[case("5m", "2026-11-20T00:00:00Z", &["minute"])]
    #[case("1h", "2026-11-20T00:30:00Z", &["minute"])]
    #[case("1h", "2026-11-20T00:00:00Z", &["hour", "minute"])]
    #[case("6h", "2026-11-20T06:00:00Z", &["hour", "minute"])]
    #[case("1d", "2026-11-20T00:00:00Z", &["day", "hour", "minute"])]
    #[case("1d", "2026-11-20T06:00:00Z", &["hour", "minute"])]
    fn a_step_is_read_from_counts_that_lie_within_it(
        #[case] each: &str,
        #[case] from: &str,
        #[case] expected: &[&str],
    ) {
        let question = read(&format!("count of requests each {each} over 2d")).unwrap();
        let from: DateTime<Utc> = from.parse().unwrap();
        let to = from + TimeDelta::days(7) + TimeDelta::minutes(130);
        let mut found: Vec<&str> = parts(&question, from, to).iter().map(|part| part.0).collect();
        found.sort_unstable();
        found.dedup();
        assert_eq!(found, expected);
        let length: TimeDelta = parts(&question, from, to).iter().map(|(_, from, to)| *to - *from).sum();
        assert_eq!(length, to - from);
    }
}
