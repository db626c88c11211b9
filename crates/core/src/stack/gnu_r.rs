//! R: an error with its calls, and the list that `traceback()` prints.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct GnuR;

impl Dialect for GnuR {
    fn runtime(&self) -> &'static str {
        "r"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let at = sign!("Error").find(text)?;
        let mut exception = Exception::default();
        let mut head: Option<String> = None;
        let mut thrower = "";
        for line in lines(text.get(at..)?) {
            if let Some((call, message)) = line
                .strip_prefix("Error in ")
                .and_then(|rest| rest.split_at_mark(" : "))
            {
                thrower = function(call);
                head = Some(message.trim().to_owned());
            } else if let Some(call) = line.strip_prefix("Error in ").and_then(|rest| rest.strip_suffix(" :")) {
                // A long message stands on the next line.
                thrower = function(call);
                head = Some(String::new());
            } else if let Some(message) = line.strip_prefix("Error: ") {
                head = Some(message.to_owned());
            } else if let Some(calls) = line.strip_prefix("Calls: ") {
                // The outermost first; where there are many, the middle is left out.
                exception.frames = calls
                    .split_at_mark(" Execution halted")
                    .map_or(calls, |(calls, _)| calls)
                    .split(" -> ")
                    .filter(|call| !matches!(call.trim(), "..." | ""))
                    .map(|call| frame(call.trim(), "", None))
                    .collect();
                exception.frames.reverse();
            } else if let Some(frame) = numbered(line) {
                exception.frames.push(frame);
            } else if exception.frames.is_empty()
                && let Some(head) = &mut head
                && line.starts_with("  ")
            {
                if !head.is_empty() {
                    head.push('\n');
                }
                head.push_str(line.trim());
            }
        }
        exception.message = Cow::Owned(head?);
        if exception.frames.is_empty() {
            return None;
        }
        // The calls end with the function that failed where it is not the one in the headline.
        if !thrower.is_empty()
            && exception.frames.iter().take(2).all(|frame| frame.function != thrower)
            && is_own(thrower)
        {
            exception.frames.insert(0, frame(thrower, "", None));
        }
        Some(vec![exception])
    }
}

/// `3: per_metre("low") at rates.R#3`.
fn numbered(line: &str) -> Option<Frame<'_>> {
    let (number, call) = line.trim_start().split_once(": ")?;
    if number.is_empty() || number.len() > 4 || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let (call, place) = call.rsplit_at_mark(" at ").unwrap_or((call, ""));
    let (file, line) = place.rsplit_once('#').unwrap_or((place, ""));
    let name = function(call);
    (!name.is_empty()).then(|| frame(name, file, line.parse().ok()))
}

fn frame<'a>(call: &'a str, file: &'a str, line: Option<u32>) -> Frame<'a> {
    let name = function(call);
    Frame {
        function: Cow::Borrowed(name),
        file: Cow::Borrowed(file),
        line,
        own: is_own(name),
        ..Frame::default()
    }
}

/// The function of a call; empty for an operation such as `x[[3]]`.
fn function(call: &str) -> &str {
    let name = call.split('(').next().unwrap_or_default().trim();
    let is_name = name.starts_with(|c: char| c.is_alphabetic() || c == '.')
        && name
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '.' | '_' | ':' | '$'));
    if is_name { name } else { "" }
}

const BASE: &[&str] = &[
    "FUN",
    "Filter",
    "Map",
    "Recall",
    "Reduce",
    "apply",
    "as.Date",
    "as.POSIXlt",
    "do.call",
    "doTryCatch",
    "eval",
    "eval.parent",
    "evalq",
    "factor",
    "file",
    "force",
    "gzfile",
    "if",
    "lapply",
    "library",
    "loadNamespace",
    "local",
    "mapply",
    "match.arg",
    "match.fun",
    "on.exit",
    "print",
    "read.csv",
    "read.table",
    "readLines",
    "readRDS",
    "require",
    "rapply",
    "sapply",
    "scan",
    "source",
    "stop",
    "stopifnot",
    "strptime",
    "suppressMessages",
    "suppressWarnings",
    "switch",
    "sys.function",
    "tapply",
    "tryCatch",
    "tryCatchList",
    "tryCatchOne",
    "try",
    "url",
    "vapply",
    "warning",
    "with",
    "with.default",
    "withCallingHandlers",
    "withVisible",
    "writeLines",
    ".handleSimpleError",
    "simpleError",
    "standardGeneric",
    "UseMethod",
    "NextMethod",
    "vapply",
    "outer",
    "aggregate",
    "merge",
    "data.frame",
    "strsplit",
    "paste",
    "sprintf",
    "open",
    "connection",
];

/// Functions of packages, which say so, and those of R itself that stand between own code and what failed.
fn is_own(name: &str) -> bool {
    !name.is_empty() && !name.contains("::") && !BASE.contains(&name)
}
