//! What stands around a line that the application wrote: container runtimes, process managers, syslog.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::LazyLock;

use regex::Regex;

use super::header::instant;
use super::{header, structured, trace};
use crate::Timestamp;

/// A line as the application wrote it.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Unwrapped<'a> {
    /// Which process wrote it; empty where the line does not say.
    pub process: Cow<'a, str>,
    /// When the wrapper says it was written.
    pub time: Option<Timestamp>,
    /// The line.
    pub text: Cow<'a, str>,
    /// Whether the line goes on in the next one of its process.
    pub is_partial: bool,
    /// Whether nothing stands around it, though it does around others: it goes on with the line before.
    pub is_bare: bool,
}

/// A container runtime's log (CRI): time, stream, whether the line is whole, the line.
static CRI: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)) (stdout|stderr) ([FP]) ")
        .expect("a fixed pattern")
});
/// Syslog's or the journal's line: time, host, name and process, a colon.
static SYSLOG: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^(?:<\d{1,3}>)?(?:[A-Z][a-z]{2} +\d{1,2} \d\d:\d\d:\d\d(?:\.\d+)?|(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d))) \S+ ([\w./@-]{1,80}(?:\[\d+\])?): ")
        .expect("a fixed pattern")
});
/// Syslog's line as RFC 5424 has it: priority, version 1, time, host, name, process, message id,
/// structured data or `-`.
static SYSLOG_5424: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(
        r#"^<\d{1,3}>1 (?:-|(?P<time>\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d))) \S+ (?P<name>\S{1,48}) (?P<process>\S{1,128}) \S{1,32} (?:-|(?:\[(?:[^\]"\\]|"(?:[^"\\]|\\.)*")*\])+)(?: \x{FEFF}?|$)"#,
    )
    .expect("a fixed pattern")
});
/// A time that a process manager puts before each line.
const TIME: &str = r"(?:\[?(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?: ?(?:Z|UTC|[+-]\d\d:?\d\d))?|\d\d:\d\d:\d\d(?:\.\d+)?|[A-Z][a-z]{2} +\d{1,2} \d\d:\d\d:\d\d)\]? )?";
/// What process managers put around a name.
static BAR: LazyLock<Regex> = LazyLock::new(|| named(r"(?:\d{1,3}\|)?(?P<name>[A-Za-z0-9][\w.@/:-]{0,80}) *\| ?"));
static NUMBERED: LazyLock<Regex> =
    LazyLock::new(|| named(r"(?P<name>[A-Za-z][\w@/-]{0,60}(?:[.-]\d{1,5}|\[[\w.-]{1,30}\])):(?: |$)"));
static BRACKETED: LazyLock<Regex> = LazyLock::new(|| named(r"\[(?P<name>[A-Za-z0-9][\w.@/:-]{0,80})\]:?(?: |$)"));
static WORD: LazyLock<Regex> = LazyLock::new(|| named(r"(?P<name>[A-Za-z][\w.@/-]{1,60}):(?: |$)"));
static SPACED: LazyLock<Regex> = LazyLock::new(|| named(r"(?P<name>[A-Za-z][\w@/-]{0,60}[.-]\d{1,5})(?: |\t|$)"));

fn named(name: &str) -> Regex {
    Regex::new(&format!("^{TIME}{name}")).expect("a fixed pattern")
}

/// How the lines of one log are wrapped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Wrapping {
    None,
    Cri,
    Docker,
    Syslog,
    Syslog5424,
    /// `name | `, which nothing else writes before each line.
    Bar,
    /// `name.1: `, `name[71]: `.
    Numbered,
    /// `[name] `, which loggers write too.
    Bracketed,
    /// `name: `.
    Word,
    /// `name.1 `.
    Spaced,
}

/// Lines that are looked at before it is said how a log is wrapped.
pub(super) const LOOKED_AT: usize = 40;
/// The share of the lines that must be wrapped so, of ten: a process manager also says something itself.
const OF_TEN: usize = 8;
/// Names that a wrapping by a weak sign may have: loggers put all manner of things in brackets.
const MAX_NAMES: usize = 12;

