//! Finds events in a log, line by line.

use std::collections::HashMap;

use crate::Timestamp;
use crate::app_log::structured::Structured;
use crate::app_log::wrap::Wrapping;
use crate::app_log::{Event, Exception, Fields, header, structured, trace, wrap};

/// Lines kept of one event: a dump of all goroutines has some thousand.
pub(super) const MAX_LINES: usize = 20_000;

/// Bytes kept of one event.
pub(super) const MAX_BYTES: usize = 4 << 20;

/// Finds events in a log, line by line.
#[derive(Debug, Default)]
pub struct Finder {
    pub(super) line: u64,
    pub(super) wrapping: Option<Wrapping>,
    /// The first lines, until it is said how the log is wrapped.
    pub(super) first: Vec<String>,
    /// The process that wrote the last line.
    pub(super) last: String,
    pub(super) open: HashMap<String, Open>,
    /// Processes whose lines have been seen to begin with a time or level.
    pub(super) with_headers: HashMap<String, bool>,
    /// Lines that a container runtime cut, with the number of their first part.
    pub(super) partial: HashMap<String, (u64, String)>,
}

/// An event that may go on.
#[derive(Debug, Default)]
pub(super) struct Open {
    pub(super) lines: Vec<(u64, String)>,
    pub(super) bytes: usize,
    pub(super) header: Option<header::Header>,
    pub(super) time: Option<Timestamp>,
}

impl Finder {
    /// Takes the next line, without its line end. Returns the events that end before it; the first
    /// lines are held back until they tell how the log is wrapped.
    pub fn push(&mut self, raw: &str, now: Timestamp) -> Vec<Event> {
        let raw = raw.trim_end_matches('\r');
        if self.wrapping.is_none() {
            self.first.push(raw.to_owned());
            return if self.first.len() < wrap::LOOKED_AT {
                vec![]
            } else {
                self.decide(now)
            };
        }
        // A log that had few lines when it was told may show later how it is wrapped.
        if self.wrapping == Some(Wrapping::None) && self.first.len() < wrap::LOOKED_AT {
            self.first.push(raw.to_owned());
            self.wrapping = Some(Wrapping::of(&self.first.iter().map(String::as_str).collect::<Vec<_>>()));
        }
        self.take_raw(raw, now)
    }

    /// Says how the log is wrapped, and takes the lines that were held back.
    pub(super) fn decide(&mut self, now: Timestamp) -> Vec<Event> {
        if self.wrapping.is_some() || self.first.is_empty() {
            return vec![];
        }
        let first = std::mem::take(&mut self.first);
        self.wrapping = Some(Wrapping::of(&first.iter().map(String::as_str).collect::<Vec<_>>()));
        let done = first.iter().flat_map(|line| self.take_raw(line, now)).collect();
        self.first = first;
        done
    }

    pub(super) fn take_raw(&mut self, raw: &str, now: Timestamp) -> Vec<Event> {
        self.line += 1;
        let unwrapped = self.wrapping.unwrap_or(Wrapping::None).unwrap(raw);
        let process = if unwrapped.is_bare {
            self.last.clone()
        } else {
            unwrapped.process.into_owned()
        };
        self.last.clone_from(&process);
        if unwrapped.is_partial {
            self.partial
                .entry(process)
                .or_insert_with(|| (self.line, String::new()))
                .1
                .push_str(&unwrapped.text);
            return vec![];
        }
        let (line, text) = match self.partial.remove(&process) {
            Some((line, begun)) => (line, begun + &unwrapped.text),
            None => (self.line, unwrapped.text.into_owned()),
        };
        self.take(line, process, &text, unwrapped.time, now)
    }

    /// Takes one whole entry of a log that knows its entries, such as the journal: `lines` of the input hold it.
    pub fn push_entry(
        &mut self,
        process: &str,
        text: &str,
        time: Option<Timestamp>,
        lines: u64,
        now: Timestamp,
    ) -> Vec<Event> {
        self.line += lines;
        let mut done = vec![];
        for line in text.lines() {
            done.extend(self.take(self.line, process.to_owned(), line, time, now));
        }
        done
    }

