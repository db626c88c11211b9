//! Perl: `die`, and the longer forms of the `Carp` module that every other logger copies.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Perl;

impl Dialect for Perl {
    fn runtime(&self) -> &'static str {
        "perl"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let is_perl = sign!(" called at ").is_in(text) && sign!(" line ").is_in(text)
            || [".pl line ", ".pm line ", ".t line "]
                .iter()
                .any(|sign| text.contains(sign))
            || sign!(FIRST).is_in(text) && sign!(", in \"").is_in(text);
        if !is_perl {
            return None;
        }
        let mut message = String::new();
        // Where it was thrown; a handler for `die` adds its own place below the original one.
        let mut thrown: Vec<(&'a str, Option<u32>)> = vec![];
        let mut calls: Vec<(&'a str, &'a str, Option<u32>)> = vec![];
        for line in lines(text) {
            let content = line.trim();
            if let Some((name, file, number)) = call(content).or_else(|| listed(content)) {
                calls.push((name, file, number));
            } else if calls.is_empty()
                && let Some((said, file, number)) = place(content, "at ")
            {
                thrown.push((file, number));
                if thrown.len() == 1 {
                    push_line(&mut message, said.trim_end());
                }
            } else if calls.is_empty() && !content.is_empty() && thrown.is_empty() && !content.ends_with(FIRST) {
                push_line(&mut message, content);
            }
        }
        let is_listed = sign!(FIRST).is_in(text);
        if thrown.is_empty() && is_listed {
            thrown.extend(calls.first().map(|(_, file, number)| (*file, *number)));
        }
        let first = *thrown.first()?;
        // Frames of the handler, or of what throws, stand above the place where it happened.
        let is_above = thrown.len() > 1 || is_listed;
        let start = calls
            .iter()
            .position(|(_, file, number)| is_above && (*file, *number) == first)
            .map_or(0, |at| at + 1);
        let mut places = vec![first];
        places.extend(calls.iter().skip(start).map(|(_, file, number)| (*file, *number)));
        let mut names: Vec<&'a str> = calls.iter().skip(start).map(|(name, _, _)| *name).collect();
        names.push("main");
        let frames = places
            .into_iter()
            .zip(names)
            .filter(|(_, name)| !matches!(*name, "eval" | "(eval)"))
            .map(|((file, line), name)| frame(name, file, line))
            .collect();
        Some(vec![Exception {
            message: Cow::Owned(message),
            frames,
            ..Exception::default()
        }])
    }
}

/// How a web framework begins its list of calls, which then looks like CPython's, but with the innermost first.
const FIRST: &str = "(most recent call first):";

/// `File "lib/Fares.pm", line 12, in "Skerry::Fares::quote"`: the function was called there.
fn listed(content: &str) -> Option<(&str, &str, Option<u32>)> {
    let (file, rest) = content.strip_prefix("File \"")?.split_at_mark("\", line ")?;
    let (number, name) = rest.split_at_mark(", in \"")?;
    Some((name.trim_end_matches('"'), file, number.parse().ok()))
}

fn push_line(message: &mut String, line: &str) {
    if !message.is_empty() {
        message.push('\n');
    }
    message.push_str(line);
}

/// `Skerry::Gale::lift_area(...) called at FILE line 30`.
fn call(content: &str) -> Option<(&str, &str, Option<u32>)> {
    let (said, file, line) = place(content, "called at ")?;
    let name = said.split(['(', ' ', '{']).next().unwrap_or(said).trim();
    Some((name, file, line))
}

/// What is said before `at FILE line N.`, the file and the line.
fn place<'a>(content: &'a str, word: &str) -> Option<(&'a str, &'a str, Option<u32>)> {
    let (before, number) = content.rsplit_at_mark(" line ")?;
    let digits = number.split(|c: char| !c.is_ascii_digit()).next().unwrap_or_default();
    let at = before
        .rfind(word)
        .filter(|at| *at == 0 || before.as_bytes().get(at - 1) == Some(&b' '))?;
    (!digits.is_empty()).then(|| {
        (
            before.get(..at).unwrap_or_default(),
            before.get(at + word.len()..).unwrap_or_default(),
            digits.parse().ok(),
        )
    })
}

fn frame<'a>(name: &'a str, file: &'a str, line: Option<u32>) -> Frame<'a> {
    let (module, function) = name.rsplit_at_mark("::").unwrap_or(("", name));
    let function = if function == "__ANON__" {
        "<anonymous>"
    } else {
        function
    };
    Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line,
        own: is_own(file),
        repeats: 0,
    }
}

fn is_own(file: &str) -> bool {
    static LIBRARIES: Parts = Parts::new(|| {
        anywhere(&[
            "/usr/share/perl",
            "/usr/lib/",
            "/usr/local/share/perl",
            "/usr/local/lib/",
            "/perl5/",
            "/site_perl/",
            "/vendor_perl/",
        ])
    });
    !file.starts_with('(') && !LIBRARIES.is_in(file)
}
