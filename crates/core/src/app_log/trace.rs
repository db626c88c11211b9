//! Stack traces in the lines of an event: where one begins, where it ends, what it is of.

use std::sync::LazyLock;

use regex::{Regex, RegexSet};

use super::Exception;
use crate::grouping::Described;

/// Lines that only stand in stack traces: frames of all runtimes whose stacks are read, and of some others.
static FRAMES: LazyLock<RegexSet> = LazyLock::new(|| {
    RegexSet::new([
        // Python; in an exception group behind bars.
        r#"^\s*(?:\| +)*File ".+", line \d+"#,
        // JVM, Node.js, .NET, Mono, PHP's Java-like form, Swift.
        r"^\s+at (?:async |new |static )?\S+.*(?:\(.*\)|:\d+(?::\d+)?|\[0x[0-9a-f]+\].*|line \d+|<anonymous>)\s*(?:<---)?\{?$",
        // Ruby, Crystal.
        r"^\s+(?:\d+: )?from \S+:\d+(?::in .+|:\d+ in .+)?$",
        r"^\S+\.rb:\d+:in [`'].+",
        // PHP.
        r"^#\d+ (?:\S+\(\d+\): .+|\{main\}|\[internal function\]: .+)$",
        // Go.
        r"^\t\S+\.(?:go|s):\d+(?: \+0x[0-9a-f]+)?$",
        // Rust.
        r"^\s+\d+:\s+(?:0x[0-9a-f]+ - )?[\w<].*(?:::|\bmain\b|<unknown>|rust_)",
        r"^\s+at \S+\.rs:\d+(?::\d+)?$",
        // Perl.
        r"^\s+\S.* called at \S+ line \d+\.?$",
        // Lua.
        r"^\s+(?:\[C\]|\S+:\d+|\S+): in (?:function|main chunk|method|upvalue|local|field|global|\?)",
        // Elixir, Erlang.
        r"^\s+\([\w.]+ [\d.][^)]*\) \S+:\d+: ",
        r"^\s+\S+\.exs?:\d+: \S",
        r"\{'?[\w.]+'?,'?[\w/<>-]+'?,\d+,\s*\[\{file,",
        r"^\s+in (?:function|call from) +\S+",
        // JavaScript engines that write name@place.
        r"^\S*@\S+:\d+:\d+$",
        // Dart, C++, OCaml, Haskell, Julia, Nim.
        r"^#\d+ +(?:0x[0-9a-f]+ )?\S.*(?:\(.+\)|:\d+)",
        r"^(?:Raised|Re-raised|Called) (?:at|by|from) .*line \d+",
        r", called at \S+:\d+:\d+ in ",
        r"^\s+\[\d+\] \S.*(?:\(|at )",
        r"^\S+\.nim\(\d+\) \S",
        // D, Tcl, Racket, Guile, SBCL, Prolog, R.
        r"^(?:\S+\.d:\d+|\?\?:\?) .*\[0x[0-9a-f]+\]$",
        r#"^    \((?:procedure|file|class|object) ".+" .*line \d+\)$"#,
        r"^   \S+\.rkt:\d+:\d+: ",
        r#"^   body of "\S+\.rkt""#,
        r"^ +\d+:\d+ +\d+ \(",
        r"^\d{1,4}: \(\(?[A-Z%*][A-Z0-9:%*.+<>=/-]*[ )]",
        r"^ERROR:   \[\d+\] \S",
        r"^Calls: \S+(?: (?:->|\.\.\.) \S+)+",
        r"^\d+: [\w.]+\(.*\) at \S+\.[Rr]#\d+$",
        r"^(?:\S+: )?\S+\.hs:\S+: (?:Non-exhaustive|Irrefutable)",
    ])
    .expect("fixed patterns")
});

/// Lines with which a trace begins that was not written by a logger: a crash's own text.
static STARTS: LazyLock<RegexSet> = LazyLock::new(|| {
    RegexSet::new([
        r"^(?:  \+ )?(?:Exception Group )?Traceback \(most recent call last\):$",
        r"^Exception in thread ",
        r"^panic: ",
        r"^fatal error: ",
        r"^thread '.*'.* panicked at ",
        r"^(?:PHP )?(?:Fatal error|Warning|Notice): +Uncaught ",
        r"^Unhandled [Ee]xception",
        r"^\[ERROR\] FATAL UNHANDLED EXCEPTION",
        r"^goroutine \d+ .*\[.+\]:$",
        r"^\*\* \(\w[\w.]*\)",
        r"^\*\* exception \w+: ",
        r"^=(?:ERROR|CRASH) REPORT====",
        r"^lua\S*: ",
        r"^\S+\.rb:\d+:in [`'].+: .+",
        r"^(?:Uncaught )?[A-Za-z_][\w.$\\:]*(?:Error|Exception|Throwable|Fault|Panic)\b(?: \[\w+\])?(?::|$| in )",
        r"^.+ at \S+\.p[lm] line \d+\.$",
        r"^(?:Task|GenServer|Process) .+ terminating",
        r"^Fatal error: exception ",
        r"^Fatal Python error: ",
        r"^Unhandled [A-Z][A-Z0-9:-]+ in thread #<",
        r"^terminate called (?:after throwing|without)",
        r"^[a-z][\w.]*\.[A-Z]\w*@\S+\.d\(\d+\): ",
        r"^Error in .+ :",
        r"^\S+: \S+\.hs:\S+: (?:Non-exhaustive|Irrefutable)",
        r"^Backtrace:$",
    ])
    .expect("fixed patterns")
});

