//! PHP: `Throwable::__toString`, fatal errors, and the form with `at` that PHP's OpenTelemetry SDK writes.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, first_called, lines, sign};
use super::{Dialect, Exception, Frame, Relation, ends_with_any};

pub(super) struct Php;

impl Dialect for Php {
    fn runtime(&self) -> &'static str {
        "php"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if sign!("Stack trace:").is_in(text)
            || sign!("#0 ").is_in(text) && sign!(".php(").is_in(text)
            || sign!("{main}").is_in(text) && sign!("#0 {main}").is_in(text)
        {
            native(text)
        } else if sign!(".php:").is_in(text) || sign!("{main}").is_in(text) {
            like_java(text)
        } else {
            None
        }
    }
}

/// One exception as its text gives it: `#1 FILE(LINE): CALL` says where CALL was called from.
#[derive(Default)]
struct Told<'a> {
    head: Option<Cow<'a, str>>,
    calls: Vec<(Place<'a>, &'a str)>,
}

type Place<'a> = (&'a str, Option<u32>);

fn native(text: &str) -> Option<Vec<Exception<'_>>> {
    let mut told: Vec<Told<'_>> = vec![];
    let mut current = Told::default();
    let mut is_in_trace = false;
    for line in lines(text) {
        let content = line.trim();
        if let Some(call) = call(content) {
            current.calls.push(call);
            is_in_trace = true;
        } else if content == "Stack trace:" {
            is_in_trace = true;
        } else if let Some(next) = content.strip_prefix("Next ") {
            told.push(std::mem::take(&mut current));
            current.head = Some(Cow::Borrowed(next));
            is_in_trace = false;
        } else if !is_in_trace && !content.is_empty() {
            match &mut current.head {
                Some(head) => {
                    let head = head.to_mut();
                    head.push('\n');
                    head.push_str(content);
                }
                None => current.head = Some(Cow::Borrowed(content)),
            }
        }
    }
    told.push(current);
    // The text begins with the innermost cause.
    let mut exceptions: Vec<Exception<'_>> = told.into_iter().rev().map(exception).collect();
    for cause in exceptions.iter_mut().skip(1) {
        cause.relation = Relation::Cause;
    }
    exceptions
        .iter()
        .any(|exception| !exception.frames.is_empty())
        .then_some(exceptions)
}

/// `#0 /srv/crew/src/Rota.php(98): intdiv(1539, 0)`.
fn call(content: &str) -> Option<(Place<'_>, &str)> {
    let (number, rest) = content.strip_prefix('#')?.split_once(' ')?;
    if !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    if rest == "{main}" {
        return Some((("", None), rest));
    }
    let (place, function) = rest
        .split_at_mark("): ")
        .map(|(place, function)| (place, function.trim_start()))
        .or_else(|| rest.split_at_mark(": "))?;
    let (file, line) = place.rsplit_once('(').unwrap_or((place, ""));
    Some(((file, line.parse().ok()), function))
}

fn exception(told: Told<'_>) -> Exception<'_> {
    let (type_name, message, thrown) = match told.head {
        Some(Cow::Borrowed(head)) => headline(head),
        Some(Cow::Owned(head)) => {
            let (type_name, message, thrown) = headline(&head);
            // The place is at the end of a message of several lines: only its line is kept.
            let place = thrown.map(|(file, line)| (file.to_owned(), line));
            let (type_name, message) = (Cow::Owned(type_name.into_owned()), Cow::Owned(message.into_owned()));
            return frames(
                type_name,
                message,
                place.map(|(file, line)| (Cow::Owned(file), line)),
                &told.calls,
            );
        }
        None => (Cow::Borrowed(""), Cow::Borrowed(""), None),
    };
    frames(
        type_name,
        message,
        thrown.map(|(file, line)| (Cow::Borrowed(file), line)),
        &told.calls,
    )
}

fn frames<'a>(
    type_name: Cow<'a, str>,
    message: Cow<'a, str>,
    thrown: Option<(Cow<'a, str>, Option<u32>)>,
    calls: &[(Place<'a>, &'a str)],
) -> Exception<'a> {
    // A call's name belongs to the place before it: where the function was, not where it was called.
    let mut places: Vec<(Cow<'a, str>, Option<u32>)> = thrown.into_iter().collect();
    places.extend(
        calls
            .iter()
            .filter(|(_, name)| *name != "{main}")
            .map(|((file, line), _)| (Cow::Borrowed(*file), *line)),
    );
    let names: Vec<&'a str> = calls.iter().map(|(_, name)| *name).collect();
    let offset = names.len().saturating_sub(places.len());
    let frames = places
        .iter()
        .enumerate()
        .map(|(at, (file, line))| {
            let name = names.get(at + offset).copied().unwrap_or("{main}");
            // A built-in function is given its caller's place.
            let is_native = name != "{main}"
                && !name.holds("{closure")
                && places.get(at + 1).is_some_and(|next| next == &(file.clone(), *line));
            let (module, function) = names_of(name, &[".", "->", "::"]);
            Frame {
                function,
                module,
                own: !is_native && is_own(file),
                file: file.clone(),
                line: *line,
                repeats: 0,
            }
        })
        .collect();
    Exception {
        type_name,
        message,
        frames,
        ..Exception::default()
    }
}

/// `PHP Fatal error:  Uncaught Skerry\Crew\CertException: message in /srv/crew/src/Rota.php:228`.
fn headline(head: &str) -> (Cow<'_, str>, Cow<'_, str>, Option<Place<'_>>) {
    let head = head
        .split_at_mark("Uncaught ")
        .filter(|(before, _)| before.holds("rror"))
        .map_or(head, |(_, rest)| rest);
    let (said, thrown) = match head
        .rsplit_at_mark(" in ")
        .and_then(|(said, place)| Some((said, place.rsplit_once(':')?)))
    {
        Some((said, (file, line))) if line.bytes().all(|b| b.is_ascii_digit()) => {
            (said, Some((file, line.parse().ok())))
        }
        _ => (head, None),
    };
    let (name, message) = said.split_at_mark(": ").unwrap_or((said, ""));
    if is_class(name) {
        (Cow::Borrowed(name), Cow::Borrowed(message), thrown)
    } else {
        (Cow::Borrowed(""), Cow::Borrowed(said), thrown)
    }
}

fn is_class(name: &str) -> bool {
    !name.is_empty()
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'\\' | b'.' | b'@') || b >= 0x80)
}

