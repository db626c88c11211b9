//! The statement that answers a question.
//!
//! Records are picked with their keys and what is measured, groups are ranked, each record gets the place of its group
//! or none, and all is summed by place and step, by place, and together (`GROUPING SETS`).

use outcrop_core::query::Field;
use outcrop_core::question::{Column, Group, Measure, Question, Source};
use sqlx::{Postgres, QueryBuilder};

use super::answer::Found;
use super::counted::{self, is_folded};
use super::fields::{Beside, key, reference, stored, text};
use crate::asking::{resolve_for, within};
use crate::{Database, Scope, StoreError};

/// Answers over a window; where `keys` are given, these groups alone are shown, in their order, and nothing by steps.
pub(super) async fn run(
    database: &Database,
    question: &Question,
    scope: &Scope,
    keys: Option<&[Vec<String>]>,
) -> Result<Vec<Found>, StoreError> {
    let beside = Beside::read(database, question, scope).await?;
    let counting = Counting::of(question, scope);
    let is_folded = counting == Counting::Folded;
    let step = question.each.filter(|_| keys.is_none());
    let mut sql = QueryBuilder::new("WITH picked AS MATERIALIZED (SELECT ");
    sql.push(match counting {
        Counting::Each => "",
        Counting::Folded => "o.n, o.f, ",
        Counting::Weighed => "o.w, o.is_failed, ",
    });
    for (at, group) in question.by.iter().enumerate() {
        key(database, &mut sql, (question, group)).await?;
        sql.push(format!(" AS g{at}, "));
        if *group == Group::Field(Field::Version) {
            sql.push(format!("o.version_id AS n{at}, "));
        }
    }
    for (at, measure) in question.measures.iter().enumerate() {
        if operand(database, &mut sql, (question, measure)).await? {
            sql.push(format!(" AS m{at}, "));
        }
    }
    match step {
        Some(step) => {
            #[expect(clippy::cast_precision_loss, reason = "a step of at most a year")]
            let seconds = step as f64 / 1_000.0;
            let time = if is_folded { "o.at" } else { "id_time(o.id)" };
            sql.push(format!("floor(extract(epoch FROM {time} - "))
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
        _ if is_folded => counted::write(&mut sql, question, scope),
        Source::Occurrences => {
            sql.push("occurrence o");
        }
        Source::Lines => {
            sql.push("log_record o");
        }
        Source::Requests => {
            sql.push(SAMPLE);
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
        let condition = resolve_for(database, predicate, scope, question.source).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push("), ");
    place(&mut sql, (question, counting), keys);
    sum(&mut sql, (question, counting), step.is_some());
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

/// How records are counted.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Counting {
    /// One by one.
    Each,
    /// As what was counted of them before.
    Folded,
    /// As what each stands for: of a sample.
    Weighed,
}

impl Counting {
    fn of(question: &Question, scope: &Scope) -> Self {
        match question.source {
            _ if is_folded(question, scope.from) => Self::Folded,
            Source::Requests => Self::Weighed,
            Source::Occurrences | Source::Lines => Self::Each,
        }
    }

    /// Their number.
    const fn records(self) -> &'static str {
        match self {
            Self::Each => "count(*)",
            Self::Folded => "coalesce(sum(n), 0)::bigint",
            Self::Weighed => "coalesce(round(sum(w)), 0)::bigint",
        }
    }

    /// By which part of their number it may be off, 19 times in 20: each was drawn once in as many as it stands for.
    const fn margin(self) -> &'static str {
        match self {
            Self::Weighed => "1.96 * sqrt(greatest(sum(w * (w - 1)), 0)) / nullif(sum(w), 0)",
            _ => "NULL::float8",
        }
    }
}

/// Sampled requests as records. Where it is not kept whether one failed, its status says it; a sender may have sent
/// anything under that name.
const SAMPLE: &str = "(SELECT id, service_id, environment_id, version_id, endpoint_id, attributes, NULL::uuid AS \
                      resource, weight::float8 AS w, CASE attributes ->> 'outcrop.request.failed' WHEN 'true' THEN \
                      true WHEN 'false' THEN false ELSE attributes ->> 'http.response.status_code' >= '500' END AS \
                      is_failed FROM request_sample) o";

/// Writes what is measured of a record; whether anything is.
async fn operand(
    database: &Database,
    sql: &mut QueryBuilder<Postgres>,
    (question, measure): (&Question, &Measure),
) -> Result<bool, StoreError> {
    match measure {
        Measure::Count | Measure::Failed | Measure::Share => return Ok(false),
        Measure::First | Measure::Last => {
            sql.push("id_time(o.id)");
        }
        Measure::Distinct(Field::User) if question.source == Source::Occurrences => {
            sql.push("nullif(o.user_hash, 0)");
        }
        Measure::Distinct(field) => {
            sql.push("nullif(");
            text(database, sql, (question, field)).await?;
            sql.push(", '')");
        }
        Measure::Latest(field) => {
            sql.push("o.id::text || nullif(");
            text(database, sql, (question, field)).await?;
            sql.push(", '')");
        }
        Measure::Sum(field)
        | Measure::Mean(field)
        | Measure::Least(field)
        | Measure::Most(field)
        | Measure::Percentile(_, field) => {
            // As outcrop_core::query::number_in reads numbers: other text has none.
            sql.push("CASE WHEN (");
            text(database, sql, (question, field)).await?;
            sql.push(") ~ '^-?[0-9]{1,15}([.][0-9]{1,15})?$' THEN (");
            text(database, sql, (question, field)).await?;
            sql.push(")::float8 END");
        }
    }
    Ok(true)
}

/// The sum of a measure over records, of which it is `m` and its number.
fn aggregate(at: usize, measure: &Measure, counting: Counting) -> String {
    let m = format!("m{at}");
    let is_weighed = counting == Counting::Weighed;
    let failed = if is_weighed {
        "sum(w) FILTER (WHERE is_failed)"
    } else {
        "sum(f)"
    };
    let all = if is_weighed { "sum(w)" } else { "sum(n)" };
    match measure {
        Measure::Count => counting.records().to_owned(),
        Measure::Failed => format!("coalesce(round({failed}), 0)::bigint"),
        Measure::Share => format!("coalesce({failed}, 0)::float8 / nullif({all}, 0)::float8"),
        Measure::Distinct(_) => format!("count(DISTINCT {m})"),
        Measure::Sum(_) if is_weighed => format!("sum(w * {m})"),
        Measure::Sum(_) => format!("sum({m})"),
        Measure::Mean(_) if is_weighed => format!("sum(w * {m}) / nullif(sum(w) FILTER (WHERE {m} IS NOT NULL), 0)"),
        Measure::Mean(_) => format!("avg({m})"),
        Measure::Least(_) => format!("min({m})"),
        Measure::Most(_) => format!("max({m})"),
        Measure::Percentile(tenths, _) => {
            let part = f64::from(*tenths) / 1_000.0;
            if is_weighed {
                let known = format!("FILTER (WHERE {m} IS NOT NULL)");
                return format!(
                    "weighted_percentile(array_agg({m} ORDER BY {m}) {known}, array_agg(w ORDER BY {m}) {known}, {part:.3})"
                );
            }
            format!("percentile_cont({part:.3}) WITHIN GROUP (ORDER BY {m})")
        }
        Measure::First => format!("(extract(epoch FROM min({m})) * 1000)::bigint"),
        Measure::Last => format!("(extract(epoch FROM max({m})) * 1000)::bigint"),
        // An id as text is 36 characters long, and in the order of time.
        Measure::Latest(_) => format!("substr(max({m} COLLATE \"C\"), 37) COLLATE \"C\""),
    }
}

/// Writes `placed`: the picked records with the place of their group, counted from 1; none for what is not shown.
fn place(sql: &mut QueryBuilder<Postgres>, (question, counting): (&Question, Counting), keys: Option<&[Vec<String>]>) {
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
            Column::Measure(at) => question
                .measures
                .get(at)
                .map(|measure| aggregate(at, measure, counting)),
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
            by.unwrap_or_else(|| counting.records().to_owned())
        ));
    }
    sql.push(format!(
        "placed AS (SELECT picked.*, CASE WHEN ranked.place <= {shown} THEN ranked.place END AS place, ranked.groups \
         FROM picked LEFT JOIN ranked USING ({list}))"
    ));
}

/// Writes what is read of `placed`.
fn sum(sql: &mut QueryBuilder<Postgres>, (question, counting): (&Question, Counting), is_over_time: bool) {
    let values: Vec<String> = (question.measures.iter().enumerate())
        .map(|(at, measure)| format!("({})::text", aggregate(at, measure, counting)))
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
         max(groups) AS groups, {} AS margin FROM placed GROUP BY GROUPING SETS ({sets})",
        keys.join(", "),
        values.join(", "),
        counting.margin()
    ));
}
