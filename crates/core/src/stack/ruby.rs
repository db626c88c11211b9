//! Ruby: uncaught exceptions, `full_message`, bare backtraces; the quoting of before and after 3.4;
//! `JRuby` and `TruffleRuby` where they write the same.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, Relation, ends_with_any};

pub(super) struct Ruby;

impl Dialect for Ruby {
    fn runtime(&self) -> &'static str {
        "ruby"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !sign!(":in `").is_in(text) && !sign!(":in '").is_in(text) {
            return None;
        }
        let mut done: Vec<Exception<'a>> = vec![];
        let mut places: Vec<Location<'a>> = vec![];
        // `Traceback (most recent call last):` of Ruby 2.5 to 2.7 puts the outermost frame first.
        let is_reversed = text.trim_start().starts_with("Traceback (most recent call last)");
        let mut current = Exception::default();
        let mut is_in_message = false;
        for line in lines(text) {
            let content = line.trim();
            let (content, is_numbered) = without_number(content.strip_prefix("from ").unwrap_or(content));
            let is_frame_line = is_numbered || line.trim_start().starts_with("from ");
            if let Some((place, rest)) = place(content) {
                let headline = rest.strip_prefix(": ").filter(|_| !is_frame_line);
                if let Some(headline) = headline {
                    if !is_reversed {
                        finish(&mut done, &mut current, &mut places);
                    }
                    (current.type_name, current.message) = type_behind(headline);
                    is_in_message = current.type_name.is_empty();
                    if is_reversed {
                        places.push(place);
                        places.reverse();
                        continue;
                    }
                } else {
                    is_in_message = false;
                }
                places.push(place);
            } else if is_in_message && !content.is_empty() && !content.starts_with("...") {
                // The type stands behind the first line of a message, in brackets; what follows is the message's own.
                let (type_name, message) = type_behind(content);
                if !type_name.is_empty() {
                    current.type_name = type_name;
                    is_in_message = false;
                }
                let whole = current.message.to_mut();
                whole.push('\n');
                whole.push_str(&message);
            } else if places.is_empty()
                && current.type_name.is_empty()
                && current.message.is_empty()
                && !content.is_empty()
                && !is_reversed
            {
                // A logger's headline: `KeyError: key not found` or `KeyError (key not found):`.
                (current.type_name, current.message) = logged(content);
            }
        }
        finish(&mut done, &mut current, &mut places);
        done.iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(done)
    }
}

fn finish<'a>(done: &mut Vec<Exception<'a>>, current: &mut Exception<'a>, places: &mut Vec<Location<'a>>) {
    if places.is_empty() {
        return;
    }
    let mut exception = std::mem::take(current);
    if !done.is_empty() {
        exception.relation = Relation::Cause;
    }
    let taken = std::mem::take(places);
    exception.frames = taken
        .iter()
        .enumerate()
        .map(|(at, place)| frame(place, taken.get(at + 1)))
        .collect();
    done.push(exception);
}

/// `12: ` before a frame of a reversed backtrace.
fn without_number(content: &str) -> (&str, bool) {
    match content.split_at_mark(": ") {
        Some((number, rest)) if number.bytes().all(|b| b.is_ascii_digit()) && !number.is_empty() => {
            (rest.strip_prefix("from ").unwrap_or(rest), true)
        }
        _ => (content, false),
    }
}

struct Location<'a> {
    file: &'a str,
    line: Option<u32>,
    label: &'a str,
}

/// `file.rb:12:in 'label'` and what stands behind it.
fn place(content: &str) -> Option<(Location<'_>, &str)> {
    let at = content.find_mark(":in `").or_else(|| content.find_mark(":in '"))?;
    let (file, line) = content.get(..at)?.rsplit_once(':')?;
    let line: u32 = line.parse().ok()?;
    let rest = content.get(at + 5..)?;
    let end = rest.find('\'')?;
    Some((
        Location {
            file,
            line: Some(line),
            label: rest.get(..end)?,
        },
        rest.get(end + 1..)?,
    ))
}

/// `undefined method 'leg' (NoMethodError)`: message and type; the type is empty where the line does not end with one.
fn type_behind(headline: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    let stated = headline
        .strip_suffix(')')
        .and_then(|rest| rest.rsplit_at_mark(" ("))
        .filter(|(_, name)| is_constant(name));
    match stated {
        Some((message, name)) => (Cow::Borrowed(name), Cow::Borrowed(message)),
        None if is_constant(headline) => (Cow::Borrowed(headline), Cow::Borrowed("")),
        None => (Cow::Borrowed(""), Cow::Borrowed(headline)),
    }
}

fn logged(content: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    if let Some((name, message)) = content.split_at_mark(": ").filter(|(name, _)| is_constant(name)) {
        return (Cow::Borrowed(name), Cow::Borrowed(message));
    }
    if let Some((name, message)) = content.split_at_mark(" (").filter(|(name, _)| is_constant(name)) {
        return (
            Cow::Borrowed(name),
            Cow::Borrowed(message.trim_end_matches(':').trim_end_matches(')')),
        );
    }
    type_behind(content)
}

/// `Boarding::DeskError`.
fn is_constant(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_uppercase())
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b':'))
}

/// A method written in C is given its caller's place: the same file and line as the frame below it.
fn frame<'a>(place: &Location<'a>, caller: Option<&Location<'a>>) -> Frame<'a> {
    let is_block = place.label.starts_with("block ")
        || place.label.starts_with("rescue in")
        || place.label.starts_with("ensure in");
    let is_native = !is_block && caller.is_some_and(|caller| caller.file == place.file && caller.line == place.line);
    let (module, function) = names(place.label);
    Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(place.file),
        line: place.line,
        own: !is_native && is_own(place.file),
        repeats: 0,
    }
}

/// `block (2 levels) in Boarding::Gate#lane_sum`: the method the block stands in, and its class where it is told.
fn names(label: &str) -> (&str, &str) {
    let method = match label
        .strip_prefix("block ")
        .or_else(|| label.strip_prefix("rescue "))
        .or_else(|| label.strip_prefix("ensure "))
    {
        Some(rest) => rest.find_mark("in ").and_then(|at| rest.get(at + 3..)).unwrap_or(rest),
        None => label,
    };
    let method = method
        .strip_prefix("rescue in ")
        .or_else(|| method.strip_prefix("block in "))
        .unwrap_or(method);
    match method.rsplit_once(['#', '.']) {
        Some((class, name)) if is_constant(class) => (class.rsplit("::").next().unwrap_or(class), name),
        _ => ("", method),
    }
}

fn is_own(file: &str) -> bool {
    static LIBRARIES: Parts = Parts::new(|| {
        anywhere(&[
            "/gems/",
            "/rubygems",
            "/lib/ruby/",
            "/ruby/",
            "/vendor/bundle/",
            "/.rbenv/",
            "/.rvm/",
            "/jruby",
            "/truffleruby",
            "/usr/share/",
        ])
    });
    !file.starts_with(['<', '('])
        && !file.starts_with("org/jruby")
        && !ends_with_any(file, &[".java"])
        && !LIBRARIES.is_in(file)
}
