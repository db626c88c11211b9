//! A stack in the terminal: own frames in full, library frames folded between them.

use outcrop_api::{Exception, Frame, OccurrenceDetail};
use outcrop_core::text::{printable, printable_block};

use crate::fault::Fault;
use crate::output::line;

/// Which frames are shown.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Frames {
    /// Own frames; library frames are counted.
    OwnFirst,
    /// All.
    All,
}

pub fn print(occurrence: &OccurrenceDetail, frames: Frames) -> Result<(), Fault> {
    let item = &occurrence.occurrence;
    line(format!("  {}{}", printable(&item.type_name), joined(&item.message)))?;
    let Some(stack) = &occurrence.stack else {
        return match &occurrence.stacktrace {
            Some(text) => text
                .lines()
                .try_for_each(|row| line(format!("    {}", printable_block(row)))),
            None => line("    (no stack was sent)"),
        };
    };
    for exception in &stack.exceptions {
        if exception.relation != "thrown" {
            let relation = match exception.relation.as_str() {
                "cause" => "caused by",
                "handled" => "while handling",
                _ => "member",
            };
            line(format!(
                "  {relation}: {}{}",
                printable(&exception.type_name),
                joined(&exception.message)
            ))?;
        }
        print_frames(exception, frames)?;
    }
    Ok(())
}

fn joined(message: &str) -> String {
    if message.is_empty() {
        String::new()
    } else {
        format!(": {}", printable(message))
    }
}

fn print_frames(exception: &Exception, frames: Frames) -> Result<(), Fault> {
    let shows = |frame: &Frame| frames == Frames::All || frame.own;
    // An exception thrown and passed by libraries alone still shows where it was thrown.
    let is_foreign = !exception.frames.iter().any(shows);
    let mut folded = 0;
    for (at, frame) in exception.frames.iter().enumerate() {
        if !(shows(frame) || is_foreign && at == 0) {
            folded += 1;
            continue;
        }
        fold(&mut folded)?;
        let owner = if frame.own { "" } else { "  (library)" };
        let repeats = if frame.repeats > 0 {
            format!("  × {}", frame.repeats + 1)
        } else {
            String::new()
        };
        line(format!("    {}{owner}{repeats}", printable(&place(frame))))?;
        if frame.own {
            more(frame)?;
        }
    }
    fold(&mut folded)
}

/// What is known of a frame beyond the stack text: its lines of source, its variables, a link.
fn more(frame: &Frame) -> Result<(), Fault> {
    for (number, text) in frame
        .source
        .iter()
        .flat_map(|source| (source.first..).zip(&source.lines))
    {
        // Three lines around it are enough in a terminal.
        if frame.line.is_some_and(|at| number.abs_diff(at) <= 3) {
            let mark = if Some(number) == frame.line { '>' } else { ' ' };
            line(format!("      {mark} {number} {}", printable_block(text)))?;
        }
    }
    for variable in &frame.variables {
        line(printable(&format!("        {} = {}", variable.name, variable.value)))?;
    }
    match &frame.link {
        Some(link) => line(printable(&format!("        {link}"))),
        None => Ok(()),
    }
}

fn fold(folded: &mut usize) -> Result<(), Fault> {
    let count = std::mem::take(folded);
    match count {
        0 => Ok(()),
        1 => line("    · 1 library frame"),
        _ => line(format!("    · {count} library frames")),
    }
}

fn place(frame: &Frame) -> String {
    let name = match (frame.module.as_str(), frame.function.as_str()) {
        ("", "") => "(anonymous)".to_owned(),
        ("", function) => function.to_owned(),
        (module, "") => module.to_owned(),
        (module, function) => format!("{module}.{function}"),
    };
    match (frame.file.as_str(), frame.line) {
        ("", _) => name,
        (file, None) => format!("{name}  {file}"),
        (file, Some(line)) => format!("{name}  {file}:{line}"),
    }
}