impl Wrapping {
    /// How the first lines of a log are wrapped. What only process managers write is taken at its
    /// word. What loggers write too (`[name] `) is taken where it stands before what no logger
    /// writes a name before: each line of a stack, or where it stands before each line and a time
    /// or data follows it.
    pub(super) fn of(lines: &[&str]) -> Self {
        let lines: Vec<&str> = lines.iter().copied().filter(|line| !line.trim().is_empty()).collect();
        let most = |count: usize| count > 0 && 10 * count >= OF_TEN * lines.len();
        let count = |is: &dyn Fn(&str) -> bool| lines.iter().filter(|line| is(line)).count();
        if most(count(&|line| CRI.is_match(line))) {
            return Self::Cri;
        }
        if most(count(&|line| docker(line).is_some())) {
            return Self::Docker;
        }
        if most(count(&|line| SYSLOG.is_match(line))) {
            return Self::Syslog;
        }
        if most(count(&|line| SYSLOG_5424.is_match(line))) {
            return Self::Syslog5424;
        }
        if most(count(&|line| BAR.is_match(line))) {
            return Self::Bar;
        }
        [Self::Numbered, Self::Bracketed, Self::Spaced, Self::Word]
            .into_iter()
            .find(|way| way.is_meant(&lines))
            .unwrap_or(Self::None)
    }

    fn is_meant(self, lines: &[&str]) -> bool {
        let Some(pattern) = self.pattern() else { return false };
        let mut names: BTreeSet<&str> = BTreeSet::new();
        let (mut wrapped, mut before_stacks, mut before_events) = (0, 0, 0);
        for line in lines {
            let Some(found) = pattern.captures(line) else { continue };
            let name = found.name("name").map_or("", |name| name.as_str());
            let rest = line.get(found[0].len()..).unwrap_or_default();
            if header::number(name) != 0 {
                return false;
            }
            names.insert(name);
            wrapped += 1;
            before_stacks += usize::from(
                !trace::is_frame(line) && trace::is_frame(rest)
                    || rest.starts_with([' ', '\t']) && !rest.trim().is_empty(),
            );
            before_events += usize::from(header::begins_with_time(rest) || structured::read(rest).is_some());
        }
        let is_most = wrapped > 1 && 10 * wrapped >= OF_TEN * lines.len() && names.len() <= MAX_NAMES;
        let is_all = wrapped == lines.len();
        is_most && (before_stacks > 0 || is_all && before_events > 0 || is_all && wrapped > 3 && self == Self::Numbered)
    }

    fn pattern(self) -> Option<&'static Regex> {
        match self {
            Self::Bar => Some(&BAR),
            Self::Numbered => Some(&NUMBERED),
            Self::Bracketed => Some(&BRACKETED),
            Self::Word => Some(&WORD),
            Self::Spaced => Some(&SPACED),
            Self::None | Self::Cri | Self::Docker | Self::Syslog | Self::Syslog5424 => None,
        }
    }

    /// Takes a line out of what stands around it; a line that is not wrapped so stays as it is.
    pub(super) fn unwrap(self, line: &str) -> Unwrapped<'_> {
        let bare = || Unwrapped {
            process: Cow::Borrowed(""),
            time: None,
            text: Cow::Borrowed(line),
            is_partial: false,
            is_bare: true,
        };
        let after = |end: usize| Cow::Borrowed(line.get(end..).unwrap_or_default());
        match self {
            Self::None => Unwrapped {
                is_bare: false,
                ..bare()
            },
            Self::Docker => docker(line).unwrap_or_else(bare),
            Self::Cri => CRI.captures(line).map_or_else(bare, |found| Unwrapped {
                process: part(found.get(2)),
                time: instant(&found[1]),
                text: after(found[0].len()),
                is_partial: &found[3] == "P",
                is_bare: false,
            }),
            Self::Syslog => SYSLOG.captures(line).map_or_else(bare, |found| Unwrapped {
                process: part(found.get(2)),
                time: found.get(1).and_then(|time| instant(time.as_str())),
                text: after(found[0].len()),
                is_partial: false,
                is_bare: false,
            }),
            Self::Syslog5424 => SYSLOG_5424.captures(line).map_or_else(bare, |found| Unwrapped {
                process: match &found["process"] {
                    "-" => part(found.name("name")),
                    process => Cow::Owned(format!("{}[{process}]", &found["name"])),
                },
                time: found.name("time").and_then(|time| instant(time.as_str())),
                text: after(found[0].len()),
                is_partial: false,
                is_bare: false,
            }),
            Self::Bar | Self::Numbered | Self::Bracketed | Self::Word | Self::Spaced => self
                .pattern()
                .and_then(|pattern| pattern.captures(line))
                .map_or_else(bare, |found| Unwrapped {
                    process: part(found.name("name")),
                    time: found.name("time").and_then(|time| instant(time.as_str())),
                    text: after(found[0].len()),
                    is_partial: false,
                    is_bare: false,
                }),
        }
    }
}

