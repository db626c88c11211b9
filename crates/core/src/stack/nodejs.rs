//! JavaScript on V8: Node.js, as thrown, as inspected, as written by loggers that append causes.

use std::borrow::Cow;

use super::search::{Search, first_called, lines};
use super::{Dialect, Exception, Frame, Relation, base_name};

pub(super) struct NodeJs;

impl Dialect for NodeJs {
    fn runtime(&self) -> &'static str {
        "nodejs"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        // `at` begins frames of other runtimes too: the first one decides.
        let first = first_called(text)?;
        frame(first)?;
        let mut reader = Reader::default();
        for line in lines(text) {
            reader.line(line);
        }
        reader.complete();
        reader
            .done
            .iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(reader.done)
    }
}

#[derive(Default)]
struct Reader<'a> {
    done: Vec<Exception<'a>>,
    current: Exception<'a>,
    /// Lines of the headline so far; a message may have several.
    head: Option<Cow<'a, str>>,
    /// Whether what follows are the errors of an inspected aggregate.
    in_members: bool,
}

impl<'a> Reader<'a> {
    fn line(&mut self, line: &'a str) {
        let content = line.trim();
        if let Some(frame) = content.strip_prefix("at ").and_then(frame) {
            self.take_head();
            self.current.frames.push(frame);
        } else if let Some(head) = cause(content) {
            self.complete();
            self.current.relation = Relation::Cause;
            self.head = Some(Cow::Borrowed(head));
        } else if let Some(head) = self.member(content) {
            self.complete();
            self.current.relation = Relation::Member;
            self.head = Some(Cow::Borrowed(head));
        } else if content == "[errors]: [" {
            self.in_members = true;
        } else if self.current.frames.is_empty() {
            match &mut self.head {
                // A crash prints the place and the source line first, then an empty line.
                None if content.is_empty() => {}
                None => self.head = Some(Cow::Borrowed(content)),
                Some(head) if is_headline(content) && !is_headline(head) => *head = Cow::Borrowed(content),
                Some(head) => {
                    let head = head.to_mut();
                    head.push('\n');
                    head.push_str(content);
                }
            }
        }
        // Lines after the frames are properties of an inspected error, or another text: neither is a frame.
    }

    /// The headline of an error within `[errors]: [ … ]` of an inspected aggregate: on the same
    /// line, or on one of its own.
    fn member(&mut self, content: &'a str) -> Option<&'a str> {
        if let Some(head) = content
            .strip_prefix("[errors]: [")
            .map(str::trim)
            .filter(|head| !head.is_empty())
        {
            self.in_members = true;
            return Some(head);
        }
        let begins = self.in_members
            && is_headline(content)
            && (self.head.is_none() || self.current.relation != Relation::Member);
        begins.then_some(content)
    }

    fn take_head(&mut self) {
        if let Some(head) = self.head.take() {
            let (type_name, message) = split(head);
            self.current.type_name = type_name;
            self.current.message = message;
        }
    }

    fn complete(&mut self) {
        self.take_head();
        let exception = std::mem::take(&mut self.current);
        if !exception.frames.is_empty() || !exception.type_name.is_empty() {
            self.done.push(exception);
        }
    }
}

/// `caused by: SyntaxError: …` as loggers write it, `[cause]: Error: …` as Node.js itself does.
fn cause(content: &str) -> Option<&str> {
    let head = content
        .strip_prefix("[cause]: ")
        .or_else(|| content.strip_prefix("caused by: "))
        .or_else(|| content.strip_prefix("Caused by: "))?;
    Some(head.trim_end_matches(" {"))
}

fn is_headline(content: &str) -> bool {
    let (type_name, _) = split(Cow::Borrowed(content));
    type_name.ends_with("Error") || type_name.ends_with("Exception")
}

/// Splits `TypeError [ERR_X]: message`. A headline without a type is all message.
fn split(head: Cow<'_, str>) -> (Cow<'_, str>, Cow<'_, str>) {
    match head {
        Cow::Borrowed(head) => {
            let (type_name, message) = split_str(head);
            (Cow::Borrowed(type_name), Cow::Borrowed(message))
        }
        Cow::Owned(head) => {
            let (type_name, message) = split_str(&head);
            (Cow::Owned(type_name.to_owned()), Cow::Owned(message.to_owned()))
        }
    }
}

fn split_str(head: &str) -> (&str, &str) {
    let head = head.strip_prefix("Uncaught ").unwrap_or(head);
    // An error without frames is inspected in brackets.
    let head = head
        .strip_prefix('[')
        .and_then(|inner| inner.trim_end_matches([' ', '{']).strip_suffix(']'))
        .unwrap_or(head);
    let (name, message) = head
        .split_at_mark(": ")
        .unwrap_or((head.trim_end().trim_end_matches(':'), ""));
    let bare = match name.split_at_mark(" [") {
        Some((bare, code)) if code.ends_with(']') => bare,
        _ => name,
    };
    let is_type = !bare.is_empty()
        && bare
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '$' | '.'))
        && bare.chars().next().is_some_and(|c| !c.is_ascii_digit());
    if is_type { (bare, message) } else { ("", head) }
}

