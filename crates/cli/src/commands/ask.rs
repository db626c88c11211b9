//! `outcrop ask`: a question, and what it comes to.

use std::fmt::Write as _;

use chrono::{DateTime, TimeDelta, Utc};
use clap::Args;
use outcrop_api::{Answer, AnswerColumn, AnswerRow, SavedQuestion};
use outcrop_core::attention::percent;
use outcrop_core::text::printable;
use serde_json::Value;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop ask 'count, users of occurrences by type where service = fares over 7d'\n  \
        outcrop ask 'count of occurrences by version each 1h top 5' --chart\n  \
        outcrop ask 'count, p95 duration of occurrences by endpoint against before'\n  \
        outcrop ask 'count, share, p95 duration of requests by endpoint order by share top 10'\n  \
        outcrop ask 'count of lines by template where severity >= warn top 10' --csv > lines.csv\n  \
        outcrop ask --saved 'Errors by type'\n\n\
        The language: docs/reference/questions.md"
)]
pub struct Ask {
    /// The question, as one argument: MEASURES of occurrences|requests|lines [by FIELDS] [where PREDICATE] [each STEP]
    /// [order by COLUMN [up]] [top N] [over DURATION | from TIME to TIME] [against before | against DURATION earlier].
    #[arg(value_name = "QUESTION", required_unless_present = "saved")]
    pub question: Option<String>,
    /// Ask the question that is saved under this name instead.
    #[arg(long, value_name = "NAME", conflicts_with = "question")]
    pub saved: Option<String>,
    #[command(flatten)]
    pub client: Client,
    /// Print comma-separated values (RFC 4180), a line for each group, and for each step of a question over time.
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Draw a bar for each group, of the first measure.
    #[arg(long, conflicts_with_all = ["json", "csv"])]
    pub chart: bool,
}

pub async fn ask(arguments: Ask) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let question = match (arguments.question, &arguments.saved) {
        (None, Some(name)) => api.get::<SavedQuestion>(&saved_path(name), &[]).await?.question,
        (question, _) => question.unwrap_or_default(),
    };
    let answer: Answer = api.get("/ask", &[("question", Some(question))]).await?;
    if arguments.client.json {
        return json(&answer);
    }
    if arguments.csv {
        return line(csv(&answer).trim_end());
    }
    line(printable(&answer.question))?;
    line(printable(&window(&answer)))?;
    if answer.groups == 0 {
        return line(format!("\nNo {} match.", answer.parts.source));
    }
    line("")?;
    print(&answer, arguments.chart)?;
    if let Some(note) = &answer.note {
        line(format!("\n{}", printable(note)))?;
    }
    Ok(())
}

/// Where a saved question is.
pub(super) fn saved_path(name: &str) -> String {
    format!("/questions/{}", segment(name))
}

/// When, and against when.
pub(super) fn window(answer: &Answer) -> String {
    let against = answer
        .against
        .map(|period| format!(", against {} to {}", time(period.from), time(period.to)));
    format!(
        "{} to {}{}",
        time(answer.from),
        time(answer.to),
        against.unwrap_or_default()
    )
}