/// `Skerry\Crew\Rota->assign('...')`: class without namespace, and function without arguments.
fn names_of<'a>(call: &'a str, separators: &[&str]) -> (Cow<'a, str>, Cow<'a, str>) {
    let call = if call.starts_with('{') {
        call
    } else {
        call.split('(').next().unwrap_or(call)
    };
    let call = call.strip_suffix("()").unwrap_or(call);
    let split = separators
        .iter()
        .filter_map(|separator| call.rfind(separator).map(|at| (at, separator.len())))
        .max();
    let (class, function) = match split {
        Some((at, length)) => (
            call.get(..at).unwrap_or_default(),
            call.get(at + length..).unwrap_or_default(),
        ),
        None => ("", call),
    };
    let last = |name: &'a str| name.rsplit(['\\', '.']).next().unwrap_or(name);
    // An anonymous class is named by the place it stands at.
    let class = class.before_mark("@anonymous");
    let function = if call.holds("{closure") {
        "{closure}"
    } else {
        last(function)
    };
    (Cow::Borrowed(last(class)), Cow::Borrowed(function))
}

fn is_own(file: &str) -> bool {
    static LIBRARIES: Parts =
        Parts::new(|| anywhere(&["/vendor/", "/usr/share/php", "/usr/lib/php", "/pear/", "phar://"]));
    !file.is_empty() && !file.starts_with('[') && !LIBRARIES.is_in(file)
}

/// ` at Skerry.Crew.Rota.close(Rota.php:173)`, `Caused by: `, `... 3 more`.
fn like_java(text: &str) -> Option<Vec<Exception<'_>>> {
    let first = first_called(text)?;
    java_frame(first)?;
    let mut done: Vec<Exception<'_>> = vec![];
    let mut current = Exception::default();
    for line in lines(text) {
        let content = line.trim();
        if let Some(frame) = content.strip_prefix("at ").and_then(java_frame) {
            current.frames.push(frame);
        } else if let Some(head) = content.strip_prefix("Caused by: ") {
            done.push(std::mem::take(&mut current));
            let (type_name, message, _) = headline(head);
            current = Exception {
                relation: Relation::Cause,
                type_name,
                message,
                frames: vec![],
            };
        } else if current.frames.is_empty() && !content.is_empty() && !content.starts_with("... ") {
            if current.type_name.is_empty() && current.message.is_empty() {
                (current.type_name, current.message, _) = headline(content);
            } else {
                let message = current.message.to_mut();
                message.push('\n');
                message.push_str(content);
            }
        }
    }
    done.push(current);
    Some(done)
}

fn java_frame(content: &str) -> Option<Frame<'_>> {
    let (name, place) = content.strip_suffix(')')?.rsplit_once('(')?;
    let (file, line) = place
        .rsplit_once(':')
        .map_or((place, None), |(file, line)| (file, line.parse().ok()));
    let is_php = ends_with_any(file, &[".php", ".phtml"]) || name == "{main}" || name.holds("{closure");
    if !is_php && !matches!(place, "Native Method" | "Unknown Source") {
        return None;
    }
    let (module, function) = names_of(name, &["."]);
    Some(Frame {
        function,
        module,
        file: Cow::Borrowed(if is_php { file } else { "" }),
        line,
        own: is_php && is_own(file),
        repeats: 0,
    })
}
