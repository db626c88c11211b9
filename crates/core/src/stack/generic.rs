//! Any other runtime: lines with a name and a place, in whatever dress.
//!
//! A line is a frame when it holds a source place (`dock.nim(12)`, `Dock.swift:12:5`, `file "dock.ml", line 12`,
//! `package:dock/dock.dart 12:5`), or when it wears what frames wear (`#3 `, `3: `, `[3] `, `at `, `from `, an address)
//! around a function's name. What stands around name and place is not looked at.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};
use crate::stack::places::{is_library_path, place};
use crate::stack::words::{bare_name, is_own_name, name};

pub(super) struct Generic;

impl Dialect for Generic {
    fn runtime(&self) -> &'static str {
        "unknown"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let mut exception = Exception::default();
        let mut has_mark = false;
        let mut head_lines = 0;
        // How far the last frame that has a place is indented: what stands deeper below it is the source it quotes.
        let mut placed_at: Option<usize> = None;
        let mut begins_with_frames = begins_with_frames(text);
        for line in lines(text) {
            // Loggers of some runtimes put their level before each line.
            let line = line
                .strip_prefix("ERROR: ")
                .or_else(|| line.strip_prefix("Warning: "))
                .unwrap_or(line);
            let content = line.trim();
            let is_numbered = content
                .strip_prefix('[')
                .is_some_and(|rest| rest.trim_start_matches(|c: char| c.is_ascii_digit()).starts_with("] "));
            let is_nothing = content.is_empty() || content == "In:" || content.bytes().all(|b| b == b'-');
            if is_nothing || is_numbered && head_lines > 0 && frame(content).is_none() {
                continue;
            }
            let indent = line.len() - line.trim_start().len();
            match frame(content) {
                Some((frame, _)) if frame.file.is_empty() && placed_at.is_some_and(|placed| indent > placed) => {}
                Some((frame, is_marked))
                    if is_marked
                        || begins_with_frames
                        || !exception.frames.is_empty()
                        || line.starts_with([' ', '\t'])
                        || head_lines > 0 =>
                {
                    has_mark |= is_marked;
                    placed_at = if frame.file.is_empty() { None } else { Some(indent) };
                    exception.frames.push(frame);
                }
                // A place under the name it belongs to, on a line of its own.
                _ if exception.frames.is_empty() => {
                    begins_with_frames = false;
                    head_lines += 1;
                    headline(&mut exception, content);
                }
                // Some runtimes name the exception below its frames.
                _ if exception.message.is_empty() && exception.type_name.is_empty() && content.holds(": ") => {
                    headline(&mut exception, content);
                }
                _ => {}
            }
        }
        let is_named_last = head_lines == 0 && !(exception.type_name.is_empty() && exception.message.is_empty());
        finish(
            &mut exception.frames,
            is_named_last || sign!("most recent call last").is_in(text),
        );
        let is_stack = exception.frames.len() > 1 || has_mark && !exception.frames.is_empty();
        is_stack.then(|| vec![exception])
    }
}

/// Puts frames in order, innermost first, and tells own from library code.
fn finish(frames: &mut Vec<Frame<'_>>, is_outermost_first: bool) {
    join_places(frames);
    // Those who print a stack outermost first say so, or name the exception last, beside where it was thrown.
    if is_outermost_first {
        frames.reverse();
    }
    if !frames.iter().any(|frame| frame.own) {
        // Nothing tells own from library code: code with a source place is the service's.
        for frame in frames {
            frame.own = !frame.file.is_empty() && !is_library_path(&frame.file);
        }
    }
}

/// Whether a text begins with frames: its first two lines begin with places.
fn begins_with_frames(text: &str) -> bool {
    let mut first = lines(text).map(str::trim).filter(|line| !line.is_empty());
    let is_placed = |line: &str| place(line).is_some_and(|place| place.from == 0) && !line.holds(": ");
    first.next().is_some_and(is_placed) && first.next().is_some_and(is_placed)
}

/// A frame with a place alone belongs to the name on the line before it.
fn join_places(frames: &mut Vec<Frame<'_>>) {
    let mut joined: Vec<Frame<'_>> = Vec::with_capacity(frames.len());
    for frame in frames.drain(..) {
        match joined.last_mut() {
            Some(last) if last.file.is_empty() && !last.function.is_empty() && frame.function.is_empty() => {
                (last.file, last.line, last.own) = (frame.file, frame.line, frame.own);
            }
            _ => joined.push(frame),
        }
    }
    *frames = joined;
}

