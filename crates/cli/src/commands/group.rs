use std::borrow::Cow;
use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use serde::{Deserialize, Serialize};

use crate::args::Group;
use crate::fault::Fault;

/// One exception, as it is read. Fields not named here are ignored.
#[derive(Deserialize)]
struct Record<'a> {
    id: serde_json::Value,
    #[serde(borrow, default)]
    service: Cow<'a, str>,
    #[serde(borrow, default)]
    runtime: Option<Cow<'a, str>>,
    #[serde(borrow, default, rename = "type")]
    type_name: Cow<'a, str>,
    #[serde(borrow, default)]
    message: Cow<'a, str>,
    #[serde(borrow, default)]
    stacktrace: Cow<'a, str>,
}

#[derive(Serialize)]
struct Grouped<'a> {
    id: &'a serde_json::Value,
    group: String,
    title: String,
    own_frame: Option<String>,
    runtime: Option<Cow<'a, str>>,
}

/// Groups exceptions as the service would, without one. A line that cannot be read is named and left out.
pub fn run(arguments: &Group) -> Result<(), Fault> {
    let input: Box<dyn BufRead> = match &arguments.file {
        Some(file) => Box::new(BufReader::new(File::open(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?)),
        None => Box::new(std::io::stdin().lock()),
    };
    let mut out = BufWriter::new(std::io::stdout().lock());
    let mut unreadable = 0_u64;
    for (at, line) in input.lines().enumerate() {
        let line = line.map_err(|error| Fault::Usage(format!("line {}: {error}", at + 1)))?;
        if line.trim().is_empty() {
            continue;
        }
        match serde_json::from_str::<Record<'_>>(&line) {
            Ok(record) => {
                serde_json::to_writer(&mut out, &grouped(&record)).map_err(std::io::Error::from)?;
                writeln!(out)?;
            }
            Err(error) => {
                unreadable += 1;
                drop(writeln!(std::io::stderr(), "outcrop: line {}: {error}", at + 1));
            }
        }
    }
    out.flush()?;
    if unreadable > 0 { Err(Fault::Usage(format!("{unreadable} lines could not be read"))) } else { Ok(()) }
}

fn grouped<'a>(record: &'a Record<'a>) -> Grouped<'a> {
    let described = Described::new(&record.type_name, &record.message, &record.stacktrace);
    let grouping = described.group();
    let read = described.stack.map(|stack| Cow::Owned(stack.runtime.into_owned()));
    Grouped {
        id: &record.id,
        // An error belongs to one service.
        group: Digest::of([record.service.as_ref(), &grouping.key.to_string()]).to_string(),
        title: grouping.title,
        own_frame: grouping.own_frame,
        runtime: read.or_else(|| record.runtime.clone()),
    }
}
