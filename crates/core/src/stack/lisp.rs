//! Common Lisp: backtraces of SBCL, and of others that number frames as it does.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Lisp;

impl Dialect for Lisp {
    fn runtime(&self) -> &'static str {
        "sbcl"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let has_head = sign!("Backtrace for: #<").is_in(text) || sign!("debugger invoked on a ").is_in(text);
        if !has_head && !sign!("\n0: (").is_in(text) && !text.starts_with("0: (") {
            return None;
        }
        let mut exception = Exception::default();
        let mut message: Vec<&str> = vec![];
        for line in lines(text) {
            let content = line.trim();
            if let Some(frame) = frame(content) {
                exception.frames.push(frame);
            } else if !exception.frames.is_empty() {
                // What an interpreter says below its backtrace.
                break;
            } else if let Some(head) = content
                .strip_prefix("Unhandled ")
                .or_else(|| content.strip_prefix("debugger invoked on a "))
            {
                exception.type_name = Cow::Borrowed(head.split(' ').next().unwrap_or_default().trim_end_matches(':'));
                message.clear();
            } else if !content.is_empty() && !content.starts_with("Backtrace for: ") && !is_thread(content) {
                message.push(content);
            }
        }
        exception.message = Cow::Owned(message.join("\n"));
        let is_stack = exception.frames.len() > 1 || has_head && !exception.frames.is_empty();
        is_stack.then(|| vec![exception])
    }
}

/// The rest of `#<SB-THREAD:THREAD "main thread" RUNNING {1001348003}>:` where that takes two lines.
fn is_thread(content: &str) -> bool {
    content.starts_with('{') && content.ends_with(">:")
}

/// `1: (PER-METRE EBB)`, `6: ((LABELS ADD :IN RATES) 4)`, `2: ((FLET "WITHOUT-GCING-BODY-11" :IN SB-IMPL::X))`.
fn frame(content: &str) -> Option<Frame<'_>> {
    let (number, call) = content.split_once(": ")?;
    if number.is_empty() || number.len() > 5 || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let call = call.strip_prefix('(')?;
    let name = if let Some(inner) = call.strip_prefix('(') {
        // A function within another: the outer one names the place.
        inner
            .split(')')
            .next()
            .and_then(|inner| inner.split_at_mark(":IN "))
            .map_or("", |(_, outer)| outer.trim())
    } else {
        call.split([' ', ')']).next().unwrap_or_default()
    };
    let own = is_own(name);
    let (module, function) = match name.rsplit_once(':') {
        Some((package, function)) => (package.trim_end_matches(':'), function),
        None => ("", name),
    };
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        own,
        ..Frame::default()
    })
}

/// Packages of implementations, and the standard's own functions (ANSI INCITS 226) that stand
/// between own code and what failed.
fn is_own(name: &str) -> bool {
    const PACKAGES: &[&str] = &[
        "SB-",
        "CCL",
        "SYSTEM:",
        "SI:",
        "EXT:",
        "ASDF",
        "UIOP",
        "QL:",
        "CL:",
        "COMMON-LISP:",
        "BORDEAUX-THREADS",
        "BT:",
    ];
    const STANDARD: &[&str] = &[
        "APPLY",
        "BREAK",
        "CERROR",
        "COMPILE",
        "ERROR",
        "EVAL",
        "EVERY",
        "FIND-IF",
        "FUNCALL",
        "INVOKE-DEBUGGER",
        "INVOKE-RESTART",
        "LOAD",
        "MAP",
        "MAP-INTO",
        "MAPC",
        "MAPCAN",
        "MAPCAR",
        "MAPHASH",
        "OPEN",
        "PARSE-INTEGER",
        "READ",
        "READ-FROM-STRING",
        "READ-LINE",
        "REDUCE",
        "REMOVE-IF",
        "REMOVE-IF-NOT",
        "REQUIRE",
        "SIGNAL",
        "SLOT-MISSING",
        "SLOT-UNBOUND",
        "NO-APPLICABLE-METHOD",
        "SOME",
        "SORT",
        "WARN",
        "CHANGE-CLASS",
        "MAKE-INSTANCE",
        "COERCE",
        "CALL-WITH-OPEN-FILE",
    ];
    let upper = name.to_ascii_uppercase();
    !name.is_empty()
        && !PACKAGES.iter().any(|package| upper.starts_with(package))
        && !STANDARD.contains(&upper.as_str())
}