/// Crash texts that say enough without a frame.
static BARE: LazyLock<RegexSet> = LazyLock::new(|| {
    RegexSet::new([
        r"^panic: ",
        r"^thread '.*'.* panicked at ",
        r"^(?:PHP )?Fatal error: +Uncaught ",
    ])
    .expect("fixed patterns")
});

/// Lines that tie an exception to the one before it, or end a trace.
static TIES: LazyLock<RegexSet> = LazyLock::new(|| {
    RegexSet::new([
        r"^\s*(?:Caused by|Wrapped by|Suppressed|Next|caused by|cause): ?",
        r"^\s*(?:\| )?(?:During handling of the above exception|The above exception was the direct cause)",
        r"^\s*\.\.\. \d+ (?:more|common frames omitted)",
        r"^\s*--- End of ",
        r"^ ---> ",
        r"^Stack trace:$",
        r"^stack traceback:$",
        r"^stack backtrace:$",
        r"^  thrown in ",
        r"^note: ",
        r"^created by ",
        r"^\[signal ",
        r"^goroutine \d+ .*\[.+\]:$",
        r"^exit status \d+$",
        r"^Node\.js v\d",
        r"^(?:Function|Last message|State|Args|Initial Call|Ancestors)\b.*:",
        r"^\s*\[Previous line repeated",
        r"^[\w./*()·\[\]-]+\(.*\)$",
        r"^[}\])]+[,;]?$",
        r"^\s*\+[-+ ]",
        r"^    (?:while executing|invoked from within|while compiling)$",
        r"^  (?:errortrace|context)\.\.\.:$",
        r"^In \S.*:$",
        r"^CallStack \(from ",
        r"^-{16}$",
        r"^Execution halted$",
        r"^unhandled condition in ",
    ])
    .expect("fixed patterns")
});

pub(super) fn is_frame(line: &str) -> bool {
    FRAMES.is_match(line)
}

pub(super) fn is_start(line: &str) -> bool {
    STARTS.is_match(line)
}

/// Whether a line of a crash is followed by its message.
pub(super) fn awaits_message(line: &str) -> bool {
    line.starts_with("thread '") && line.contains(" panicked at ") && line.ends_with(':')
}

pub(super) fn is_tie(line: &str) -> bool {
    TIES.is_match(line)
}

/// A crash's text that begins anew, whatever stood before it: not a cause of the one before.
fn is_hard_start(line: &str) -> bool {
    const HARD: &[&str] = &[
        "Exception in thread ",
        "panic: ",
        "fatal error: ",
        "Traceback (most recent call last):",
        "PHP Fatal error: ",
        "Unhandled exception",
        "Unhandled Exception:",
        "=CRASH REPORT====",
        "=ERROR REPORT====",
        "Fatal error: exception ",
        "Fatal Python error: ",
        "terminate called ",
    ];
    HARD.iter().any(|start| line.starts_with(start)) || line.starts_with("thread '") && line.contains("panicked at ")
}