/// Takes what says that it is an exception, by where it was made or in so many words; returns whether it did.
fn is_said_outright<'a>(exception: &mut Exception<'a>, content: &'a str) -> bool {
    // `SeasonClosed@source/rates.d(3): season high is closed`: the place of the exception's making
    // stands behind its type.
    if let Some((name, rest)) = content.split_once('@')
        && looks_like_type(name)
        && let Some(place) = place(rest).filter(|place| place.from == 0)
    {
        exception.type_name = Cow::Borrowed(name);
        exception.message = Cow::Borrowed(rest.get(place.to..).unwrap_or_default().trim_start_matches([':', ' ']));
        return true;
    }
    // What is said to be an exception is its type, whatever it looks like: `exception Not_found`,
    // `exception Failure("…")`.
    if let Some(rest) = content.strip_prefix("Fatal error: exception ") {
        let end = rest
            .find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.')))
            .unwrap_or(rest.len());
        let (name, message) = rest.split_at_checked(end).unwrap_or((rest, ""));
        (exception.type_name, exception.message) = (
            Cow::Borrowed(name),
            Cow::Borrowed(message.trim_start_matches([':', ' '])),
        );
        return true;
    }
    false
}

/// How runtimes introduce an exception that nobody caught.
const INTRODUCTIONS: &[&str] = &[
    "Unhandled exception:",
    "Unhandled Exception:",
    "Uncaught exception:",
    "Uncaught Exception:",
    "unhandled exception:",
    "Fatal error: exception ",
    "Fatal error:",
    "fatal error:",
    "Uncaught Kotlin exception:",
    "Uncaught ",
    "ERROR:",
    "Error:",
    "error:",
    "LoadError:",
    "raised ",
    "panic:",
    "terminating due to uncaught exception",
];

fn headline<'a>(exception: &mut Exception<'a>, content: &'a str) {
    let mut content = content;
    // A place in front: `Dock.swift:12: Fatal error: …`.
    if let Some((_, rest)) = content
        .split_at_mark(": ")
        .filter(|(before, _)| place(before).is_some_and(|place| place.from == 0))
    {
        content = rest;
    }
    if is_said_outright(exception, content) {
        return;
    }
    while let Some(rest) = INTRODUCTIONS
        .iter()
        .find_map(|introduction| content.strip_prefix(introduction))
    {
        content = rest.trim_start();
    }
    if content.is_empty() || is_heading(content) {
        return;
    }
    if let Some(said) = content.strip_prefix("what():") {
        exception.message = Cow::Borrowed(said.trim_start());
        return;
    }
    if !exception.type_name.is_empty() || !exception.message.is_empty() {
        let message = exception.message.to_mut();
        if !message.is_empty() {
            message.push('\n');
        }
        message.push_str(content);
        return;
    }
    // C++: `terminate called after throwing an instance of 'skerry::DockFull'`.
    if let Some(name) = content
        .split_at_mark("instance of '")
        .and_then(|(_, rest)| rest.split('\'').next())
    {
        exception.type_name = Cow::Borrowed(name);
        return;
    }
    (exception.type_name, exception.message) = type_and_message(content);
}

/// The type of a headline, where one stands at its end or beginning, and its message.
fn type_and_message(content: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    // The type may stand behind the message: `index 9 not in 0 .. 2 [IndexDefect]`, `Index out of bounds (IndexError)`.
    let behind = content
        .strip_suffix([']', ')'])
        .and_then(|rest| rest.rsplit_once([' ', '\t']))
        .and_then(|(said, name)| Some((said, name.strip_prefix(['[', '('])?)));
    if let Some((said, name)) = behind.filter(|(_, name)| looks_like_type(name)) {
        return (Cow::Borrowed(name), Cow::Borrowed(said));
    }
    let name = content.split([':', '(', ' ', '@']).next().unwrap_or(content);
    let scoped = content.before_mark(": ");
    for name in [scoped, name] {
        if looks_like_type(name) {
            let message = content.get(name.len()..).unwrap_or_default();
            return (
                Cow::Borrowed(name),
                Cow::Borrowed(message.trim_start_matches([':', ' '])),
            );
        }
    }
    (Cow::Borrowed(""), Cow::Borrowed(content))
}

fn is_heading(content: &str) -> bool {
    let lower = content.to_ascii_lowercase();
    lower.starts_with("stack")
        || lower.holds("backtrace")
        || lower.holds("traceback")
        || lower.holds("call stack")
        || lower.starts_with("callstack")
        || lower.starts_with("context")
        || lower.starts_with("called from")
}

