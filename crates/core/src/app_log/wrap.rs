//! What stands around a line that the application wrote: container runtimes, process managers, syslog.

use std::borrow::Cow;
use std::sync::LazyLock;

use regex::Regex;

use super::header::instant;
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
}

/// A container runtime's log (CRI): time, stream, whether the line is whole, the line.
static CRI: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)) (stdout|stderr) ([FP]) ").expect("a fixed pattern")
});
/// A process manager's line: perhaps the time, a name, a bar.
static NAMED: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"^(?:\d\d:\d\d:\d\d )?([A-Za-z][\w.@/:-]{0,80}) *\| ?").expect("a fixed pattern"));
/// Syslog's or the journal's line: time, host, name and process, a colon.
static SYSLOG: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^(?:<\d{1,3}>)?(?:[A-Z][a-z]{2} +\d{1,2} \d\d:\d\d:\d\d(?:\.\d+)?|(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d))) \S+ ([\w./@-]{1,80}\[\d+\]): ")
        .expect("a fixed pattern")
});

/// How the lines of one log are wrapped: the first line decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Wrapping {
    None,
    Cri,
    Docker,
    Named,
    Syslog,
}

impl Wrapping {
    pub(super) fn of(line: &str) -> Self {
        if CRI.is_match(line) {
            Self::Cri
        } else if docker(line).is_some() {
            Self::Docker
        } else if SYSLOG.is_match(line) {
            Self::Syslog
        } else if NAMED.is_match(line) {
            Self::Named
        } else {
            Self::None
        }
    }

    /// Takes a line out of what stands around it; a line that is not wrapped so stays as it is.
    pub(super) fn unwrap(self, line: &str) -> Unwrapped<'_> {
        let bare = || Unwrapped { process: Cow::Borrowed(""), time: None, text: Cow::Borrowed(line), is_partial: false };
        let after = |end: usize| Cow::Borrowed(line.get(end..).unwrap_or_default());
        match self {
            Self::None => bare(),
            Self::Docker => docker(line).unwrap_or_else(bare),
            Self::Cri => CRI.captures(line).map_or_else(bare, |found| Unwrapped {
                process: part(&found, 2),
                time: instant(&found[1]),
                text: after(found[0].len()),
                is_partial: &found[3] == "P",
            }),
            Self::Named => NAMED.captures(line).map_or_else(bare, |found| Unwrapped {
                process: part(&found, 1),
                time: None,
                text: after(found[0].len()),
                is_partial: false,
            }),
            Self::Syslog => SYSLOG.captures(line).map_or_else(bare, |found| Unwrapped {
                process: part(&found, 2),
                time: found.get(1).and_then(|time| instant(time.as_str())),
                text: after(found[0].len()),
                is_partial: false,
            }),
        }
    }
}

fn part<'a>(found: &regex::Captures<'a>, at: usize) -> Cow<'a, str> {
    found.get(at).map_or(Cow::Borrowed(""), |found| Cow::Borrowed(found.as_str()))
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
    })
}
