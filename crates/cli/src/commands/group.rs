use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_core::grouping::moved::{self, Finding, Shape, Sighted};
use outcrop_core::query::dotted_order;
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

/// Groups exceptions as the service would, without one, over the versions in the lines. A line that cannot be read is named and left out.
pub fn run(arguments: &Group) -> Result<(), Fault> {
    let input: Box<dyn BufRead> = match &arguments.file {
        Some(file) => Box::new(BufReader::new(File::open(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?)),
        None => Box::new(std::io::stdin().lock()),
    };
    let mut unreadable = 0_u64;
    let mut lines: Vec<(Grouped, usize)> = vec![];
    let mut causes = Causes::default();
    for (at, line) in input.lines().enumerate() {
        let line = line.map_err(|error| Fault::Usage(format!("line {}: {error}", at + 1)))?;
        if line.trim().is_empty() {
            continue;
        }
        match serde_json::from_str::<Record<'_>>(&line) {
            Ok(record) => lines.push(grouped(record, &mut causes)),
            Err(error) => {
                unreadable += 1;
                drop(writeln!(std::io::stderr(), "outcrop: line {}: {error}", at + 1));
            }
        }
    }
    let found = causes.found();
    let mut out = BufWriter::new(std::io::stdout().lock());
    for (mut line, cause) in lines {
        if let Some(finding) = found.get(&cause) {
            match finding {
                (group, Finding::Moved { changes, .. }) => {
                    line.group.clone_from(group);
                    line.moved = Some(changes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "));
                }
                (_, Finding::MayBe { errors }) => line.may_be = errors.iter().map(|error| causes.group(*error)).collect(),
            }
        }
        serde_json::to_writer(&mut out, &line).map_err(std::io::Error::from)?;
        writeln!(out)?;
    }
    out.flush()?;
    if unreadable > 0 { Err(Fault::Usage(format!("{unreadable} lines could not be read"))) } else { Ok(()) }
}

fn grouped(record: Record<'_>, causes: &mut Causes) -> (Grouped, usize) {
    let described = Described::new(&record.type_name, &record.message, &record.stacktrace);
    let grouping = described.group();
    // An error belongs to one service.
    let group = Digest::of([record.service.as_ref(), &grouping.key.to_string()]).to_string();
    let cause = causes.add(&record.service, &record.version, &group, || Shape::of(&described.subject()));
    let read = described.stack.map(|stack| stack.runtime.into_owned());
    let line = Grouped {
        id: record.id,
        group,
        title: grouping.title,
        own_frame: grouping.own_frame,
        runtime: read.or_else(|| record.runtime.map(Cow::into_owned)),
        moved: None,
        may_be: vec![],
    };
    (line, cause)
}

/// A group of the lines, before versions are compared.
struct Cause {
    service: String,
    group: String,
    shape: Option<Shape>,
    versions: BTreeSet<String>,
}

/// The groups of all lines.
#[derive(Default)]
struct Causes {
    all: Vec<Cause>,
    by_group: HashMap<String, usize>,
}

impl Causes {
    fn add(&mut self, service: &str, version: &str, group: &str, shape: impl FnOnce() -> Option<Shape>) -> usize {
        let at = *self.by_group.entry(group.to_owned()).or_insert_with(|| {
            let versions = BTreeSet::new();
            self.all.push(Cause { service: service.to_owned(), group: group.to_owned(), shape: shape(), versions });
            self.all.len() - 1
        });
        if !version.is_empty() {
            self.all[at].versions.insert(version.to_owned());
        }
        at
    }

    fn group(&self, number: i64) -> String {
        usize::try_from(number).ok().and_then(|at| self.all.get(at)).map(|cause| cause.group.clone()).unwrap_or_default()
    }

    /// What was found of each cause that a version brought, and the group it belongs to.
    fn found(&self) -> HashMap<usize, (String, Finding)> {
        let mut by_service: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (at, cause) in self.all.iter().enumerate() {
            by_service.entry(&cause.service).or_default().push(at);
        }
        let mut found = HashMap::new();
        for causes in by_service.values() {
            let labels: BTreeSet<&String> = causes.iter().flat_map(|at| &self.all[*at].versions).collect();
            let mut labels: Vec<&String> = labels.into_iter().collect();
            labels.sort_by(|one, other| dotted_order(one, other).then(one.cmp(other)));
            let place: HashMap<&String, usize> = labels.into_iter().enumerate().map(|(at, label)| (label, at)).collect();
            let sighted: Vec<Sighted<'_>> = causes
                .iter()
                .filter_map(|at| {
                    let cause = &self.all[*at];
                    let number = i64::try_from(*at).ok()?;
                    let versions = cause.versions.iter().map(|label| place[label]).collect();
                    Some(Sighted { cause: number, error: number, shape: cause.shape.as_ref()?, versions })
                })
                .collect();
            for (cause, finding) in moved::find(&sighted) {
                let group = match &finding {
                    Finding::Moved { error, .. } => self.group(*error),
                    Finding::MayBe { .. } => self.group(cause),
                };
                found.extend(usize::try_from(cause).ok().map(|cause| (cause, (group, finding))));
            }
        }
        found
    }
}
