//! Application logs in, OTLP log records out.

mod arguments;
mod forward;
mod journal;
mod position;
mod source;

pub use arguments::{Collect, LinesArg};

use std::collections::VecDeque;
use std::io::BufRead;
use std::time::Duration;

use forward::Forward;
use outcrop_core::app_log::Event;
use outcrop_core::text::printable;
use position::Positions;
use serde::Serialize;
use source::{FileSource, Source};
use tokio_util::sync::CancellationToken;

use crate::clock::now;
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table};

/// How often followed files are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(250);
/// Looks without a new line after which open events are taken as whole: a trace is written at once.
const QUIET_LOOKS: u32 = 8;
/// Events before a failure that are sent with it where only those around failures are.
const AROUND: usize = 20;
/// Records in one request, and bytes of text in it: a request is small beside the service's limit.
const BATCH: (usize, usize) = (500, 2 << 20);

pub async fn run(arguments: Collect) -> Result<(), Fault> {
    if arguments.dry_run {
        return dry_run(&arguments);
    }
    let forward = Forward::new(&arguments)?;
    let mut positions = Positions::open(arguments.state.clone())?;
    if arguments.files.iter().any(|file| file.as_os_str() == "-") {
        if arguments.files.len() > 1 {
            return Err(Fault::Usage(
                "standard input is read alone, not together with files".to_owned(),
            ));
        }
        return from_stdin(&arguments, &forward).await;
    }
    let stop = CancellationToken::new();
    tokio::spawn(super::serve::stop_on_signal(stop.clone()));
    let mut logs = vec![];
    for path in &arguments.files {
        let source = FileSource::open(path, positions.of(path), arguments.follow)?;
        logs.push(Log::new(source, arguments.lines));
    }
    let mut sum = Sum::default();
    loop {
        let mut is_news = false;
        for log in &mut logs {
            is_news |= log.step(&forward, &mut positions, &mut sum, !arguments.follow).await?;
        }
        if !is_news {
            if !arguments.follow || stop.is_cancelled() {
                break;
            }
            tokio::select! {
                () = stop.cancelled() => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
            }
        }
        if stop.is_cancelled() {
            break;
        }
    }
    // What is still open when it is told to stop is read again with the next start.
    sum.say()
}

/// What was done, for people.
#[derive(Default)]
struct Sum {
    lines: u64,
    exceptions: u64,
    records: u64,
}

impl Sum {
    fn say(&self) -> Result<(), Fault> {
        let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
        line(format!(
            "{} read, {} found, {} sent",
            counted(number(self.lines), "line", "lines"),
            counted(number(self.exceptions), "exception", "exceptions"),
            counted(number(self.records), "log record", "log records")
        ))
    }
}

/// One log, and what of it is not sent yet.
struct Log {
    source: FileSource,
    keep: LinesArg,
    before: VecDeque<Event>,
    quiet: u32,
}

impl Log {
    fn new(source: FileSource, keep: LinesArg) -> Self {
        Self {
            source,
            keep,
            before: VecDeque::new(),
            quiet: 0,
        }
    }

    /// Reads what is there and sends what is whole. Returns whether anything was read.
    async fn step(
        &mut self,
        forward: &Forward,
        positions: &mut Positions,
        sum: &mut Sum,
        is_last: bool,
    ) -> Result<bool, Fault> {
        let (mut events, lines) = self.source.read(BATCH.1, now())?;
        sum.lines += lines;
        let is_news = lines > 0;
        self.quiet = if is_news { 0 } else { self.quiet + 1 };
        if !is_news && (is_last || self.quiet == QUIET_LOOKS) {
            events.extend(self.source.flush(now()));
        }
        let chosen = chosen(events, self.keep, &mut self.before, sum);
        for batch in batches(&chosen) {
            forward.send(batch, &self.source.name()).await?;
            sum.records += batch.len() as u64;
        }
        if is_news || self.quiet == QUIET_LOOKS || is_last {
            positions.set(self.source.path(), self.source.position())?;
        }
        Ok(is_news)
    }
}

/// Which events are sent.
fn chosen(events: Vec<Event>, keep: LinesArg, before: &mut VecDeque<Event>, sum: &mut Sum) -> Vec<Event> {
    let mut chosen = vec![];
    for event in events {
        sum.exceptions += u64::from(event.exception.is_some());
        match (keep, event.exception.is_some()) {
            (LinesArg::All, _) | (LinesArg::Failures, true) => chosen.push(event),
            (LinesArg::Failures, false) => {}
            (LinesArg::Around, true) => {
                chosen.extend(before.drain(..));
                chosen.push(event);
            }
            (LinesArg::Around, false) => {
                if before.len() == AROUND {
                    before.pop_front();
                }
                before.push_back(event);
            }
        }
    }
    chosen
}

