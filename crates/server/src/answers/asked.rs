//! Answers of questions, as they are sent.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{Answer, AnswerColumn, AnswerPeriod, AnswerRow, QuestionParts};
use outcrop_core::query::{Field, quoted};
use outcrop_core::question::{Group, Measure, Question, Source};
use outcrop_store::questions::{self, Cell, Row, shown};
use outcrop_store::retention::Policy;
use outcrop_store::{Database, Scope, StoreError, from_utc, to_utc};
use serde_json::{Value, json};

/// Answers a question over a scope, as of a time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(crate) async fn answer(
    database: &Database,
    (question, scope): (&Question, &Scope),
    policy: &Policy,
    now: DateTime<Utc>,
) -> Result<Answer, StoreError> {
    let found = questions::answer(database, question, scope).await?;
    let period = |(from, to)| AnswerPeriod {
        from: to_utc(from),
        to: to_utc(to),
    };
    let row = |row: Row| row_of(question, row);
    Ok(Answer {
        question: question.to_string(),
        parts: parts(question),
        from: scope.from,
        to: scope.to,
        step_ms: question.each,
        against: question
            .against_at((from_utc(scope.from), from_utc(scope.to)))
            .map(period),
        columns: columns(question),
        others: found.others.map(|others| AnswerRow {
            predicate: None,
            ..row(others)
        }),
        total: AnswerRow {
            predicate: question.matching.as_ref().map(|matching| matching.text.clone()),
            ..row(found.total)
        },
        groups: found.groups,
        rows: found.rows.into_iter().map(row).collect(),
        note: note(question, (scope.from, now), policy),
    })
}

fn parts(question: &Question) -> QuestionParts {
    let parts = question.parts();
    QuestionParts {
        measures: parts.measures,
        source: parts.source.to_owned(),
        by: parts.by,
        predicate: parts.matching,
        each: parts.each,
        order: parts.order,
        top: parts.top,
        window: parts.window,
        against: parts.against,
    }
}

fn columns(question: &Question) -> Vec<AnswerColumn> {
    let column = |name: String, kind: &str| AnswerColumn {
        name,
        kind: kind.to_owned(),
    };
    let keys = question.by.iter().map(|group| column(group.to_string(), "key"));
    let measures = question.measures.iter().map(|measure| {
        let kind = match measure {
            Measure::Count | Measure::Failed | Measure::Distinct(_) => "count",
            Measure::Share => "share",
            Measure::First | Measure::Last => "time",
            Measure::Latest(_) => "text",
            _ => "number",
        };
        column(measure.to_string(), kind)
    });
    keys.chain(measures).collect()
}

fn row_of(question: &Question, row: Row) -> AnswerRow {
    let cells = |cells: Vec<Cell>| cells.into_iter().map(value).collect::<Vec<_>>();
    let predicate = predicate(question, &row.keys);
    let keys = question.by.iter().zip(&row.keys);
    AnswerRow {
        keys: keys.map(|(group, key)| shown(group, key)).collect(),
        values: cells(row.values),
        steps: row.steps.into_iter().map(cells).collect(),
        margin: row.margin,
        before: row.before.map(cells),
        predicate,
    }
}

fn value(cell: Cell) -> Value {
    match cell {
        Cell::Nothing => Value::Null,
        Cell::Count(count) => json!(count),
        Cell::Number(number) => json!(number),
        Cell::Time(at) => json!(at),
        Cell::Text(text) => json!(text),
    }
}

/// A predicate for the records of a group, within those of the question; `None` where the language has none.
fn predicate(question: &Question, keys: &[String]) -> Option<String> {
    let mut parts = vec![];
    if let Some(matching) = &question.matching {
        let text = &matching.text;
        let is_one = matching.predicate.tests().len() == 1;
        parts.push(if is_one { text.clone() } else { format!("({text})") });
    }
    for (group, key) in question.by.iter().zip(keys) {
        let Group::Field(field) = group else { return None };
        // A value that was cut matches nothing.
        if key.chars().count() >= questions::MAX_KEY {
            return None;
        }
        let name = match field {
            Field::Attribute(name) if !matches!(Field::of(name), Field::Attribute(_)) || name.contains([' ', '"']) => {
                return None;
            }
            _ => field.name(),
        };
        parts.push(match field {
            _ if key.is_empty() => format!("{name} is not set"),
            Field::Error => key.clone(),
            _ => format!("{name} = {}", quoted(key)),
        });
    }
    (!parts.is_empty()).then(|| parts.join(" and "))
}