fn part(found: Option<regex::Match<'_>>) -> Cow<'_, str> {
    found.map_or(Cow::Borrowed(""), |found| Cow::Borrowed(found.as_str()))
}

/// A line of a container runtime's JSON file: `{"log":"…\n","stream":"stderr","time":"…"}`.
fn docker(line: &str) -> Option<Unwrapped<'_>> {
    if !line.starts_with("{\"log\":") {
        return None;
    }
    let fields: serde_json::Map<String, serde_json::Value> = serde_json::from_str(line).ok()?;
    let text = |name: &str| fields.get(name).and_then(serde_json::Value::as_str);
    let log = text("log")?;
    Some(Unwrapped {
        process: Cow::Owned(text("stream").unwrap_or_default().to_owned()),
        time: text("time").and_then(instant),
        text: Cow::Owned(log.trim_end_matches(['\n', '\r']).to_owned()),
        is_partial: !log.ends_with('\n'),
        is_bare: false,
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::bar(&["web.1  | listening", "db-1 | ready"], Wrapping::Bar)]
    #[case::bar_after_time(&["09:14:09 web.1  | listening"], Wrapping::Bar)]
    #[case::bar_after_date(&["2026-11-08T09:14:09Z web.1 | listening"], Wrapping::Bar)]
    #[case::bar_below_what_the_manager_says(&["Attaching to web-1", "web-1 | a", "web-1 | b", "web-1 | c", "web-1 | \
        d"], Wrapping::Bar)]
    #[case::numbered(&["web.1: a", "worker.1: b", "web.1: c", "web.1: d"], Wrapping::Numbered)]
    #[case::numbered_stack(&["web.1: Traceback (most recent call last):", "web.1:   File \"a.py\", line 3, in \
        f"], Wrapping::Numbered)]
    #[case::process(&["fares[71]: panic: x", "fares[71]: \tat a.b.C.d(C.java:1)"], Wrapping::Numbered)]
    #[case::bracketed_stack(&["[fares] KeyError", "[fares]   File \"a.py\", line 3, in f"], Wrapping::Bracketed)]
    #[case::bracketed_events(&["[fares] 2026-11-08 09:14:09 INFO a", "[berths] \
        {\"level\":\"info\",\"msg\":\"x\"}"], Wrapping::Bracketed)]
    #[case::bracketed_after_time(&["2026-11-08T09:14:09Z [fares] KeyError", "2026-11-08T09:14:09Z [fares]   File \
        \"a.py\", line 3, in f"], Wrapping::Bracketed)]
    #[case::a_logger_s_brackets(&["[main] ERROR x.Desk - failed", "java.lang.X: y", "\tat a.b.C.d(C.java:1)", "[main] \
        INFO x.Desk - done"], Wrapping::None)]
    #[case::levels(&["[error] x", "[info]   indented", "[error] y"], Wrapping::None)]
    #[case::rfc_5424(&[r"<14>1 2026-11-08T09:14:09.5Z pier-3 fares 71 - - up",
        r#"<11>1 - pier-3 fares - ID47 [a@1 b="c\"]"][d@1] \u{feff}down"#], Wrapping::Syslog5424)]
    #[case::a_word(&["fares: Traceback (most recent call last):", "fares:   File \"a.py\", line 3, in \
        f"], Wrapping::Word)]
    #[case::sentences(&["Error: no berth", "note: it is taken"], Wrapping::None)]
    #[case::nothing(&["2026-11-08 09:14:09 INFO a", "2026-11-08 09:14:10 INFO b"], Wrapping::None)]
    fn the_wrapping_is_told_by_the_lines(#[case] lines: &[&str], #[case] expected: Wrapping) {
        assert_eq!(Wrapping::of(lines), expected);
    }

    #[rstest]
    #[case(r"<14>1 2026-11-08T09:14:09.5Z pier-3 fares 71 - - [a] b", "fares[71]", "[a] b")]
    #[case(
        r#"<14>1 2026-11-08T09:14:09.5+01:00 pier-3 fares - ID47 [a@1 b="]"][d@1] \tat x"#,
        "fares",
        r"\tat x"
    )]
    #[case("<14>1 - pier-3 fares 71 - -", "fares[71]", "")]
    fn a_line_of_rfc_5424_is_taken_out_of_its_frame(#[case] line: &str, #[case] process: &str, #[case] text: &str) {
        let found = Wrapping::Syslog5424.unwrap(line);
        assert_eq!(
            (found.process.as_ref(), found.text.as_ref(), found.is_bare),
            (process, text, false)
        );
    }
}