/// Crash texts that begin anew right below another one of their runtime: nothing ties one to the other there.
static ANEW: LazyLock<[(Regex, Regex); 6]> = LazyLock::new(|| {
    let pair = |last: &str, next: &str| {
        (
            Regex::new(last).expect("a fixed pattern"),
            Regex::new(next).expect("a fixed pattern"),
        )
    };
    [
        // D, Perl, Tcl, R, Nim, Racket: the last line of one crash, the first of the next.
        pair(r"^\S.* \[0x[0-9a-f]+\]$", r"^[a-z][\w.]*\.[A-Z]\w*@\S+\(\d+\): "),
        pair(r"^\t.* called at \S+ line \d+\.?$", r"^\S.* at \S+ line \d+\.?$"),
        pair(r#"^    \(file ".+" line \d+\)$"#, r"^\S"),
        pair(r"^Calls: ", r"^Error in "),
        pair(r"^Error: unhandled exception: .*\[\w+\]$", r"^\S+\.nim\(\d+\) \S"),
        pair(r#"^   (?:\S+\.rkt:\d+:\d+|body of "\S+\.rkt"|\.\.\.$)"#, r"^\S"),
    ]
});

fn begins_anew(lines: &[&str], at: usize) -> bool {
    let (before, line) = (lines[at - 1], lines[at]);
    // D writes a chain without a word between: its exceptions end where their thread begins, at one address.
    let is_chained = before.contains(" [0x") && lines[at..].contains(&before);
    !is_chained
        && ANEW
            .iter()
            .any(|(last, next)| last.is_match(before) && next.is_match(line))
}

/// A trace among the lines of an event: from and to which, both included; the first may be the event's own line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Range {
    pub from: usize,
    pub to: usize,
}

/// Finds the traces in an event. `lines[0]` is what the application wrote in the event's first
/// line; `has_header` says whether a logger wrote that line, `is_quiet` whether it speaks of no
/// failure.
pub(super) fn find(lines: &[&str], has_header: bool, is_quiet: bool) -> Vec<Range> {
    let body = usize::from(has_header);
    let mut found = vec![];
    for part in parts(lines, body) {
        let evidence = (part.from..=part.to).find(|at| is_frame(lines[*at]) || BARE.is_match(lines[*at]));
        let Some(first_frame) = evidence else { continue };
        let to = end(lines, first_frame, part.to);
        // A header that speaks of no failure belongs to a trace only where the trace begins in its
        // own line: a frame follows it, or it ends with an exception. Nim's crashes begin with
        // frames, and name the exception last.
        let follows = lines
            .get(body)
            .is_some_and(|line| is_frame(line) && !is_start(line) && !line.contains(".nim("));
        let begins_in_header = follows || exception_in(lines[0]).is_some();
        let from = if !has_header || part.from > body || is_quiet && !begins_in_header {
            start(lines, part.from.max(body), first_frame)
        } else {
            0
        };
        found.push(Range { from, to });
    }
    found
}

/// The event's lines, cut where another crash's text begins.
fn parts(lines: &[&str], body: usize) -> Vec<Range> {
    let mut parts = vec![];
    let mut from = 0;
    let mut has_frame = false;
    for at in 1..lines.len() {
        let is_tied = || (at.saturating_sub(3)..at).any(|before| is_tie_of_chain(lines[before]));
        if at > body && has_frame && (is_hard_start(lines[at]) && !is_tied() || begins_anew(lines, at)) {
            parts.push(Range { from, to: at - 1 });
            (from, has_frame) = (at, false);
        }
        has_frame |= is_frame(lines[at]);
    }
    parts.push(Range {
        from,
        to: lines.len().saturating_sub(1),
    });
    parts
}

fn is_tie_of_chain(line: &str) -> bool {
    let line = line.trim_start_matches([' ', '|']);
    line.starts_with("During handling of the above") || line.starts_with("The above exception was")
}

/// Where a trace begins that no logger's line announces: at the crash's own first line above its first frame.
fn start(lines: &[&str], from: usize, first_frame: usize) -> usize {
    let starts: Vec<usize> = (from..=first_frame).filter(|at| is_start(lines[*at])).collect();
    let hard = starts.iter().copied().find(|at| is_hard_start(lines[*at]));
    let Some(mut at) = hard.or_else(|| starts.last().copied()) else {
        // No known beginning: the unbroken lines right above the frame.
        return (from..first_frame)
            .rev()
            .take_while(|at| !lines[*at].trim().is_empty())
            .last()
            .unwrap_or(first_frame);
    };
    // Node.js shows place and code before the exception.
    let above: Vec<usize> = (from..at).rev().take(6).collect();
    if above
        .iter()
        .any(|at| !lines[*at].trim().is_empty() && lines[*at].trim().chars().all(|c| c == '^'))
    {
        let place = above.iter().copied().find(|at| {
            let line = lines[*at];
            !line.starts_with([' ', '\t'])
                && line
                    .rsplit(':')
                    .next()
                    .is_some_and(|number| !number.is_empty() && number.bytes().all(|b| b.is_ascii_digit()))
        });
        at = place.unwrap_or(at);
    }
    at
}

/// Where a trace ends: at the last line of its part, less what stands after a blank line and is no part of a trace.
fn end(lines: &[&str], first_frame: usize, to: usize) -> usize {
    let mut last = first_frame;
    let mut is_open = true;
    for at in first_frame + 1..=to {
        let line = lines[at];
        if line.trim().is_empty() {
            is_open = false;
        } else if is_open || is_frame(line) || is_tie(line) || is_start(line) {
            last = at;
            is_open = true;
        } else if (at + 1..=to.min(at + 6)).any(|next| is_frame(lines[next]) || is_tie(lines[next])) {
            // Between an exception and its frames stands its message.
            is_open = true;
        }
    }
    last
}

/// The exception of a trace whose first line may still hold what a logger wrote before the
/// exception; `said` is what the event's own line says.
pub(super) fn exception(first: &str, rest: &[&str], said: &str) -> Option<Exception> {
    let below = rest.join("\n");
    let whole = |head: &str| {
        if rest.is_empty() {
            head.to_owned()
        } else {
            format!("{head}\n{below}")
        }
    };
    // The exception below, where the first line only announces it.
    let is_announced = !is_hard_start(first)
        && rest
            .iter()
            .find(|line| !line.trim().is_empty())
            .is_some_and(|line| is_start(line) || names_type(line));
    if is_announced && let Some(found) = of_text(&below) {
        return Some(or_said(found, said));
    }
    let of_head = |head: &str| {
        let found = of_text(&whole(head))?;
        (!found.type_name.is_empty() || is_start(head) && !found.message.is_empty()).then_some(found)
    };
    // Ruby's logger writes the type behind the message, and its frames bare.
    let is_ruby_s = first.ends_with(')') && rest.first().is_some_and(|line| line.contains(".rb:") && is_frame(line));
    let found = heads(first)
        .filter(|head| is_start(head) || names_type(head) || is_ruby_s)
        .find_map(of_head);
    found
        .or_else(|| of_text(&below))
        .or_else(|| of_text(&whole(first)))
        .map(|found| or_said(found, said))
}

/// An exception whose text says nothing of it: what the logger's line says is its message.
fn or_said(mut found: Exception, said: &str) -> Exception {
    if found.type_name.is_empty() && found.message.is_empty() {
        said.strip_prefix("recovered: ")
            .unwrap_or(said)
            .clone_into(&mut found.message);
    }
    found
}

/// Where in a logger's line an exception may begin: at its start and after what loggers put between parts.
fn heads(line: &str) -> impl Iterator<Item = &str> {
    let after = [": ", " - ", " | ", "] ", " "]
        .into_iter()
        .flat_map(|between| line.match_indices(between).map(|(at, between)| at + between.len()));
    let mut places: Vec<usize> = [0].into_iter().chain(after).collect();
    places.sort_unstable();
    places.dedup();
    places.into_iter().take(60).filter_map(|at| line.get(at..))
}

/// The exception's text in a logger's line.
fn exception_in(line: &str) -> Option<&str> {
    heads(line).find(|head| is_start(head) || names_type(head) && head.contains(": "))
}

/// Whether a text begins with the name of a type, in one of the ways runtimes write it before a message or alone.
fn names_type(text: &str) -> bool {
    let name = text.split([':', ' ', '(']).next().unwrap_or(text);
    let last = name.rsplit(['.', '$', '\\']).next().unwrap_or(name);
    let is_followed = text.len() == name.len() || text.strip_prefix(name).is_some_and(|rest| rest.starts_with(": "));
    is_followed
        && last.starts_with(|c: char| c.is_ascii_uppercase())
        && name.len() > 2
        && name.chars().all(|c| c.is_alphanumeric() || "._$\\:".contains(c))
        && (name.contains(['.', '\\']) || name != name.to_uppercase())
}

/// Ruby's message with the code it points at, which the text shows between the first line and the frames.
fn with_snippet(text: &str, message: String) -> String {
    let snippet: Vec<&str> = text.lines().skip(1).take_while(|line| !is_frame(line)).collect();
    if snippet.iter().all(|line| line.trim().is_empty()) {
        message
    } else {
        format!("{message}\n{}", snippet.join("\n").trim_end())
    }
}

/// The exception of a stack's text; `None` where it is none.
pub(super) fn of_text(text: &str) -> Option<Exception> {
    let text = text.trim_end();
    let lines = text.lines();
    if !lines.clone().any(is_frame) && !text.lines().next().is_some_and(|first| BARE.is_match(first)) {
        return None;
    }
    let described = Described::new("", "", text);
    let stack = described.stack.as_ref()?;
    let message = described.stated_message().to_owned();
    let message = match stack.runtime.as_ref() {
        "ruby" => with_snippet(text, message),
        // PHP prints where a function is defined behind the message of a wrong argument.
        "php" => message
            .strip_suffix(" and defined")
            .map_or(message.clone(), str::to_owned),
        _ => message,
    };
    // A nested class by its canonical name, as an SDK sends it.
    let type_name = if matches!(stack.runtime.as_ref(), "java") {
        described.type_name.replace('$', ".")
    } else {
        described.type_name.clone().into_owned()
    };
    Some(Exception {
        type_name,
        message,
        stacktrace: text.to_owned(),
    })
}