    /// Counts lines that hold nothing of the application's.
    pub const fn skip(&mut self, lines: u64) {
        self.line += lines;
    }

    /// Ends all events that are open: at the end of a log, or when nothing has come for a while.
    pub fn flush(&mut self, now: Timestamp) -> Vec<Event> {
        let mut done = self.decide(now);
        let mut open: Vec<(String, Open)> = self.open.drain().collect();
        open.sort_by_key(|(_, open)| open.lines.first().map(|(number, _)| *number));
        done.extend(open.into_iter().flat_map(|(process, open)| open.close(&process, now)));
        done
    }

    /// The first line of the events that may still go on.
    #[must_use]
    pub fn first_open_line(&self) -> Option<u64> {
        let open = self
            .open
            .values()
            .filter_map(|open| open.lines.first())
            .map(|(number, _)| *number);
        let held = (self.wrapping.is_none() && !self.first.is_empty()).then_some(self.line + 1);
        open.chain(self.partial.values().map(|(number, _)| *number))
            .chain(held)
            .min()
    }

    pub(super) fn take(
        &mut self,
        line: u64,
        process: String,
        text: &str,
        time: Option<Timestamp>,
        now: Timestamp,
    ) -> Vec<Event> {
        if let Some(data) = structured::read(text) {
            let mut done = self
                .open
                .remove(&process)
                .map(|open| open.close(&process, now))
                .unwrap_or_default();
            self.with_headers.insert(process.clone(), true);
            done.push(data.event(line, process, time));
            return done;
        }
        // A report of Erlang's right below an error's line is what that line announces.
        let is_announced = |open: &Open| text.starts_with('=') && open.lines.len() == 1 && !open.is_quiet();
        let header = header::header(text).filter(|_| !self.open.get(&process).is_some_and(is_announced));
        let begins = match (&header, self.open.get(&process)) {
            (Some(_), _) | (None, None) => true,
            // Where a process's lines have no times or levels, a line begins an event unless it goes on with a trace.
            (None, Some(open)) => {
                !self.with_headers.get(&process).copied().unwrap_or(false)
                    && !text.trim().is_empty()
                    && !open.goes_on_with(text)
            }
        };
        if header.is_some() {
            self.with_headers.insert(process.clone(), true);
        }
        let mut done = vec![];
        if begins {
            done = self
                .open
                .remove(&process)
                .map(|open| open.close(&process, now))
                .unwrap_or_default();
            self.open.insert(
                process.clone(),
                Open {
                    header,
                    time,
                    ..Open::default()
                },
            );
        }
        if let Some(open) = self.open.get_mut(&process) {
            open.bytes += text.len();
            if open.lines.len() < MAX_LINES && open.bytes < MAX_BYTES {
                open.lines.push((line, text.to_owned()));
            }
        }
        done
    }
}

impl Structured {
    pub(super) fn event(self, line: u64, process: String, time: Option<Timestamp>) -> Event {
        Event {
            first_line: line,
            last_line: line,
            process,
            service: self.service,
            time: self.time.or(time),
            severity: self.severity,
            message: self.message,
            exception: self.exception,
            trace: self.trace,
            fields: self.fields,
        }
    }
}

impl Open {
    /// Whether a line without a time or level goes on with this event rather than beginning another.
    pub(super) fn goes_on_with(&self, text: &str) -> bool {
        let has_frames = || self.lines.iter().any(|(_, line)| trace::is_frame(line));
        // Python states the exception after its frames.
        let is_open_traceback = || {
            let last = self
                .lines
                .iter()
                .rev()
                .find(|(_, line)| !line.starts_with([' ', '\t']) && !line.trim().is_empty());
            last.is_some_and(|(_, line)| line.ends_with("Traceback (most recent call last):"))
        };
        text.starts_with([' ', '\t'])
            || trace::is_frame(text)
            || text.starts_with("CallStack (from ")
            || trace::is_tie(text)
                && self
                    .lines
                    .iter()
                    .any(|(_, line)| trace::is_start(line) || trace::is_frame(line))
            || is_open_traceback()
            // Rust says in the next line what a thread panicked of.
            || self.lines.last().is_some_and(|(_, line)| trace::awaits_message(line))
            || has_frames()
                && text.starts_with("Traceback (most recent call last):")
                && self.lines.iter().rev().take(3).any(|(_, line)| trace::is_tie(line))
    }