/// `DockFull`, `Skerry.Dock.Full`, `dock::full_error`: a name with a capital or a scope, and no sentence.
fn looks_like_type(name: &str) -> bool {
    name.len() > 2
        && name.starts_with(|c: char| c.is_alphabetic())
        && name
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | ':' | '/' | '-' | '!' | '?'))
        && !name.ends_with(['.', ':'])
        && (name.holds("::")
            || name.contains('.')
            || name.chars().skip(1).any(char::is_uppercase)
            || name.to_ascii_lowercase().ends_with("error") && name.len() > 5)
        && name.chars().any(char::is_alphabetic)
        && !name.chars().all(char::is_uppercase)
}

/// The frame of a line, and whether the line wears a frame's marks.
fn frame(content: &str) -> Option<(Frame<'_>, bool)> {
    let (bare, is_marked) = unmarked(content);
    let Some(place) = place(bare) else {
        let name = is_marked.then(|| name(bare)).flatten()?;
        let frame = Frame {
            own: is_own_name(name),
            function: Cow::Borrowed(bare_name(name)),
            ..Frame::default()
        };
        return Some((frame, is_marked));
    };
    let rest = [
        bare.get(..place.from).unwrap_or_default(),
        bare.get(place.to..).unwrap_or_default(),
    ];
    // The longer a sentence around the place, the less it is a frame.
    if !is_marked && rest.iter().map(|part| part.split_whitespace().count()).sum::<usize>() > 8 {
        return None;
    }
    // `@ Module place` is Julia's second line of a frame.
    let is_second_line = bare.starts_with('@');
    let function = if is_second_line {
        ""
    } else {
        rest.iter().find_map(|part| name(part)).map_or("", bare_name)
    };
    let own = !is_library_path(place.file) && is_own_name(function);
    let frame = Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(""),
        file: Cow::Borrowed(place.file),
        line: place.line,
        own,
        repeats: 0,
    };
    Some((frame, is_marked))
}

/// Words that frames begin with.
const BEFORE_FRAMES: &[&str] = &[
    "at ",
    "from ",
    "called from ",
    "Called from ",
    "called at ",
    "Raised at ",
    "Re-raised at ",
    "Raised by primitive operation at ",
    "in ",
    "by ",
];

/// The line without numbering, addresses and words that begin frames.
fn unmarked(content: &str) -> (&str, bool) {
    let mut rest = content;
    let mut is_marked = false;
    loop {
        let before = rest;
        rest = rest.trim_start_matches(['\u{2502}', '|', '\u{2570}', '\u{251c}', '>', '*', '-', ' ', '\t']);
        for word in BEFORE_FRAMES {
            if let Some(after) = rest.strip_prefix(word) {
                rest = after.trim_start();
                is_marked = true;
            }
        }
        // No place is known: D's way of saying so.
        if let Some(after) = rest.strip_prefix("??:? ") {
            rest = after;
            is_marked = true;
        }
        if rest.starts_with("expression starting at ") {
            return ("", false);
        }
        let numbered = rest.trim_start_matches(['#', '[', '(', '{', '@']);
        let digits = numbered.bytes().take_while(u8::is_ascii_digit).count();
        if digits > 0 && digits < 5 {
            let after = numbered.get(digits..).unwrap_or_default();
            let stripped = after.trim_start_matches([']', ')', '}', ':', '#', '.', '>']);
            let has_mark = stripped.len() < after.len() || numbered.len() < rest.len();
            if stripped.starts_with([' ', '\t']) && (has_mark || stripped.starts_with("  ")) {
                rest = stripped.trim_start();
                is_marked = true;
            }
        }
        // The binary's name before the address: `libswiftCore.so   0x00007f2b3c1a0e30 symbol + 112`.
        if is_marked
            && let Some((binary, after)) = rest.split_once(char::is_whitespace)
            && after.trim_start().starts_with("0x")
            && !binary.contains('(')
        {
            rest = after.trim_start();
        }
        if let Some(after) = rest.strip_prefix("0x").or_else(|| rest.strip_prefix('$')) {
            let hex = after.bytes().take_while(u8::is_ascii_hexdigit).count();
            let after = after.get(hex..).unwrap_or_default();
            if hex >= 4 && after.starts_with([' ', ':', '\t']) {
                rest = after.trim_start_matches([' ', ':', '-', '\t']);
                is_marked = true;
            }
        }
        if rest.len() == before.len() {
            return (rest, is_marked);
        }
    }
}