fn batches(events: &[Event]) -> Vec<&[Event]> {
    let mut batches = vec![];
    let (mut from, mut bytes) = (0, 0);
    for (at, event) in events.iter().enumerate() {
        let size = event.message.len()
            + event
                .exception
                .as_ref()
                .map_or(0, |exception| exception.stacktrace.len());
        if at > from && (at - from >= BATCH.0 || bytes + size > BATCH.1) {
            batches.push(&events[from..at]);
            (from, bytes) = (at, 0);
        }
        bytes += size;
    }
    if from < events.len() {
        batches.push(&events[from..]);
    }
    batches
}

async fn from_stdin(arguments: &Collect, forward: &Forward) -> Result<(), Fault> {
    let (told, mut events) = tokio::sync::mpsc::channel::<(Vec<Event>, u64)>(16);
    // Reading blocks; the channel bounds what waits to be sent.
    let reader = tokio::task::spawn_blocking(move || {
        let mut source = Source::default();
        let mut input = std::io::stdin().lock();
        source.read_all(&mut input, |events, lines| told.blocking_send((events, lines)).is_ok())
    });
    let (mut before, mut sum) = (VecDeque::new(), Sum::default());
    let name = arguments.service.clone().unwrap_or_else(|| "stdin".to_owned());
    while let Some((found, lines)) = events.recv().await {
        sum.lines += lines;
        let chosen = chosen(found, arguments.lines, &mut before, &mut sum);
        for batch in batches(&chosen) {
            forward.send(batch, &name).await?;
            sum.records += batch.len() as u64;
        }
    }
    match reader.await {
        Ok(read) => read?,
        Err(error) => std::panic::resume_unwind(error.into_panic()),
    }
    sum.say()
}

#[derive(Serialize)]
struct Found {
    exceptions: Vec<FoundException>,
}

#[derive(Serialize)]
struct FoundException {
    #[serde(rename = "type")]
    type_name: String,
    message: String,
    first_line: u64,
    last_line: u64,
    #[serde(skip_serializing_if = "String::is_empty")]
    process: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    service: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    version: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    host: String,
    #[serde(skip_serializing_if = "serde_json::Map::is_empty")]
    attributes: serde_json::Map<String, serde_json::Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    time: Option<chrono::DateTime<chrono::Utc>>,
}

/// Says what would be found, and sends nothing.
fn dry_run(arguments: &Collect) -> Result<(), Fault> {
    let mut exceptions = vec![];
    let mut lines = 0;
    for file in &arguments.files {
        let mut source = Source::default();
        let mut input: Box<dyn BufRead> = if file.as_os_str() == "-" {
            Box::new(std::io::stdin().lock())
        } else {
            let opened =
                std::fs::File::open(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?;
            Box::new(std::io::BufReader::new(opened))
        };
        source.read_all(&mut input, |events, read| {
            lines += read;
            exceptions.extend(events.into_iter().filter_map(|event| {
                let exception = event.exception?;
                Some(FoundException {
                    type_name: exception.type_name,
                    message: exception.message,
                    first_line: event.first_line,
                    last_line: event.last_line,
                    process: event.process,
                    service: event.service,
                    version: event.fields.version,
                    host: event.fields.host,
                    attributes: event.fields.attributes.into_iter().collect(),
                    time: event.time.map(outcrop_store::to_utc),
                })
            }));
            true
        })?;
    }
    exceptions.sort_by_key(|exception| exception.first_line);
    if arguments.json {
        return json(&Found { exceptions });
    }
    let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    line(format!(
        "{} in {}; nothing was sent.",
        counted(number(exceptions.len() as u64), "exception", "exceptions"),
        counted(number(lines), "line", "lines")
    ))?;
    if exceptions.is_empty() {
        return Ok(());
    }
    let columns = [
        Column("lines", Fit::Whole),
        Column("type", Fit::Text(16)),
        Column("message", Fit::Text(24)),
    ];
    table(
        &columns,
        exceptions.iter().map(|exception| {
            vec![
                format!("{}-{}", exception.first_line, exception.last_line),
                if exception.type_name.is_empty() {
                    "—".to_owned()
                } else {
                    exception.type_name.clone()
                },
                printable(exception.message.lines().next().unwrap_or_default()),
            ]
        }),
    )
}
