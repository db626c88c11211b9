//! What a question came to, put together from the rows that the database answers.

use chrono::{DateTime, Utc};
use outcrop_core::WEEKDAYS;
use outcrop_core::question::{Group, Measure, Question};
use sqlx::FromRow;

/// Longest value of a key, in characters: what people tell apart stands in its beginning.
pub const MAX_KEY: usize = 500;

/// What a question came to.
#[derive(Clone, Debug, PartialEq)]
pub struct Answer {
    /// The groups that are shown, in the question's order; one without keys where it groups by nothing.
    pub rows: Vec<Row>,
    /// All groups that are not shown, together; `None` where all are.
    pub others: Option<Row>,
    /// All records together.
    pub total: Row,
    /// How many groups there are.
    pub groups: i64,
    /// How many steps the window has; 0 where the question is not over time.
    pub steps: usize,
}

/// A group of records.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Row {
    /// Its values of what is grouped by; empty text where a record has none.
    pub keys: Vec<String>,
    /// Its measures.
    pub values: Vec<Cell>,
    /// Its measures by step: `steps[n]` belongs to the n-th step, and is empty where no record lies in it.
    pub steps: Vec<Vec<Cell>>,
    /// By which part of their number its records may be fewer or more, 19 times in 20; `None` where all were counted.
    pub margin: Option<f64>,
    /// Its measures in the period that the question's window is compared with.
    pub before: Option<Vec<Cell>>,
}

/// One measure's value.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell {
    /// No record has one.
    Nothing,
    /// A whole number.
    Count(i64),
    /// A number.
    Number(f64),
    /// A time.
    Time(DateTime<Utc>),
    /// Text.
    Text(String),
}

impl Cell {
    /// Reads what the database wrote of a measure.
    fn of(measure: &Measure, text: Option<&str>) -> Self {
        let Some(text) = text else { return Self::Nothing };
        let read = match measure {
            Measure::Count | Measure::Failed | Measure::Distinct(_) => text.parse().ok().map(Self::Count),
            Measure::First | Measure::Last => text
                .parse()
                .ok()
                .and_then(DateTime::from_timestamp_millis)
                .map(Self::Time),
            Measure::Latest(_) => Some(Self::Text(text.to_owned())),
            _ => text.parse().ok().map(Self::Number),
        };
        read.unwrap_or(Self::Nothing)
    }
}

/// A row as the database answers it.
#[derive(FromRow)]
pub(super) struct Found {
    /// The group's place, counted from 1; `None` for the others.
    pub(super) place: Option<i64>,
    /// The step, where it is one's.
    pub(super) step: Option<i32>,
    /// Whether it is of all groups together, and of all steps.
    pub(super) is_total: bool,
    pub(super) is_whole: bool,
    pub(super) keys: Vec<Option<String>>,
    pub(super) values: Vec<Option<String>>,
    pub(super) groups: Option<i64>,
    pub(super) margin: Option<f64>,
}

fn nothing(question: &Question, steps: usize) -> Row {
    let values = question.measures.iter().map(|measure| match measure {
        Measure::Count | Measure::Failed | Measure::Distinct(_) => Cell::Count(0),
        _ => Cell::Nothing,
    });
    Row {
        values: values.collect(),
        steps: vec![vec![]; steps],
        ..Row::default()
    }
}

/// Puts rows in their places.
pub(super) fn collect(question: &Question, found: Vec<Found>, steps: usize) -> Answer {
    let mut answer = Answer {
        rows: vec![],
        others: None,
        total: nothing(question, steps),
        groups: 0,
        steps,
    };
    for one in found {
        let cells: Vec<Cell> = (question.measures.iter())
            .zip(&one.values)
            .map(|(measure, text)| Cell::of(measure, text.as_deref()))
            .collect();
        answer.groups = answer.groups.max(one.groups.unwrap_or_default());
        let row = match one.place {
            _ if one.is_total => &mut answer.total,
            None => answer.others.get_or_insert_with(|| nothing(question, steps)),
            Some(place) => {
                let place = usize::try_from(place - 1).unwrap_or_default();
                while answer.rows.len() <= place {
                    answer.rows.push(nothing(question, steps));
                }
                let row = &mut answer.rows[place];
                row.keys = one.keys.into_iter().map(Option::unwrap_or_default).collect();
                row
            }
        };
        if one.is_whole {
            row.values = cells;
            row.margin = one.margin;
        } else if let Some(step) = one
            .step
            .and_then(|step| usize::try_from(step).ok())
            .and_then(|step| row.steps.get_mut(step))
        {
            *step = cells;
        }
    }
    if question.by.is_empty() && answer.rows.is_empty() {
        answer.rows.push(answer.total.clone());
    }
    answer
}

/// Puts what groups came to in the earlier period beside what they come to now.
pub(super) fn compare(question: &Question, answer: &mut Answer, earlier: Answer) {
    let none = nothing(question, 0).values;
    for row in &mut answer.rows {
        let then = earlier.rows.iter().find(|then| then.keys == row.keys);
        row.before = Some(then.map_or_else(|| none.clone(), |then| then.values.clone()));
    }
    if let Some(others) = earlier.others {
        let row = answer.others.get_or_insert_with(|| nothing(question, answer.steps));
        row.before = Some(others.values);
    } else if let Some(row) = &mut answer.others {
        row.before = Some(none);
    }
    answer.total.before = Some(earlier.total.values);
}

/// How a group's value is shown: days of the week by their names.
#[must_use]
pub fn shown(group: &Group, key: &str) -> String {
    let day = key
        .parse::<usize>()
        .ok()
        .and_then(|day| WEEKDAYS.get(day.checked_sub(1)?));
    match group {
        Group::DayOfWeek => day.map_or_else(|| key.to_owned(), |day| (*day).to_owned()),
        _ => key.to_owned(),
    }
}
