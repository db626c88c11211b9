//! The flags over a recorded stream, without a server.

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::path::PathBuf;

use clap::Args;
use flate2::read::MultiGzDecoder;
use outcrop_core::deploy::{Detector, Event, FlagLine};

use crate::fault::Fault;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop backtest week.jsonl.gz > flags.jsonl\n  outcrop backtest - < week.jsonl\n\n\
    The stream is JSON Lines in order of time: deploys, requests and errors by the minute, and what was settled. \
    docs/reference/stream.md has the format\n\
    and the model; the code is the one that says the flags of the running service."
)]
pub struct Backtest {
    /// The stream, plain or gzip; - reads standard input.
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
}

pub fn run(arguments: &Backtest) -> Result<(), Fault> {
    let name = arguments.file.display().to_string();
    let cannot = |error: &std::io::Error| Fault::Usage(format!("{name} cannot be read: {error}"));
    let mut input: Box<dyn BufRead> = if name == "-" {
        Box::new(BufReader::new(std::io::stdin()))
    } else {
        Box::new(BufReader::new(
            File::open(&arguments.file).map_err(|error| cannot(&error))?,
        ))
    };
    // gzip's first two bytes (RFC 1952, 2.3.1).
    let is_packed = input
        .fill_buf()
        .map_err(|error| cannot(&error))?
        .starts_with(&[0x1f, 0x8b]);
    let input: Box<dyn Read> = if is_packed {
        Box::new(MultiGzDecoder::new(input))
    } else {
        Box::new(input)
    };
    let mut detector = Detector::default();
    let mut out = BufWriter::new(std::io::stdout().lock());
    let mut last = i64::MIN;
    for (number, line) in BufReader::new(input).lines().enumerate() {
        let line = line.map_err(|error| cannot(&error))?;
        if line.trim().is_empty() {
            continue;
        }
        let event =
            Event::parse(&line).map_err(|error| Fault::Usage(format!("{name}, line {}: {error}", number + 1)))?;
        if event.minute() < last {
            return Err(Fault::Usage(format!(
                "{name}, line {}: it is earlier than the line before; the stream must be in order of time",
                number + 1
            )));
        }
        last = event.minute();
        write(&mut out, detector.push(&event))?;
    }
    write(&mut out, detector.finish())?;
    out.flush()?;
    Ok(())
}

fn write(out: &mut impl Write, flags: Vec<FlagLine>) -> Result<(), Fault> {
    for flag in flags {
        serde_json::to_writer(&mut *out, &flag).map_err(std::io::Error::from)?;
        out.write_all(b"\n")?;
    }
    Ok(())
}
