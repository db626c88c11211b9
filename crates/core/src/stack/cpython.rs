//! CPython: tracebacks, chains, exception groups.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, Relation};

pub(super) struct CPython;

const HEADER: &str = "Traceback (most recent call last):";
const CAUSED: &str = "The above exception was the direct cause of the following exception:";
const HANDLED: &str = "During handling of the above exception, another exception occurred:";

impl Dialect for CPython {
    fn runtime(&self) -> &'static str {
        "cpython"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let has_frame = sign!("File \"").is_in(text) && sign!(", line ").is_in(text);
        if !has_frame && !sign!(HEADER).is_in(text) {
            return None;
        }
        if sign!(FIRST).is_in(text) {
            return dumped(text);
        }
        let mut reader = Reader::default();
        for line in lines(text) {
            reader.line(line);
        }
        reader.finish()
    }
}

/// How a dump begins that the interpreter writes when it dies.
const FIRST: &str = "(most recent call first):";

/// What `faulthandler` writes: one list of frames a thread, the innermost first; that of the current thread counts.
fn dumped(text: &str) -> Option<Vec<Exception<'_>>> {
    let mut exception = Exception::default();
    let mut in_current = false;
    for content in lines(text).map(str::trim) {
        if content.ends_with(FIRST) {
            if !exception.frames.is_empty() {
                break;
            }
            in_current = content.starts_with("Current thread") || content.starts_with("Stack");
        } else if let Some((file, rest)) = content
            .strip_prefix("File \"")
            .and_then(|rest| rest.split_once("\", line "))
            .filter(|_| in_current)
        {
            let (number, function) = rest.split_once(" in ")?;
            exception.frames.push(Frame {
                function: Cow::Borrowed(function),
                module: Cow::Borrowed(module(file)),
                file: Cow::Borrowed(file),
                line: number.parse().ok(),
                own: is_own(file),
                repeats: 0,
            });
        } else if exception.message.is_empty() && !content.is_empty() && exception.frames.is_empty() {
            exception.message = Cow::Borrowed(content.strip_prefix("Fatal Python error: ").unwrap_or(content));
        }
    }
    (!exception.frames.is_empty()).then(|| vec![exception])
}

/// What the last lines were.
#[derive(Default, PartialEq)]
enum Within {
    #[default]
    Nothing,
    Frames,
    Message,
}

#[derive(Default)]
struct Reader<'a> {
    /// Exceptions that are complete, in the order of [`super::Stack::exceptions`].
    done: Vec<Exception<'a>>,
    /// Where in `done` the chain being read begins: an exception that follows its cause is put in front of it.
    chain: usize,
    current: Exception<'a>,
    within: Within,
    /// How the exception just completed belongs to the next one, where a separator said so.
    separator: Option<Relation>,
}

impl<'a> Reader<'a> {
    fn line(&mut self, whole: &'a str) {
        let (line, is_in_group) = without_bars(whole);
        let content = line.trim_start();
        if is_in_group && whole.trim_start().trim_start_matches(['|', ' ']).starts_with("+-") {
            self.complete();
            // `+---- 1 ----` begins a member; a line of dashes alone ends the group.
            if content.contains(|c: char| c.is_ascii_digit()) || content == "..." {
                self.chain = self.done.len();
                self.separator = None;
                self.current.relation = Relation::Member;
                // A member that was never raised has no traceback, only its own line.
                self.within = Within::Frames;
            }
        } else if content.starts_with(HEADER) || content.ends_with("Traceback (most recent call last):") {
            self.complete();
            self.within = Within::Frames;
        } else if content.starts_with(CAUSED) {
            self.complete();
            self.separator = Some(Relation::Cause);
        } else if content.starts_with(HANDLED) {
            self.complete();
            self.separator = Some(Relation::Handled);
        } else if content.starts_with("File \"") && self.within != Within::Message {
            if let Some(frame) = frame(content) {
                self.current.frames.push(frame);
                self.within = Within::Frames;
            }
        } else if let Some(count) = repeated(content) {
            if let Some(last) = self.current.frames.last_mut() {
                last.repeats = last.repeats.saturating_add(count);
            }
        } else if self.within == Within::Frames {
            // Source lines and markers are indented; the exception itself is not.
            if !content.is_empty() && line.len() == content.len() {
                let (type_name, message) = headline(content);
                self.current.type_name = Cow::Borrowed(type_name);
                self.current.message = Cow::Borrowed(message);
                self.within = Within::Message;
            }
        } else if self.within == Within::Message && !content.is_empty() {
            let message = self.current.message.to_mut();
            message.push('\n');
            message.push_str(line);
        }
    }