/// Prints an answer's groups as a table, with a bar for each where wanted.
pub(super) fn print(answer: &Answer, with_bars: bool) -> Result<(), Fault> {
    let keys = answer.parts.by.len();
    let is_over_time = answer.step_ms.is_some();
    let is_number = |column: &AnswerColumn| ["count", "number", "share"].contains(&column.kind.as_str());
    // Texts and times of before say nothing beside those of now.
    let compared: Vec<(usize, String)> = (answer.columns.iter().skip(keys).enumerate())
        .filter(|(_, column)| answer.against.is_some() && is_number(column))
        .map(|(at, column)| (at, format!("{} before", column.name)))
        .collect();
    let fit = |column: &AnswerColumn| match column.kind.as_str() {
        "key" | "text" => Fit::Text(16),
        "time" => Fit::Whole,
        _ => Fit::Number,
    };
    let mut columns: Vec<Column<'_>> = answer
        .columns
        .iter()
        .map(|column| Column(&column.name, fit(column)))
        .collect();
    let has_margins = answer.total.margin.is_some_and(|margin| margin > 0.0);
    if has_margins {
        columns.push(Column("count ±", Fit::Number));
    }
    columns.extend(compared.iter().map(|(_, head)| Column(head, Fit::Number)));
    if is_over_time {
        columns.push(Column("over time", Fit::Whole));
    }
    if with_bars {
        columns.push(Column("", Fit::Whole));
    }
    let most = answer
        .rows
        .iter()
        .filter_map(|row| row.values.first()?.as_f64())
        .fold(0.0, f64::max);
    let of_row = |row: &AnswerRow, names: Vec<String>, is_group: bool| {
        let kinds = answer.columns.iter().skip(keys).map(|column| column.kind.as_str());
        let values = row.values.iter().zip(kinds).map(|(value, kind)| shown(value, kind));
        let mut cells: Vec<String> = names.into_iter().chain(values).collect();
        if has_margins {
            cells.push(row.margin.map_or_else(|| "–".to_owned(), percent));
        }
        let before = compared.iter().filter_map(|(at, _)| {
            let kind = &answer.columns.get(keys + at)?.kind;
            Some(shown(row.before.as_ref()?.get(*at)?, kind))
        });
        cells.extend(before);
        if is_over_time {
            cells.push(strip(row));
        }
        if with_bars && is_group {
            cells.push(bar(row, most));
        }
        cells
    };
    let not_set = |key: &String| {
        if key.is_empty() {
            "(not set)".to_owned()
        } else {
            key.clone()
        }
    };
    let mut rows: Vec<Vec<String>> = (answer.rows.iter())
        .map(|row| of_row(row, row.keys.iter().map(not_set).collect(), true))
        .collect();
    if keys > 0 {
        let named = |name: String| {
            let mut names = vec![String::new(); keys];
            names[0] = name;
            names
        };
        let shown = i64::try_from(answer.rows.len()).unwrap_or(i64::MAX);
        if let Some(others) = &answer.others {
            let count = counted((answer.groups - shown).max(0), "other group", "other groups");
            rows.push(of_row(others, named(count), false));
        }
        rows.push(of_row(&answer.total, named("all".to_owned()), false));
    }
    table(&columns, rows)
}

/// A value for eyes.
fn shown(value: &Value, kind: &str) -> String {
    match value {
        Value::Number(share) if kind == "share" => share.as_f64().map_or_else(String::new, percent),
        Value::Null => "–".to_owned(),
        Value::String(text) => text.parse::<DateTime<Utc>>().map_or_else(|_| text.clone(), time),
        Value::Number(number) => number
            .as_i64()
            .map_or_else(|| number.as_f64().map_or_else(String::new, decimal), grouped),
        other => other.to_string(),
    }
}

/// Three digits or more that count.
pub(super) fn decimal(number: f64) -> String {
    #[expect(
        clippy::cast_possible_truncation,
        reason = "a number of at least a thousand, shown whole"
    )]
    match number.abs() {
        1_000.0.. => grouped(number.round() as i64),
        10.0.. => format!("{number:.1}"),
        _ => format!("{number:.2}"),
    }
}

/// The first measure step by step, each against the greatest: eight heights.
fn strip(row: &AnswerRow) -> String {
    let numbers: Vec<f64> = (row.steps.iter())
        .map(|step| step.first().and_then(Value::as_f64).unwrap_or_default())
        .collect();
    heights(&numbers, true)
}

/// Numbers as a line of heights, each against the greatest. Adjacent ones are one sign where there are more than fit
/// beside the rest: their sum where they add up, else the greatest of them.
pub(super) fn heights(numbers: &[f64], add_up: bool) -> String {
    const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let size = numbers.len().div_ceil(STRIP).max(1);
    let together = |chunk: &[f64]| {
        if add_up {
            chunk.iter().sum()
        } else {
            chunk.iter().copied().fold(0.0, f64::max)
        }
    };
    let sums: Vec<f64> = numbers.chunks(size).map(together).collect();
    let most = sums.iter().copied().fold(0.0, f64::max);
    let height = |sum: &f64| {
        if *sum <= 0.0 {
            return ' ';
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "0 to 7")]
        let place = (sum / most * 7.0).round() as usize;
        HEIGHTS[place.min(7)]
    };
    sums.iter().map(height).collect()
}

/// Most signs of a strip, and of a bar.
const STRIP: usize = 48;
const BAR: f64 = 24.0;

fn bar(row: &AnswerRow, most: f64) -> String {
    let value = row.values.first().and_then(Value::as_f64).unwrap_or_default();
    if most <= 0.0 || value <= 0.0 {
        return String::new();
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "0 to 24")]
    let length = (value / most * BAR).ceil() as usize;
    "█".repeat(length)
}

