//! `outcrop group`: groups recorded failures, without a server.

use std::borrow::Cow;
use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::PathBuf;

use clap::Args;
use outcrop_core::grouping::Described;
use outcrop_core::grouping::together::Together;
use serde::{Deserialize, Serialize};

use crate::fault::Fault;

#[derive(Args)]
#[command(
    after_help = "Reads JSON Lines {\"id\",\"service\",\"runtime\",\"version\",\"type\",\"message\",\"stacktrace\"}, \
        writes per line\n\
    {\"id\",\"group\",\"title\",\"own_frame\",\"runtime\"}: `group` is equal exactly when two would be one error.\n\
    Versions are compared in the order of their numbers: where code has moved, \"moved\" says what was edited, \
    \"may_be\" which groups it could be.\n\n\
    Examples:\n  outcrop group stacks.jsonl\n  jq -c . report.json | outcrop group"
)]
pub struct Group {
    /// The file; standard input where none is given.
    pub file: Option<PathBuf>,
}

/// Lines that cannot be read and are named: past these the file is of another kind.
const NAMED: u64 = 10;

/// One exception, as it is read. Fields not named here are ignored.
#[derive(Deserialize)]
struct Record<'a> {
    id: serde_json::Value,
    #[serde(borrow, default)]
    service: Cow<'a, str>,
    #[serde(borrow, default)]
    runtime: Option<Cow<'a, str>>,
    #[serde(borrow, default)]
    version: Cow<'a, str>,
    #[serde(borrow, default, rename = "type")]
    type_name: Cow<'a, str>,
    #[serde(borrow, default)]
    message: Cow<'a, str>,
    #[serde(borrow, default)]
    stacktrace: Cow<'a, str>,
}

#[derive(Serialize)]
struct Grouped {
    id: serde_json::Value,
    group: String,
    title: String,
    own_frame: Option<String>,
    runtime: Option<String>,
    /// What was edited since the versions before, where its code has moved.
    #[serde(skip_serializing_if = "Option::is_none")]
    moved: Option<String>,
    /// Groups of versions before that it may be.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    may_be: Vec<String>,
}

/// Groups exceptions as the service would, without one, over the versions in the lines. A line that
/// cannot be read is named and left out.
pub fn run(arguments: &Group) -> Result<(), Fault> {
    let input: Box<dyn BufRead> = match &arguments.file {
        Some(file) => Box::new(BufReader::new(
            File::open(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?,
        )),
        None => Box::new(std::io::stdin().lock()),
    };
    let mut unreadable = 0_u64;
    let mut lines: Vec<(Grouped, usize)> = vec![];
    let mut together = Together::default();
    for (at, line) in input.lines().enumerate() {
        let line = line.map_err(|error| Fault::Usage(format!("line {}: {error}", at + 1)))?;
        if line.trim().is_empty() {
            continue;
        }
        match serde_json::from_str::<Record<'_>>(&line) {
            Ok(record) => lines.push(grouped(record, &mut together)),
            Err(error) => {
                unreadable += 1;
                if unreadable <= NAMED {
                    drop(writeln!(std::io::stderr(), "outcrop: line {}: {error}", at + 1));
                }
            }
        }
    }
    let settled = together.settled();
    let mut out = BufWriter::new(std::io::stdout().lock());
    for (mut line, cause) in lines {
        let belonging = &settled[cause];
        line.group = belonging.group.to_string();
        line.may_be = belonging.may_be.iter().map(ToString::to_string).collect();
        if !belonging.changes.is_empty() {
            line.moved = Some(
                belonging
                    .changes
                    .iter()
                    .map(ToString::to_string)
                    .collect::<Vec<_>>()
                    .join(", "),
            );
        }
        serde_json::to_writer(&mut out, &line).map_err(std::io::Error::from)?;
        writeln!(out)?;
    }
    out.flush()?;
    if unreadable > 0 {
        Err(Fault::Usage(format!("{unreadable} lines could not be read")))
    } else {
        Ok(())
    }
}

fn grouped(record: Record<'_>, together: &mut Together) -> (Grouped, usize) {
    let described = Described::new(&record.type_name, &record.message, &record.stacktrace);
    let (grouping, cause) = together.add(&record.service, &record.version, &described);
    let read = described.stack.map(|stack| stack.runtime.into_owned());
    let line = Grouped {
        id: record.id,
        group: String::new(),
        title: grouping.title,
        own_frame: grouping.own_frame,
        runtime: read.or_else(|| record.runtime.map(Cow::into_owned)),
        moved: None,
        may_be: vec![],
    };
    (line, cause)
}
