//! `outcrop export`: records as JSON Lines or a Parquet table, to a file that can be gone on with.

mod table;

use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, IsTerminal as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use outcrop_core::question::Source;
use outcrop_core::text::printable;
use serde_json::Value;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::grouped;

/// What can be taken out.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Records {
    /// Failures, each once.
    Occurrences,
    /// Requests that are kept by themselves: failed, refused, slow, or of the even sample.
    Requests,
    /// Log lines.
    Lines,
}

impl Records {
    const fn source(self) -> Source {
        match self {
            Self::Occurrences => Source::Occurrences,
            Self::Requests => Source::Requests,
            Self::Lines => Source::Lines,
        }
    }
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop export occurrences --since 7d --out failures.jsonl\n  outcrop export occurrences \
        --since 7d --out failures.jsonl --resume\n  outcrop export requests --since 24h --out requests.parquet\n  outcrop export lines --where 'severity >= warn' | jq -r .message"
)]
pub struct Export {
    /// What to take out.
    #[arg(value_enum, value_name = "RECORDS")]
    pub records: Records,
    #[command(flatten)]
    pub client: Client,
    /// The window, back from now: 30m, 24h, 7d.
    #[arg(long, value_name = "DURATION", conflicts_with = "from")]
    pub since: Option<String>,
    /// Beginning of the window, such as 2026-11-23T04:40:00Z.
    #[arg(long, value_name = "TIME")]
    pub from: Option<String>,
    /// End of the window; now where not given.
    #[arg(long, value_name = "TIME")]
    pub to: Option<String>,
    /// Only of services of this name.
    #[arg(long, value_name = "NAME")]
    pub service: Option<String>,
    /// Only what happened in this environment.
    #[arg(long, value_name = "NAME")]
    pub environment: Option<String>,
    /// Only records that match this predicate.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// The file to write; standard output where not given. A name that ends in .parquet makes a Parquet table, any other
    /// JSON Lines.
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Go on after the last record of the file: what was cut off in the middle is written anew.
    #[arg(long, requires = "out")]
    pub resume: bool,
}

pub async fn run(arguments: Export) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let records = arguments.records.source();
    let word = records.word();
    let lines_file = arguments.out.as_deref().map(lines_of);
    if let Some(path) = &arguments.out
        && is_table(path)
        && path.exists()
    {
        return Err(Fault::Usage(format!(
            "{} is there already; choose another",
            path.display()
        )));
    }
    let (mut file, mut after) = match &lines_file {
        None => (None, None),
        Some(path) if arguments.resume => {
            let (file, last) = resumed(path)?;
            (Some(file), last)
        }
        Some(path) => (Some(new(path)?), None),
    };
    let says_progress = file.is_some() && std::io::stderr().is_terminal();
    let mut written: i64 = 0;
    loop {
        let query = [
            ("since", arguments.since.clone()),
            ("from", arguments.from.clone()),
            ("to", arguments.to.clone()),
            ("service", arguments.service.clone()),
            ("environment", arguments.environment.clone()),
            ("where", arguments.predicate.clone()),
            ("after", after.clone()),
        ];
        let (lines, next) = api.lines(&format!("/export/{word}"), &query).await?;
        match &mut file {
            Some(file) => file
                .write_all(lines.as_bytes())
                .map_err(|error| unwritten(&arguments, &error))?,
            None => std::io::stdout().lock().write_all(lines.as_bytes())?,
        }
        written += i64::try_from(lines.lines().count()).unwrap_or(i64::MAX);
        if says_progress {
            let until = lines.lines().last().and_then(time_of).unwrap_or_default();
            let said = format!("\r{} {word}, up to {}  ", grouped(written), printable(&until));
            std::io::stderr().lock().write_all(said.as_bytes())?;
        }
        match next {
            Some(next) => after = Some(next),
            None => break,
        }
    }
    if let Some(file) = &mut file {
        file.sync_all().map_err(|error| unwritten(&arguments, &error))?;
        if let (Some(out), Some(lines)) = (arguments.out.as_deref().filter(|out| is_table(out)), &lines_file) {
            written = made_a_table(lines, records, out)?;
        }
        let path = arguments.out.as_deref().unwrap_or(Path::new("")).display().to_string();
        let start = if says_progress { "\r" } else { "" };
        let said = format!(
            "{start}{} {word} were written to {}.\n",
            grouped(written),
            printable(&path)
        );
        std::io::stderr().lock().write_all(said.as_bytes())?;
    }
    Ok(())
}

/// Whether a file is to hold a table rather than lines.
fn is_table(path: &Path) -> bool {
    path.extension()
        .is_some_and(|ending| ending.eq_ignore_ascii_case("parquet"))
}

/// Where the lines of an export go: to the file itself, or beside a table, which is made of them once all are there.
fn lines_of(path: &Path) -> PathBuf {
    if is_table(path) {
        path.with_extension("parquet.jsonl")
    } else {
        path.to_owned()
    }
}