    fn complete(&mut self) {
        let mut exception = std::mem::take(&mut self.current);
        self.within = Within::Nothing;
        if exception.frames.is_empty() && exception.type_name.is_empty() {
            // Nothing read since the last separator: keep what is known of the next one.
            self.current.relation = exception.relation;
            return;
        }
        exception.frames.reverse();
        if exception.relation == Relation::Member {
            self.done.push(exception);
            return;
        }
        match self.separator.take() {
            Some(relation) if self.chain < self.done.len() => {
                let cause = &mut self.done[self.chain];
                exception.relation = std::mem::replace(&mut cause.relation, relation);
                self.done.insert(self.chain, exception);
            }
            _ => {
                self.chain = self.done.len();
                exception.relation = if self.done.is_empty() {
                    Relation::Thrown
                } else {
                    Relation::Member
                };
                self.done.push(exception);
            }
        }
    }

    fn finish(mut self) -> Option<Vec<Exception<'a>>> {
        self.complete();
        self.done
            .iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(self.done)
    }
}

/// Takes the bars off a line of an exception group; also takes off the two spaces that a group's lines are indented by.
fn without_bars(line: &str) -> (&str, bool) {
    let mut rest = line;
    let mut is_in_group = false;
    loop {
        let inner = rest.trim_start_matches(' ');
        if let Some(after) = inner.strip_prefix("| ") {
            rest = after;
        } else if inner == "|" {
            return ("", true);
        } else if inner.starts_with("+ Exception Group") || inner.starts_with("+-") {
            return (inner, true);
        } else {
            return (rest, is_in_group);
        }
        is_in_group = true;
    }
}

/// `File "/srv/fares/tariff.py", line 26, in per_metre`
fn frame(content: &str) -> Option<Frame<'_>> {
    let (file, rest) = content.strip_prefix("File \"")?.split_once("\", line ")?;
    let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
    let (line, rest) = rest.split_at_checked(digits)?;
    let function = rest.strip_prefix(", in ").unwrap_or_default();
    Some(Frame {
        function: Cow::Borrowed(function.trim_end()),
        module: Cow::Borrowed(module(file)),
        file: Cow::Borrowed(file),
        line: line.parse().ok(),
        // Cython names functions by their module too, which the interpreter never does, and files
        // from where they were built.
        own: is_own(file) && !(function.contains('.') && !function.contains('<') && !file.starts_with(['/', '\\'])),
        repeats: 0,
    })
}

/// The module's own name as far as the path tells it: the file's stem, or its folder's for a package.
fn module(file: &str) -> &str {
    let stem = super::base_name(file).trim_end_matches(".py");
    if stem == "__init__" || stem == "__main__" {
        let folder = file.rsplit(['/', '\\']).nth(1).unwrap_or_default();
        if !folder.is_empty() {
            return folder;
        }
    }
    if stem.starts_with('<') { "" } else { stem }
}

/// Installed packages, the standard library and generated code are the library's; all else is the service's own.
fn is_own(file: &str) -> bool {
    static LIBRARIES: Parts = Parts::new(|| {
        anywhere(&[
            "site-packages",
            "dist-packages",
            "/Lib/",
            ".egg/",
            ".zip/",
            // …/lib/python3.11/…, …/lib64/pypy3/…: an interpreter's own folder.
            "/lib/python",
            "/lib/pypy",
            "/lib64/python",
            "/lib64/pypy",
        ])
    });
    // Compiled modules name the source they were made from, as it lay where they were built: no
    // service's own file is there.
    let is_compiled = [".pyx", ".pxd", ".pxi", ".pyi"]
        .iter()
        .any(|ending| file.ends_with(ending))
        && !file.starts_with(['/', '\\']);
    let is_generated = is_compiled || file.starts_with('<') && file != "<stdin>" && file != "<string>";
    !is_generated && !LIBRARIES.is_in(file)
}

/// `[Previous line repeated 950 more times]`
fn repeated(content: &str) -> Option<u32> {
    content
        .strip_prefix("[Previous line repeated ")?
        .split(' ')
        .next()?
        .parse()
        .ok()
}

/// Splits `app.tariff.TariffError: band 9 has no price`; a line that is no type is all message.
fn headline(content: &str) -> (&str, &str) {
    let (name, message) = match content.split_at_mark(": ") {
        Some(parts) => parts,
        None => (content.trim_end().trim_end_matches(':'), ""),
    };
    let is_type = name
        .chars()
        .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '<' | '>'))
        && !name.is_empty();
    if is_type {
        (name.strip_prefix("__main__.").unwrap_or(name), message)
    } else {
        ("", content)
    }
}
