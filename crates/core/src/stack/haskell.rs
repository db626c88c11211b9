//! Haskell as GHC writes it: call stacks of functions that ask for one, and of profiled programs.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Haskell;

impl Dialect for Haskell {
    fn runtime(&self) -> &'static str {
        "ghc"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let Some(at) = sign!("CallStack (from ").find(text) else {
            return placed(text);
        };
        let (type_name, message) = headline(text.get(..at)?.trim());
        let mut frames = vec![];
        // `f, called at PLACE`: the place is in the function of the next line, which called `f`.
        let mut waiting: Option<Frame<'a>> = None;
        for content in lines(text.get(at..)?).map(str::trim) {
            if let Some((function, call)) = content.split_at_mark(", called at ") {
                if let Some(mut caller) = waiting.take() {
                    caller.function = Cow::Borrowed(function);
                    frames.push(caller);
                }
                waiting = place(call);
            } else if let Some(frame) = profiled(content) {
                frames.push(frame);
            }
        }
        frames.extend(waiting);
        let exception = Exception {
            type_name: Cow::Borrowed(type_name),
            message: Cow::Borrowed(message),
            frames,
            ..Exception::default()
        };
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `fares: src/Rates.hs:21:1-13: Non-exhaustive patterns in function partial`: a failure of the
/// language itself names one place.
fn placed(text: &str) -> Option<Vec<Exception<'_>>> {
    const FAILURES: &[&str] = &[
        "Non-exhaustive ",
        "Irrefutable pattern failed",
        "Pattern match failure",
        "No instance nor default method",
        "Missing field in record",
    ];
    let line = lines(text).find(|line| FAILURES.iter().any(|failure| line.contains(failure)))?;
    let (before, message) = FAILURES
        .iter()
        .find_map(|failure| line.find_mark(failure))
        .and_then(|from| line.split_at_checked(from))?;
    let place = before.trim_end_matches([':', ' ']).rsplit(' ').next()?;
    let (file, number) = file_and_line(place)?;
    let function = message
        .split_at_mark("in function ")
        .map_or("", |(_, name)| name.trim());
    let own = is_own("main", "", file);
    let frame = Frame {
        function: Cow::Borrowed(function),
        file: Cow::Borrowed(file),
        line: number,
        own,
        ..Frame::default()
    };
    Some(vec![Exception {
        message: Cow::Borrowed(message.trim()),
        frames: vec![frame],
        ..Exception::default()
    }])
}

/// `fares: berth 7 is taken`: the program's name stands in front, and no type.
fn headline(head: &str) -> (&str, &str) {
    let message = match head.split_at_mark(": ") {
        Some((program, message)) if !program.contains(char::is_whitespace) => message,
        _ => head,
    };
    // An exception shown as a value begins with its constructor: `SeasonClosed "high"`.
    let constructor = message.split([' ', '{', '(']).next().unwrap_or_default();
    let is_type = constructor.starts_with(|c: char| c.is_ascii_uppercase())
        && constructor.chars().skip(1).any(|c| c.is_ascii_uppercase())
        && constructor.chars().all(|c| c.is_alphanumeric() || c == '_');
    if is_type {
        (constructor, message.get(constructor.len()..).unwrap_or_default().trim())
    } else {
        ("", message)
    }
}

/// `src/Rates.hs:13:13 in fares-1.2:Rates`: own where the package is the program's own, which GHC
/// calls main, or has no version and hash as an installed one has.
fn place(call: &str) -> Option<Frame<'_>> {
    let (place, unit) = call.split_at_mark(" in ")?;
    let (file, line) = file_and_line(place)?;
    let (package, module) = unit.trim().rsplit_once(':').unwrap_or(("main", unit));
    Some(Frame {
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line,
        own: is_own(package, module, file),
        ..Frame::default()
    })
}

/// `Main.handle (src/Main.hs:(10,1)-(12,20))`, of a program built for profiling.
fn profiled(content: &str) -> Option<Frame<'_>> {
    let (name, place) = content.strip_suffix(')')?.split_at_mark(" (")?;
    let (file, line) = file_and_line(place)?;
    let (module, function) = split_scope(name);
    let own = is_own("main", module, file);
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line,
        own,
        ..Frame::default()
    })
}

/// `Data.Map.Internal.find.go`: the module is what is capitalised.
fn split_scope(name: &str) -> (&str, &str) {
    let mut at = 0;
    for part in name.split('.') {
        if !part.starts_with(|c: char| c.is_ascii_uppercase()) {
            break;
        }
        at += part.len() + 1;
    }
    let module = name.get(..at.saturating_sub(1)).unwrap_or_default();
    (module, name.get(at..).unwrap_or_default())
}

fn file_and_line(place: &str) -> Option<(&str, Option<u32>)> {
    let at = place.find_mark(".hs:").or_else(|| place.find_mark(".lhs:"))?;
    let (file, rest) = place.split_at_checked(at + place.get(at..)?.find(':')?)?;
    let digits: String = rest
        .chars()
        .skip_while(|c| !c.is_ascii_digit())
        .take_while(char::is_ascii_digit)
        .collect();
    Some((file.strip_prefix("./").unwrap_or(file), digits.parse().ok()))
}

fn is_own(package: &str, module: &str, file: &str) -> bool {
    const BASE: &[&str] = &[
        "GHC", "Control", "Data", "System", "Text", "Foreign", "Prelude", "Numeric", "Type", "Unsafe", "Debug",
    ];
    let is_installed = package != "main"
        && package
            .rsplit('-')
            .next()
            .is_some_and(|end| end.starts_with(|c: char| c.is_ascii_digit()) || end.len() > 20);
    let root = module.split('.').next().unwrap_or_default();
    let is_base =
        file.starts_with("libraries/") || package == "main" && BASE.contains(&root) && !file.starts_with("src");
    !is_installed && !is_base
}