/// Makes the table of the lines, which go once it is whole. Returns how many records it holds.
fn made_a_table(lines: &Path, records: Source, out: &Path) -> Result<i64, Fault> {
    let unmade = |error: String| {
        let (out, lines) = (out.display(), lines.display());
        Fault::Usage(format!(
            "{out} cannot be made: {error}; its records are in {lines}, try again with --resume"
        ))
    };
    let half = out.with_extension("parquet.half");
    let reader = BufReader::new(File::open(lines).map_err(|error| unmade(error.to_string()))?);
    let file = File::create(&half).map_err(|error| unmade(error.to_string()))?;
    let count = table::write(reader, records, file).map_err(|error| unmade(error.to_string()))?;
    std::fs::rename(&half, out).map_err(|error| unmade(error.to_string()))?;
    std::fs::remove_file(lines)?;
    Ok(i64::try_from(count).unwrap_or(i64::MAX))
}

fn unwritten(arguments: &Export, error: &std::io::Error) -> Fault {
    let path = arguments.out.as_deref().unwrap_or(Path::new("")).display();
    Fault::Usage(format!(
        "{path} cannot be written: {error}; go on with --resume once it can"
    ))
}

/// A new file: one that is there may be somebody's.
fn new(path: &Path) -> Result<File, Fault> {
    OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(path)
        .map_err(|error| {
            let way = if error.kind() == std::io::ErrorKind::AlreadyExists {
                "; go on with --resume, or choose another"
            } else {
                ""
            };
            Fault::Usage(format!("{} cannot be made: {error}{way}", path.display()))
        })
}

/// A file to go on with, cut after its last whole line, and the id in that.
fn resumed(path: &Path) -> Result<(File, Option<String>), Fault> {
    let unread = |error: std::io::Error| Fault::Usage(format!("{} cannot be gone on with: {error}", path.display()));
    let mut file = OpenOptions::new()
        .read(true)
        .write(true)
        .create(true)
        .truncate(false)
        .open(path)
        .map_err(unread)?;
    let (mut whole, mut last) = (0, String::new());
    let mut reader = BufReader::new(&mut file);
    let mut line = String::new();
    while reader.read_line(&mut line).map_err(unread)? > 0 {
        if line.ends_with('\n') {
            whole += u64::try_from(line.len()).unwrap_or(u64::MAX);
            std::mem::swap(&mut last, &mut line);
        }
        line.clear();
    }
    let id = if last.is_empty() {
        None
    } else {
        let record: Option<Value> = serde_json::from_str(&last).ok();
        let id = record.and_then(|record| Some(record.get("id")?.as_str()?.to_owned()));
        Some(id.ok_or_else(|| Fault::Usage(format!("{} holds no records of an export", path.display())))?)
    };
    file.set_len(whole).map_err(unread)?;
    file.seek(SeekFrom::End(0)).map_err(unread)?;
    Ok((file, id))
}

/// When the record of a line was.
fn time_of(line: &str) -> Option<String> {
    let record: Value = serde_json::from_str(line).ok()?;
    Some(record.get("at")?.as_str()?.to_owned())
}

#[cfg(test)]
mod tests {
    use std::io::Read as _;

    use super::*;

    fn folder() -> PathBuf {
        let folder = std::env::temp_dir().join(format!(
            "outcrop-export-{}-{:?}",
            std::process::id(),
            std::thread::current().id()
        ));
        std::fs::create_dir_all(&folder).unwrap();
        folder
    }

    #[test]
    fn a_file_is_gone_on_with_after_its_last_whole_line() {
        let path = folder().join("cut.jsonl");
        std::fs::write(&path, "{\"id\": \"01\"}\n{\"id\": \"02\"}\n{\"id\": \"0").unwrap();
        let (mut file, last) = resumed(&path).unwrap();
        assert_eq!(last.as_deref(), Some("02"));
        file.write_all(b"{\"id\": \"03\"}\n").unwrap();
        let mut text = String::new();
        File::open(&path).unwrap().read_to_string(&mut text).unwrap();
        assert_eq!(text, "{\"id\": \"01\"}\n{\"id\": \"02\"}\n{\"id\": \"03\"}\n");
    }

    #[test]
    fn a_file_that_is_not_there_is_begun_and_another_kind_of_file_is_left_as_it_is() {
        let folder = folder();
        let (_, last) = resumed(&folder.join("none.jsonl")).unwrap();
        assert_eq!(last, None);
        let other = folder.join("letter.txt");
        std::fs::write(&other, "dear purser\n").unwrap();
        assert!(matches!(resumed(&other), Err(Fault::Usage(_))));
        assert!(matches!(new(&other), Err(Fault::Usage(said)) if said.contains("--resume")));
        assert_eq!(std::fs::read_to_string(&other).unwrap(), "dear purser\n");
    }
}