    /// Whether the logger's line speaks of no failure.
    pub(super) fn is_quiet(&self) -> bool {
        match self.header.as_ref().map_or(0, |header| header.severity) {
            0 => !self.lines.first().is_some_and(|(_, line)| speaks_of_failure(line)),
            severity => severity < 13,
        }
    }

    /// The events these lines make: one of the logger's, and one for each trace that is not part of it.
    pub(super) fn close(self, process: &str, now: Timestamp) -> Vec<Event> {
        let Some((first_line, first)) = self.lines.first() else {
            return vec![];
        };
        let text_at = self.header.as_ref().map_or(0, |header| header.text_at);
        let said = first.get(text_at..).unwrap_or_default();
        let lines: Vec<&str> = [said]
            .into_iter()
            .chain(self.lines.iter().skip(1).map(|(_, line)| line.as_str()))
            .collect();
        let severity = self.header.as_ref().map_or(0, |header| header.severity);
        let base = Event {
            first_line: *first_line,
            last_line: self.lines.last().map_or(*first_line, |(number, _)| *number),
            process: process.to_owned(),
            time: self
                .header
                .as_ref()
                .and_then(|header| header.time)
                .or_else(|| header::completed(first, now))
                .or(self.time),
            severity,
            message: message(said, &lines),
            fields: Fields::in_text(said),
            ..Event::default()
        };
        let is_report = first.starts_with('=');
        let ranges = trace::find(&lines, self.header.is_some() && !is_report, self.is_quiet());
        let number = |at: usize| self.lines.get(at).map_or(base.last_line, |(number, _)| *number);
        let mut events = vec![];
        if ranges.first().is_none_or(|range| range.from > 0) {
            let last = ranges.first().map_or(base.last_line, |range| number(range.from - 1));
            events.push(Event {
                last_line: last,
                ..base.clone()
            });
        }
        for range in ranges {
            let rest = lines.get(range.from + 1..=range.to).unwrap_or_default();
            let exception = trace::exception(lines[range.from], rest, if range.from == 0 { said } else { "" });
            events.push(Event {
                first_line: number(range.from),
                last_line: number(range.to),
                severity: if range.from > 0 || severity == 0 {
                    17.max(severity)
                } else {
                    severity
                },
                message: if range.from > 0 {
                    lines[range.from].to_owned()
                } else {
                    base.message.clone()
                },
                exception,
                ..base.clone()
            });
        }
        events
    }
}

/// The exception that a logged text holds: its stack among the lines, with or without a line before
/// it that announces it. `None` where no line of it only stands in stack traces.
#[must_use]
pub fn exception_in(text: &str) -> Option<Exception> {
    let lines: Vec<&str> = text.lines().take(MAX_LINES).collect();
    let range = trace::find(&lines, true, false).into_iter().next()?;
    let rest = lines.get(range.from + 1..=range.to)?;
    let found = trace::exception(lines[range.from], rest, lines[0]);
    // Where the text begins with the trace, nothing announced it.
    if range.from == 0 && (trace::is_start(lines[0]) || trace::is_frame(lines[0])) {
        trace::of_text(text).or(found)
    } else {
        found
    }
}

/// What was logged: the first line's text, else the next line's that has one.
pub(super) fn message(said: &str, lines: &[&str]) -> String {
    let said = if said.trim().is_empty() {
        lines
            .iter()
            .find(|line| !line.trim().is_empty())
            .copied()
            .unwrap_or_default()
    } else {
        said
    };
    said.trim().to_owned()
}

/// Whether a line without a level speaks of a failure.
pub(super) fn speaks_of_failure(said: &str) -> bool {
    let said = said.to_lowercase();
    [
        "fail",
        "error:",
        "exception:",
        "panic",
        "recovered",
        "fatal",
        "crash",
        "abort",
        "unhandled",
        "uncaught",
        "could not",
        "cannot",
        "terminat",
        "died",
    ]
    .iter()
    .any(|word| said.contains(word))
}