/// One frame, without its `at `: `async Booking.desk (/srv/gangway/lib/booking.js:21:12)`.
fn frame(content: &str) -> Option<Frame<'_>> {
    let content = content.trim_end().trim_end_matches([',', '{']).trim_end();
    let (name, place) = match content.strip_suffix(')') {
        // The last ` (` is wrong for `eval at x (y)`, the first for names with brackets; V8 nests only within eval.
        Some(inner) => {
            let open = inner.find_mark(" (")?;
            (inner.get(..open)?, inner.get(open + 2..)?)
        }
        None => ("", content),
    };
    let (name, place) = if name.is_empty() {
        bare_place(place)
    } else {
        (name, place)
    };
    let (file, line) = location(place)?;
    let function = function(name);
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(""),
        file: Cow::Borrowed(file),
        line,
        own: is_own(file),
        repeats: 0,
    })
}

/// A frame without brackets may still begin with `async`.
fn bare_place(content: &str) -> (&str, &str) {
    ("", content.strip_prefix("async ").unwrap_or(content))
}

/// Takes off what changes from run to run: `async`, `new`, the `[as alias]`, the receiver `Object.`.
fn function(name: &str) -> &str {
    let name = name.strip_prefix("async ").unwrap_or(name);
    let name = name.strip_prefix("new ").unwrap_or(name);
    let name = name.before_mark(" [as ");
    let name = ["Object.", "Module.", "exports.", "Function.", "module.exports."]
        .iter()
        .fold(name, |name, receiver| name.strip_prefix(receiver).unwrap_or(name));
    if matches!(name, "<anonymous>" | "anonymous" | "eval") {
        ""
    } else {
        name.strip_suffix(".<anonymous>").unwrap_or(name)
    }
}

/// `/srv/gangway/server.js:83:77`, `node:net:1611:16`, `<anonymous>`, `native`; anything else is another runtime's.
fn location(place: &str) -> Option<(&str, Option<u32>)> {
    if matches!(place, "<anonymous>" | "native" | "unknown location") || place.starts_with("index ") {
        return Some(("", None));
    }
    let (rest, column) = place.rsplit_once(':')?;
    let (file, line) = rest.rsplit_once(':')?;
    // Rust's backtraces say `at` and end in line and column too.
    if base_name(file)
        .rsplit_once('.')
        .is_some_and(|(_, extension)| extension == "rs")
    {
        return None;
    }
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if !is_number(column) || !is_number(line) || file.is_empty() {
        return None;
    }
    let file = file.strip_prefix("file://").unwrap_or(file);
    Some((file, line.parse().ok()))
}

/// What Node.js brings and what stands in `node_modules` is the library's.
fn is_own(file: &str) -> bool {
    let is_runtime =
        file.is_empty() || file.starts_with("node:") || file.starts_with("internal/") || file.starts_with('<');
    // Releases before 16 name their own modules by a bare file: `net.js`.
    let is_bare = !file.contains(['/', '\\']);
    !is_runtime && !is_bare && !file.holds("node_modules")
}
