//! Guile: backtraces, which begin with the outermost frame.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Guile;

impl Dialect for Guile {
    fn runtime(&self) -> &'static str {
        "guile"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let at = sign!("Backtrace:\n").find(text)?;
        let mut exception = Exception::default();
        let mut file = "";
        let mut message: Option<String> = None;
        for line in lines(text.get(at..)?).skip(1) {
            if let Some(place) = line.strip_prefix("In ").and_then(|rest| rest.strip_suffix(':')) {
                file = if place == "unknown file" { "" } else { place };
            } else if let Some(frame) = frame(line, file) {
                exception.frames.push(frame);
            } else if let Some(message) = &mut message {
                message.push('\n');
                message.push_str(line);
            } else if !line.trim().is_empty() && !exception.frames.is_empty() {
                message = Some(line.to_owned());
            }
        }
        exception.frames.reverse();
        let message = message.unwrap_or_default();
        let (type_name, said) = headline(message.trim());
        (exception.type_name, exception.message) = (Cow::Owned(type_name.to_owned()), Cow::Owned(said.to_owned()));
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `     4:23  1 (per-metre ebb)`, and without a place `           7 (apply-smob/0 …)`.
fn frame<'a>(line: &'a str, file: &'a str) -> Option<Frame<'a>> {
    let content = line.strip_prefix("  ")?.trim_start();
    let (place, rest) = match content.split_once(char::is_whitespace)? {
        (place, rest) if place.contains(':') => (place, rest.trim_start()),
        _ => ("", content),
    };
    let (number, call) = rest.split_once(' ')?;
    if number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit()) || !call.starts_with(['(', '_']) {
        return None;
    }
    let line = place.split(':').next().and_then(|line| line.parse().ok());
    let name = call
        .trim_start_matches('(')
        .split([' ', ')'])
        .next()
        .unwrap_or_default();
    // `apply-smob/0`: the arity is no part of the name; `_` stands for what has none.
    let name = name.split('/').next().unwrap_or(name);
    let function = if matches!(name, "_" | "") || name.starts_with('#') {
        ""
    } else {
        name
    };
    let file = if place.is_empty() { "" } else { file };
    Some(Frame {
        function: Cow::Borrowed(function),
        file: Cow::Borrowed(file),
        line,
        own: is_own(file),
        ..Frame::default()
    })
}

/// Modules that come with Guile lie in these folders of its load path, and are named from there.
fn is_own(file: &str) -> bool {
    const LIBRARIES: &[&str] = &[
        "ice-9/",
        "srfi/",
        "rnrs/",
        "oop/",
        "system/",
        "web/",
        "language/",
        "scripts/",
        "sxml/",
        "texinfo/",
        "statprof",
    ];
    !file.is_empty() && !LIBRARIES.iter().any(|folder| file.starts_with(folder)) && !file.holds("/share/guile/")
}

/// `rates.scm:4:23: In procedure cdr: Wrong type argument…`, "Throw to key `season-closed' with
/// args `(high)'.", `ERROR: …`.
fn headline(message: &str) -> (&str, &str) {
    let message = message.strip_prefix("ERROR: ").unwrap_or(message);
    // The place in front is that of the innermost frame.
    let message = match message.split_at_mark(": ") {
        Some((place, rest))
            if place.ends_with(|c: char| c.is_ascii_digit()) && place.contains(':') && !place.contains(' ') =>
        {
            rest
        }
        _ => message,
    };
    // The procedure it was thrown in stands on a line of its own.
    let message = match message
        .strip_prefix("In procedure ")
        .and_then(|rest| rest.split_once(":\n"))
    {
        Some((name, rest)) if !name.contains(' ') => rest,
        _ => message,
    };
    match message
        .strip_prefix("Throw to key `")
        .and_then(|rest| rest.split_once('\''))
    {
        Some((key, rest)) => (
            key,
            rest.strip_prefix(" with args ").unwrap_or(rest).trim_end_matches('.'),
        ),
        None => ("", message),
    }
}
