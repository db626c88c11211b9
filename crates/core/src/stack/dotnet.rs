//! .NET and Mono: `Exception.ToString()`, unhandled exceptions, aggregates.

use std::borrow::Cow;

use super::lists::{Beginnings, Parts, anywhere, at_the_start};
use super::search::{Search, first_called, lines};
use super::{Dialect, Exception, Frame, Relation};

pub(super) struct DotNet;

const INNER_ENDS: &str = "--- End of inner exception stack trace ---";

impl Dialect for DotNet {
    fn runtime(&self) -> &'static str {
        "dotnet"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let first = first_called(text)?;
        if !is_frame(first) {
            return None;
        }
        // Headlines of the chain, outermost first; frames come for the innermost first.
        let mut heads: Vec<Exception<'a>> = vec![];
        let mut open: Vec<usize> = vec![];
        let mut has_frames = false;
        for line in lines(text) {
            let content = line.trim();
            if let Some(called) = content.strip_prefix("at ") {
                if let (Some(current), Some(frame)) = (open.last().and_then(|at| heads.get_mut(*at)), frame(called)) {
                    current.frames.push(frame);
                    has_frames = true;
                }
            } else if content.starts_with(INNER_ENDS) {
                open.pop();
            } else if let Some(rest) = content.strip_prefix("---> (Inner Exception #") {
                // The first member was told above, as the aggregate's inner exception.
                let (number, head) = rest.split_at_mark(") ").unwrap_or((rest, ""));
                open.clear();
                if number != "0" {
                    open.push(heads.len());
                    heads.push(Exception {
                        relation: Relation::Member,
                        ..headline(head)
                    });
                }
            } else if content.starts_with("---") && !content.starts_with("--->") || content.starts_with("<---") {
                // `--- End of stack trace from previous location ---`: the same exception, thrown again.
            } else if has_frames && open.len() <= 1 && !content.starts_with("--->") {
                // Text behind the trace, such as Mono's second report of the same crash.
                if is_report(content) {
                    break;
                }
            } else if !has_frames {
                if is_report(content) {
                    continue;
                }
                head_line(content, &mut heads, &mut open);
            }
        }
        heads
            .iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(heads)
    }
}

fn is_report(content: &str) -> bool {
    content == "Unhandled Exception:" || content.starts_with("[ERROR] FATAL UNHANDLED") || content.is_empty()
}

/// One line before the first frame: `Type: message ---> Type: message`, or a further line of a message.
fn head_line<'a>(content: &'a str, heads: &mut Vec<Exception<'a>>, open: &mut Vec<usize>) {
    let content = content
        .strip_prefix("Unhandled exception. ")
        .or_else(|| content.strip_prefix("Unhandled Exception: "))
        .unwrap_or(content);
    for (at, part) in content.split("---> ").enumerate() {
        let part = part.trim_end();
        if part.is_empty() {
            continue;
        }
        let exception = headline(part);
        if at == 0 && !content.starts_with("--->") && !heads.is_empty() {
            if let Some(last) = heads.last_mut() {
                let message = last.message.to_mut();
                message.push('\n');
                message.push_str(part);
            }
            continue;
        }
        let relation = match heads.last() {
            None => Relation::Thrown,
            Some(outer) if outer.type_name.ends_with("AggregateException") => Relation::Member,
            Some(_) => Relation::Cause,
        };
        open.push(heads.len());
        heads.push(Exception { relation, ..exception });
    }
}

fn headline(content: &str) -> Exception<'_> {
    let (name, message) = content
        .split_at_mark(": ")
        .unwrap_or((content.trim_end_matches(':'), ""));
    // `Type (0x80004005): message` of errors with a code of the system.
    let bare = name.before_mark(" (0x");
    let is_type = !bare.is_empty()
        && bare
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '+' | '`' | '[' | ']'));
    let (type_name, message) = if is_type { (bare, message) } else { ("", content) };
    Exception {
        type_name: Cow::Borrowed(type_name),
        message: Cow::Borrowed(message),
        ..Exception::default()
    }
}

/// What tells these frames from those of other runtimes that begin with `at`: arguments with types, ` in FILE:line 12`,
/// Mono's offset and module.
fn is_frame(called: &str) -> bool {
    let Some((name, rest)) = called.split_once('(') else {
        return false;
    };
    if called.starts_with("(wrapper ") {
        return true;
    }
    let Some((arguments, tail)) = rest.split_once(')') else {
        return false;
    };
    let is_placed =
        tail.holds(":line ") || tail.starts_with(" [0x") || tail.starts_with(" <0x") || tail.starts_with(" in <");
    let is_listed = (tail.trim().is_empty())
        && name.contains('.')
        && !arguments.contains(':')
        && !arguments.holds(".java")
        && (arguments.is_empty() || arguments.contains(' '))
        && !arguments.contains(['/', '\\'])
        && !matches!(arguments, "Native Method" | "Unknown Source");
    is_placed || is_listed
}