/// What the answer leaves out, where it does.
fn note(question: &Question, (from, now): (DateTime<Utc>, DateTime<Utc>), policy: &Policy) -> Option<String> {
    let days = match question.source {
        Source::Lines => policy.log_days,
        _ if questions::is_folded(question, from) && !questions::is_by_minute(question, from) => policy.count_days,
        Source::Occurrences | Source::Requests => policy.occurrence_days,
    };
    let is_weighed = question.source == Source::Requests && !questions::is_folded(question, from);
    let sampled = is_weighed.then_some(
        "these numbers come from an even sample of the requests, each weighed by how many it stands for; distinct \
         values are those of the sample",
    );
    // The window of a question over as many days begins then, or a step before.
    let step = question.each.unwrap_or_default();
    let is_beyond = now - from > TimeDelta::days(days) + TimeDelta::minutes(1) + TimeDelta::milliseconds(step);
    let gone = is_beyond.then(|| {
        format!(
            "{} are kept for {days} days: what came before is not part of this answer",
            question.source.word()
        )
    });
    let said: Vec<String> = gone.into_iter().chain(sampled.map(str::to_owned)).collect();
    (!said.is_empty()).then(|| said.join("; "))
}

#[cfg(test)]
mod tests {
    use outcrop_core::question::read;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("count of occurrences", &[], None)]
    #[case("count of occurrences where uncaught", &[], Some("uncaught"))]
    #[case("count of occurrences by service", &["fares"], Some("service = \"fares\""))]
    #[case("count of occurrences by error", &["kobal-tirun"], Some("kobal-tirun"))]
    #[case(
        "count of occurrences by season, type where service = fares or service = berths",
        &["", "a \"b\""],
        Some("(service = fares or service = berths) and season is not set and type = \"a \\\"b\\\"\"")
    )]
    #[case("count of occurrences by hour_of_day", &["04"], None)]
    #[case("count of lines by template", &["quoting sailing {n}"], Some("template = \"quoting sailing {n}\""))]
    fn a_row_leads_to_its_records_where_a_predicate_can_say_which(
        #[case] text: &str,
        #[case] keys: &[&str],
        #[case] expected: Option<&str>,
    ) {
        let keys: Vec<String> = keys.iter().map(|key| (*key).to_owned()).collect();
        let found = predicate(&read(text).unwrap(), &keys);
        assert_eq!(found.as_deref(), expected);
        if let Some(found) = found {
            outcrop_core::query::parse(&found).unwrap();
        }
    }

    #[test]
    fn an_answer_says_how_long_its_records_are_kept_where_it_asks_for_more() {
        let now = Utc::now();
        let policy = Policy {
            occurrence_days: 30,
            log_days: 7,
            ..Policy::default()
        };
        let said = |text: &str| {
            let question = read(text).unwrap();
            let from = to_utc(question.window_at(from_utc(now)).0);
            note(&question, (from, now), &policy)
        };
        assert_eq!(said("count of occurrences over 30d"), None);
        let lines = said("count of lines over 30d").unwrap();
        assert!(lines.starts_with("lines are kept for 7 days"), "{lines}");
        assert_eq!(said("count of requests by endpoint over 30d"), None);
        let sampled = said("p95 duration of requests by endpoint").unwrap();
        assert!(sampled.contains("an even sample of the requests"), "{sampled}");
        assert_eq!(said("count of occurrences by version each 1d over 60d"), None);
        let by_minute = said("count of occurrences by version each 150m over 60d").unwrap();
        assert!(by_minute.starts_with("occurrences are kept for 30 days"), "{by_minute}");
    }
}