/// The answer as comma-separated values.
fn csv(answer: &Answer) -> String {
    let mut text = String::new();
    let mut put = |cells: Vec<String>| {
        let line = cells.iter().map(|cell| escaped(cell)).collect::<Vec<_>>().join(",");
        write!(text, "{line}\r\n").unwrap_or_default();
    };
    let names = answer.columns.iter().map(|column| column.name.clone());
    match answer.step_ms {
        None => {
            put(names.collect());
            for row in &answer.rows {
                put(row.keys.iter().cloned().chain(row.values.iter().map(raw)).collect());
            }
        }
        Some(step) => {
            put(std::iter::once("time".to_owned()).chain(names).collect());
            for (at, row) in answer
                .rows
                .iter()
                .flat_map(|row| (0_i32..).zip(&row.steps).map(move |step| (step, row)))
            {
                let (number, values) = at;
                let time = answer.from + TimeDelta::milliseconds(step) * number;
                let time = time.to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
                if !values.is_empty() {
                    let cells = std::iter::once(time).chain(row.keys.iter().cloned());
                    put(cells.chain(values.iter().map(raw)).collect());
                }
            }
        }
    }
    text
}

fn raw(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

/// A cell as RFC 4180 writes it. What a spreadsheet would take for a formula begins with an apostrophe.
fn escaped(cell: &str) -> String {
    let is_formula =
        cell.starts_with(['=', '+', '@', '\t', '\r']) || cell.starts_with('-') && cell.parse::<f64>().is_err();
    let cell = if is_formula {
        format!("'{cell}")
    } else {
        cell.to_owned()
    };
    if cell.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", cell.replace('"', "\"\""))
    } else {
        cell
    }
}

#[cfg(test)]
mod tests {
    use outcrop_api::QuestionParts;
    use serde_json::json;

    use super::*;

    fn row(keys: &[&str], values: &[Value], steps: &[&[i64]]) -> AnswerRow {
        AnswerRow {
            keys: keys.iter().map(|key| (*key).to_owned()).collect(),
            values: values.to_vec(),
            steps: steps
                .iter()
                .map(|step| step.iter().map(|n| json!(n)).collect())
                .collect(),
            margin: None,
            before: None,
            predicate: None,
        }
    }

    fn answer(rows: Vec<AnswerRow>, step_ms: Option<i64>) -> Answer {
        let column = |name: &str, kind: &str| AnswerColumn {
            name: name.to_owned(),
            kind: kind.to_owned(),
        };
        let from: DateTime<Utc> = "2026-11-29T00:00:00Z".parse().unwrap();
        Answer {
            question: "count of occurrences by season".to_owned(),
            parts: QuestionParts {
                measures: vec!["count".to_owned()],
                source: "occurrences".to_owned(),
                by: vec!["season".to_owned()],
                predicate: None,
                each: None,
                order: None,
                top: None,
                window: None,
                against: None,
            },
            from,
            to: from + TimeDelta::hours(2),
            step_ms,
            against: None,
            columns: vec![column("season", "key"), column("count", "count")],
            groups: i64::try_from(rows.len()).unwrap(),
            total: row(&[], &[json!(9)], &[]),
            others: None,
            note: None,
            rows,
        }
    }

    #[test]
    fn csv_is_quoted_and_starts_no_formula() {
        let rows = vec![
            row(&["a \"b\", c"], &[json!(7)], &[]),
            row(&["=HYPERLINK(\"x\")"], &[json!(-1.5)], &[]),
            row(&[""], &[Value::Null], &[]),
        ];
        assert_eq!(
            csv(&answer(rows, None)),
            "season,count\r\n\"a \"\"b\"\", c\",7\r\n\"'=HYPERLINK(\"\"x\"\")\",-1.5\r\n,\r\n"
        );
    }

    #[test]
    fn csv_of_a_question_over_time_has_a_line_for_each_step_that_has_records() {
        let rows = vec![row(&["winter"], &[json!(3)], &[&[1], &[], &[2]])];
        assert_eq!(
            csv(&answer(rows, Some(3_600_000))),
            "time,season,count\r\n2026-11-29T00:00:00Z,winter,1\r\n2026-11-29T02:00:00Z,winter,2\r\n"
        );
    }

    #[test]
    fn a_strip_shows_each_step_against_the_greatest_and_many_steps_together() {
        assert_eq!(strip(&row(&[], &[], &[&[1], &[], &[8], &[4]])), "▂ █▅");
        let many: Vec<&[i64]> = vec![&[1]; 480];
        assert_eq!(strip(&row(&[], &[], &many)).chars().count(), STRIP);
        assert_eq!(strip(&row(&[], &[], &[])), "");
    }

    #[test]
    fn values_are_shown_with_the_digits_that_count() {
        for (value, expected) in [
            (json!(1_204), "1,204"),
            (json!(1_204.4), "1,204"),
            (json!(12.345), "12.3"),
            (json!(0.126), "0.13"),
            (json!("2026-11-29T12:00:00Z"), "2026-11-29 12:00:00Z"),
            (json!("no tariff"), "no tariff"),
            (Value::Null, "–"),
        ] {
            assert_eq!(shown(&value, "number"), expected);
        }
    }
}
