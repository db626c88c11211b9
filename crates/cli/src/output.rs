//! What commands print: tables for eyes, fitted to the terminal, and JSON for programs. Text from senders never reaches
//! the terminal with its control characters.

use std::io::{IsTerminal, Write};

use chrono::{DateTime, Utc};
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, Table, Width, presets};
use outcrop_core::text::printable;
use serde::Serialize;

use crate::fault::Fault;

/// Width where the output is no terminal and COLUMNS does not say.
const DEFAULT_WIDTH: u16 = 120;

/// Blanks between columns.
const GAP: u16 = 2;

/// Prints one line or block.
pub fn line(text: impl AsRef<str>) -> Result<(), Fault> {
    writeln!(std::io::stdout().lock(), "{}", text.as_ref())?;
    Ok(())
}

/// Prints one JSON document.
pub fn json(document: &impl Serialize) -> Result<(), Fault> {
    let mut out = std::io::stdout().lock();
    serde_json::to_writer_pretty(&mut out, document).map_err(std::io::Error::from)?;
    writeln!(out)?;
    Ok(())
}

/// A column: its head and what stands in it.
pub struct Column<'h>(pub &'h str, pub Fit);

/// How a column's text stands and fits.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// Names, references, times: never broken.
    Whole,
    /// Numbers: never broken, to the right.
    Number,
    /// Running text: wraps into what width is left, at least this much.
    Text(u16),
}

/// Prints a table that fits the terminal's width; long cells wrap within their column.
pub fn table(columns: &[Column<'_>], rows: impl IntoIterator<Item = Vec<String>>) -> Result<(), Fault> {
    let mut table = Table::new();
    table
        .load_preset(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(width());
    table.set_header(columns.iter().map(|Column(head, _)| *head));
    for row in rows {
        table.add_row(row.iter().map(|cell| printable(cell)));
    }
    for (at, Column(_, fit)) in columns.iter().enumerate() {
        if let Some(column) = table.column_mut(at) {
            column.set_padding((0, GAP));
            column.set_constraint(match fit {
                Fit::Whole | Fit::Number => ColumnConstraint::ContentWidth,
                Fit::Text(least) => ColumnConstraint::LowerBoundary(Width::Fixed(least + GAP)),
            });
            if *fit == Fit::Number {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    for row in table.lines() {
        line(row.trim_end())?;
    }
    Ok(())
}

/// The width to fit into.
pub fn width() -> u16 {
    let told = std::env::var("COLUMNS")
        .ok()
        .and_then(|columns| columns.parse().ok())
        .filter(|columns| *columns >= 40);
    let measured = || std::io::stdout().is_terminal().then(|| Table::new().width()).flatten();
    told.or_else(measured).unwrap_or(DEFAULT_WIDTH)
}

/// A number with its thousands grouped: `1,204`.
pub fn grouped(number: i64) -> String {
    let digits = number.unsigned_abs().to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3 + 1);
    if number < 0 {
        out.push('-');
    }
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// How long ago: `now`, `26 min`, `3 h`, `12 d`.
pub fn ago(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let minutes = (now - at).num_minutes();
    match minutes {
        ..=0 => "now".to_owned(),
        1..=119 => format!("{minutes} min"),
        120..=2_879 => format!("{} h", minutes / 60),
        _ => format!("{} d", minutes / 1_440),
    }
}

/// The same in a sentence: `now`, `26 min ago`.
pub fn since(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    match ago(at, now).as_str() {
        "now" => "now".to_owned(),
        ago => format!("{ago} ago"),
    }
}

/// A time as people compare it with a log: seconds, UTC.
pub fn time(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%SZ").to_string()
}

/// Singular or plural with its number: `1 error`, `1,204 errors`.
pub fn counted(number: i64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}