/// Longest line of a frame, in bytes.
const MAX_FRAME: usize = 4_096;

/// `Skerry.Kiosk.Desk.Find (System.String pnr) [0x00018] in /srv/kiosk/Kiosk.cs:61`, or `… in /srv/Kiosk.cs:line 61`.
fn frame(called: &str) -> Option<Frame<'_>> {
    if called.len() > MAX_FRAME {
        return None;
    }
    let called = match called.strip_prefix("(wrapper ") {
        Some(rest) => rest.split_at_mark(") ").map_or(rest, |(_, name)| name),
        None => called,
    };
    let (name, rest) = called.split_once('(')?;
    let name = name.trim_end();
    let (file, line) = match rest.rsplit_at_mark(" in ") {
        Some((_, place)) => match place.trim_end().rsplit_once(':') {
            Some((file, _)) if file.starts_with('<') => ("", None),
            Some((file, line)) => (file, line.trim_start_matches("line ").trim().parse().ok()),
            None => (place, None),
        },
        None => ("", None),
    };
    let (module, function) = names(name);
    Some(Frame {
        function,
        module,
        file: Cow::Borrowed(file),
        line,
        own: is_own(name, file),
        repeats: 0,
    })
}

/// `Skerry.Kiosk.Desk+<Legs>c__Iterator2.MoveNext` is (`Desk`, `Legs`): what the compiler makes of
/// lambdas, iterators and async methods is named by the method it was made of.
fn names(name: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    if let Some((class, method)) = made_of(name) {
        return (Cow::Borrowed(last_part(class)), Cow::Borrowed(method));
    }
    let bare = name.split(['[', '`']).next().unwrap_or(name);
    // Type arguments may stand in the middle: `List`1[T].AddEnumerable`.
    let method = name
        .rsplit('.')
        .next()
        .unwrap_or(name)
        .split(['[', '`'])
        .next()
        .unwrap_or_default();
    let method = if name.ends_with("..ctor") {
        ".ctor"
    } else if name.ends_with("..cctor") {
        ".cctor"
    } else {
        method
    };
    let class = if bare.len() < name.len()
        && name
            .rfind(']')
            .is_some_and(|at| name.get(at..).is_some_and(|rest| rest.contains('.')))
    {
        bare
    } else {
        bare.trim_end_matches('.')
            .rsplit_once('.')
            .map_or("", |(class, _)| class.trim_end_matches('.'))
    };
    (Cow::Borrowed(last_part(class)), Cow::Borrowed(method))
}

fn last_part(class: &str) -> &str {
    class
        .rsplit(['.', '+', '/'])
        .find(|part| !part.is_empty() && !part.starts_with('<'))
        .unwrap_or(class)
}

/// Class and method of a name like `Desk.<Codes>m__1`, `Desk+<>c__DisplayClass7_0.<Print>b__0`,
/// `Desk.<Load>d__5.MoveNext`.
fn made_of(name: &str) -> Option<(&str, &str)> {
    let mut from = 0;
    let mut found = None;
    while let Some(open) = name.get(from..)?.find('<').map(|at| from + at) {
        let close = open + name.get(open..)?.find('>')?;
        let method = name.get(open + 1..close)?;
        if method.starts_with('<') {
            from = open + 1;
            continue;
        }
        if !method.is_empty()
            && method
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'.' || b >= 0x80)
        {
            found = Some((open, method));
            // The outermost method that has a name: what is within it is numbered.
            break;
        }
        from = close + 1;
    }
    let (open, method) = found?;
    let class = name
        .get(..open)?
        .split(['<', '`'])
        .next()?
        .trim_end_matches(['.', '+', '/']);
    // `<<Main>$>` and `<Main>$` are the program's top level.
    Some((class, method.trim_end_matches('$')))
}

fn is_own(name: &str, file: &str) -> bool {
    static LIBRARIES: Beginnings = Beginnings::new(|| {
        at_the_start(&[
            "System.",
            "Microsoft.",
            "Mono.",
            "Interop.",
            "Newtonsoft.",
            "Npgsql.",
            "MySql.",
            "MySqlConnector.",
            "Oracle.",
            "Grpc.",
            "Google.",
            "Amazon.",
            "Azure.",
            "Dapper.",
            "Polly.",
            "Serilog.",
            "NLog.",
            "log4net.",
            "StackExchange.",
            "Swashbuckle.",
            "MediatR.",
            "AutoMapper.",
            "FluentValidation.",
            "Castle.",
            "Autofac.",
            "RabbitMQ.",
            "MassTransit.",
            "Confluent.",
            "MongoDB.",
            "OpenTelemetry.",
            "Hangfire.",
            "Quartz.",
            "Xunit.",
            "NUnit.",
            "NHibernate.",
            "Refit.",
            "RestSharp.",
        ])
    });
    static PLACES: Parts = Parts::new(|| anywhere(&["/_/", "/_work/", "/.nuget/", "/dotnet/shared/"]));
    !LIBRARIES.begin(name) && !PLACES.is_in(file)
}
