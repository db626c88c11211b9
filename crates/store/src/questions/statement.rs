//! The statement that answers a question.
//!
//! Records are picked with their keys and what is measured, groups are ranked, each record gets the place of its group
//! or none, and all is summed by place and step, by place, and together (`GROUPING SETS`).

use chrono::{DurationRound, TimeDelta};
use outcrop_core::query::Field;
use outcrop_core::question::{Column, Group, Measure, Question, Source};
use sqlx::{Postgres, QueryBuilder};

use super::answer::Found;
use super::fields::{Beside, key, reference, stored, text};
use crate::asking::{resolve, within};
use crate::window::cut;
use crate::{Database, Scope, StoreError};

/// Answers over a window; where `keys` are given, these groups alone are shown, in their order, and nothing by steps.
pub(super) async fn run(
    database: &Database,
    question: &Question,
    scope: &Scope,
    keys: Option<&[Vec<String>]>,
) -> Result<Vec<Found>, StoreError> {
    let beside = Beside::read(database, question, scope).await?;
    let is_folded = is_folded(question);
    let step = question.each.filter(|_| keys.is_none());
    let mut sql = QueryBuilder::new("WITH picked AS MATERIALIZED (SELECT ");
    if is_folded {
        sql.push("o.n, ");
    }
    for (at, group) in question.by.iter().enumerate() {
        key(database, &mut sql, (question.source, group)).await?;
        sql.push(format!(" AS g{at}, "));
        if *group == Group::Field(Field::Version) {
            sql.push(format!("o.version_id AS n{at}, "));
        }
    }
    for (at, measure) in question.measures.iter().enumerate() {
        if operand(database, &mut sql, (question.source, measure)).await? {
            sql.push(format!(" AS m{at}, "));
        }
    }
    match step {
        Some(step) => {
            #[expect(clippy::cast_precision_loss, reason = "a step of at most a year")]
            let seconds = step as f64 / 1_000.0;
            sql.push("floor(extract(epoch FROM id_time(o.id) - ")
                .push_bind(scope.from)
                .push(") / ")
                .push_bind(seconds)
                .push(")::int AS step FROM ");
        }
        None => {
            sql.push("NULL::int AS step FROM ");
        }
    }
    match question.source {
        _ if is_folded => counts(&mut sql, scope),
        Source::Occurrences => {
            sql.push("occurrence o");
        }
        Source::Lines => {
            sql.push("log_record o");
        }
    }
    beside.join(&mut sql);
    sql.push(" WHERE ");
    if is_folded {
        sql.push("true");
        scope.narrow(&mut sql, "o");
    } else {
        within(&mut sql, scope);
    }
    if let Some(predicate) = &scope.predicate {
        let condition = resolve(database, predicate, scope).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push("), ");
    let records = if is_folded { SUM } else { COUNT };
    place(&mut sql, (question, records), keys);
    sum(&mut sql, (question, records), step.is_some());
    let mut found: Vec<Found> = sql.build_query_as().fetch_all(&database.pool).await?;
    for (at, group) in question.by.iter().enumerate() {
        if *group == Group::Field(Field::Error) {
            for key in found.iter_mut().filter_map(|row| row.keys.get_mut(at)?.as_mut()) {
                *key = reference(key);
            }
        }
    }
    Ok(found)
}

/// How records are counted: one by one, or as what was counted of them.
const COUNT: &str = "count(*)";
const SUM: &str = "coalesce(sum(n), 0)::bigint";

/// Whether a question is answered from what is counted of each error by minute, hour and day: it asks for nothing else
/// than whose the failures are. Such counts reach further back, hold what has no record of its own, and are of whole
/// minutes.
pub fn is_folded(question: &Question) -> bool {
    let is_counted = |field: &Field| {
        matches!(
            field,
            Field::Service
                | Field::Namespace
                | Field::Environment
                | Field::Version
                | Field::Error
                | Field::Title
                | Field::Kind
        )
    };
    let of_measures = question.measures.iter().all(|measure| match measure {
        Measure::Count => true,
        Measure::Distinct(field) => is_counted(field),
        _ => false,
    });
    let of_groups = question
        .by
        .iter()
        .all(|group| matches!(group, Group::Field(field) if is_counted(field)));
    let tests = question.matching.iter().flat_map(|matching| matching.predicate.tests());
    let mut tests = tests.map(|test| &test.field);
    question.source == Source::Occurrences
        && question.each.is_none()
        && of_measures
        && of_groups
        && tests.all(|field| is_counted(field) || field.is_of_error())
}

/// Writes what was counted over a scope's window, as `o`: of each error, environment and version in each step.
fn counts(sql: &mut QueryBuilder<Postgres>, scope: &Scope) {
    let minute = TimeDelta::minutes(1);
    let from = scope.from.duration_trunc(minute).unwrap_or(scope.from);
    let to = (scope.to + minute - TimeDelta::microseconds(1))
        .duration_trunc(minute)
        .unwrap_or(scope.to);
    sql.push("(");
    for (at, (step, from, to)) in cut(from, to).into_iter().enumerate() {
        sql.push(if at > 0 { " UNION ALL " } else { "" });
        sql.push(format!(
            "SELECT cause.service_id, t.cause_id, t.environment_id, t.version_id, t.n FROM tally_{step} t JOIN cause \
             ON cause.id = t.cause_id WHERE t.n > 0 AND t.{step} >= "
        ))
        .push_bind(from)
        .push(format!(" AND t.{step} < "))
        .push_bind(to);
    }
    sql.push(") o");
}

/// Writes what is measured of a record; whether anything is.
async fn operand(
    database: &Database,
    sql: &mut QueryBuilder<Postgres>,
    (source, measure): (Source, &Measure),
) -> Result<bool, StoreError> {
    match measure {
        Measure::Count => return Ok(false),
        Measure::First | Measure::Last => {
            sql.push("id_time(o.id)");
        }
        Measure::Distinct(Field::User) if source == Source::Occurrences => {
            sql.push("nullif(o.user_hash, 0)");
        }
        Measure::Distinct(field) => {
            sql.push("nullif(");
            text(database, sql, (source, field)).await?;
            sql.push(", '')");
        }
        Measure::Latest(field) => {
            sql.push("o.id::text || nullif(");
            text(database, sql, (source, field)).await?;
            sql.push(", '')");
        }
        Measure::Sum(field)
        | Measure::Mean(field)
        | Measure::Least(field)
        | Measure::Most(field)
        | Measure::Percentile(_, field) => {
            // As outcrop_core::query::number_in reads numbers: other text has none.
            sql.push("CASE WHEN (");
            text(database, sql, (source, field)).await?;
            sql.push(") ~ '^-?[0-9]{1,15}([.][0-9]{1,15})?$' THEN (");
            text(database, sql, (source, field)).await?;
            sql.push(")::float8 END");
        }
    }
    Ok(true)
}

/// The sum of a measure over records, of which it is `m` and its number; `records` counts them.
fn aggregate(at: usize, measure: &Measure, records: &str) -> String {
    let m = format!("m{at}");
    match measure {
        Measure::Count => records.to_owned(),
        Measure::Distinct(_) => format!("count(DISTINCT {m})"),
        Measure::Sum(_) => format!("sum({m})"),
        Measure::Mean(_) => format!("avg({m})"),
        Measure::Least(_) => format!("min({m})"),
        Measure::Most(_) => format!("max({m})"),
        Measure::Percentile(tenths, _) => {
            format!(
                "percentile_cont({:.3}) WITHIN GROUP (ORDER BY {m})",
                f64::from(*tenths) / 1_000.0
            )
        }
        Measure::First => format!("(extract(epoch FROM min({m})) * 1000)::bigint"),
        Measure::Last => format!("(extract(epoch FROM max({m})) * 1000)::bigint"),
        // An id as text is 36 characters long, and in the order of time.
        Measure::Latest(_) => format!("substr(max({m} COLLATE \"C\"), 37) COLLATE \"C\""),
    }
}

/// Writes `placed`: the picked records with the place of their group, counted from 1; none for what is not shown.
fn place(sql: &mut QueryBuilder<Postgres>, (question, records): (&Question, &str), keys: Option<&[Vec<String>]>) {
    let columns: Vec<String> = (0..question.by.len()).map(|at| format!("g{at}")).collect();
    if columns.is_empty() {
        sql.push("placed AS (SELECT picked.*, 1::bigint AS place, 1::bigint AS groups FROM picked)");
        return;
    }
    let list = columns.join(", ");
    let shown = i64::from(question.shown());
    if let Some(keys) = keys {
        sql.push(format!(
            "ranked AS (SELECT {list}, place, NULL::bigint AS groups FROM UNNEST("
        ));
        for (at, column) in stored(question, keys).into_iter().enumerate() {
            sql.push(if at > 0 { ", " } else { "" })
                .push_bind(column)
                .push("::text[]");
        }
        sql.push(format!(") WITH ORDINALITY AS given ({list}, place)), "));
    } else {
        let order = question.ordered();
        let by = match order.column {
            Column::Measure(at) => question.measures.get(at).map(|measure| aggregate(at, measure, records)),
            Column::Group(at) => Some(match question.by.get(at) {
                // Versions get their numbers in the order in which they came.
                Some(Group::Field(Field::Version)) => format!("min(n{at})"),
                _ => format!("min(g{at} COLLATE \"C\")"),
            }),
        };
        let way = if order.up { "ASC" } else { "DESC" };
        let ties = columns
            .iter()
            .map(|column| format!("{column} COLLATE \"C\""))
            .collect::<Vec<_>>()
            .join(", ");
        sql.push(format!(
            "ranked AS (SELECT {list}, row_number() OVER (ORDER BY {} {way} NULLS LAST, {ties}) AS place, count(*) OVER \
             () AS groups FROM picked GROUP BY {list}), ",
            by.unwrap_or_else(|| records.to_owned())
        ));
    }
    sql.push(format!(
        "placed AS (SELECT picked.*, CASE WHEN ranked.place <= {shown} THEN ranked.place END AS place, ranked.groups \
         FROM picked LEFT JOIN ranked USING ({list}))"
    ));
}

/// Writes what is read of `placed`.
fn sum(sql: &mut QueryBuilder<Postgres>, (question, records): (&Question, &str), is_over_time: bool) {
    let values: Vec<String> = (question.measures.iter().enumerate())
        .map(|(at, measure)| format!("({})::text", aggregate(at, measure, records)))
        .collect();
    let keys: Vec<String> = (0..question.by.len())
        .map(|at| format!("min(g{at} COLLATE \"C\")"))
        .collect();
    let (sets, step) = if is_over_time {
        (
            "(place, step), (step), (place), ()",
            "step, GROUPING(step) = 1 AS is_whole",
        )
    } else {
        ("(place), ()", "NULL::int AS step, true AS is_whole")
    };
    sql.push(format!(
        " SELECT place, {step}, GROUPING(place) = 1 AS is_total, ARRAY[{}]::text[] AS keys, ARRAY[{}] AS values, \
         max(groups) AS groups FROM placed GROUP BY GROUPING SETS ({sets})",
        keys.join(", "),
        values.join(", ")
    ));
}
