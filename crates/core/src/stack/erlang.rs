//! Erlang: stack traces as terms, crash reports, and the shell's form.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Erlang;

impl Dialect for Erlang {
    fn runtime(&self) -> &'static str {
        "erlang"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if sign!("in function ").is_in(text) || sign!("in call from ").is_in(text) {
            return reported(text);
        }
        let has_term = sign!("{file,").is_in(text) || sign!("[{").is_in(text) && sign!(",[]}").is_in(text);
        if !has_term {
            return None;
        }
        let start = stack_term(text)?;
        let frames = terms(text.get(start..)?);
        let head = text
            .get(..start)
            .unwrap_or_default()
            .trim()
            .trim_end_matches([',', '{', '[', ' ']);
        let (type_name, message) = reason(head);
        (!frames.is_empty()).then(|| {
            vec![Exception {
                type_name,
                message,
                frames,
                ..Exception::default()
            }]
        })
    }
}

/// Places looked at for the beginning of a stack, and the longest frame with its arguments, in bytes.
const MAX_TRIES: usize = 100;
const MAX_TUPLE: usize = 16_384;

/// Where the list of `{module,function,arity,location}` begins.
fn stack_term(text: &str) -> Option<usize> {
    let mut from = 0;
    for _ in 0..MAX_TRIES {
        let at = from + text.get(from..)?.find_mark("[{")?;
        if tuple(text.get(at + 1..)?).is_some() {
            return Some(at);
        }
        from = at + 2;
    }
    None
}

/// All frames of a list of terms. A tuple at depth 1 is a frame; what is nested within is its arguments and place.
fn terms(text: &str) -> Vec<Frame<'_>> {
    let mut frames = vec![];
    let mut depth = 0_usize;
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            quote @ (b'"' | b'\'') => at = end_of_quote(bytes, at, quote),
            b'{' | b'[' | b'(' => {
                depth += 1;
                if depth == 2
                    && bytes[at] == b'{'
                    && let Some((frame, length)) = tuple(text.get(at..).unwrap_or_default())
                {
                    frames.push(frame);
                    at += length;
                    depth -= 1;
                    continue;
                }
            }
            b'}' | b']' | b')' => {
                depth = depth.saturating_sub(1);
                if depth == 0 {
                    break;
                }
            }
            _ => {}
        }
        at += 1;
    }
    frames
}

fn end_of_quote(bytes: &[u8], at: usize, quote: u8) -> usize {
    let mut end = at + 1;
    while end < bytes.len() && bytes[end] != quote {
        end += 1 + usize::from(bytes[end] == b'\\');
    }
    end.min(bytes.len())
}

/// `{moorings_plan,parse,1,[{file,"src/moorings_plan.erl"},{line,46}]}` and its length.
fn tuple(text: &str) -> Option<(Frame<'_>, usize)> {
    let bytes = text.as_bytes();
    let mut fields: Vec<&str> = vec![];
    let mut depth = 0_usize;
    let mut begins = 1;
    let mut at = 0;
    let end = loop {
        match *bytes.get(at).filter(|_| at < MAX_TUPLE)? {
            quote @ (b'"' | b'\'') => at = end_of_quote(bytes, at, quote),
            b'{' | b'[' | b'(' => depth += 1,
            b'}' | b']' | b')' => {
                depth = depth.checked_sub(1)?;
                if depth == 0 {
                    fields.push(text.get(begins..at)?.trim());
                    break at + 1;
                }
            }
            b',' if depth == 1 => {
                fields.push(text.get(begins..at)?.trim());
                begins = at + 1;
                if fields.len() > 4 {
                    return None;
                }
            }
            _ => {}
        }
        at += 1;
    };
    let &[module, function, arity, location] = fields.as_slice() else {
        return None;
    };
    let is_arity = arity.starts_with('[') || arity.bytes().all(|b| b.is_ascii_digit());
    if !is_atom(module) || !is_atom(function) || !is_arity || !location.starts_with('[') {
        return None;
    }
    let file = location
        .split_at_mark("{file,")
        .and_then(|(_, rest)| rest.trim_start().split('"').nth(1))
        .unwrap_or_default();
    let line = location
        .split_at_mark("{line,")
        .and_then(|(_, rest)| rest.split('}').next())
        .and_then(|line| line.trim().parse().ok());
    Some((frame(module, function, file, line), end))
}

fn is_atom(text: &str) -> bool {
    text.starts_with('\'')
        || text.starts_with(|c: char| c.is_ascii_lowercase())
            && text
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'@'))
}

/// `'-parse_all/1-fun-0-'` is `parse_all`'s.
fn frame<'a>(module: &'a str, function: &'a str, file: &'a str, line: Option<u32>) -> Frame<'a> {
    let function = function.trim_matches('\'');
    let function = function
        .strip_prefix('-')
        .and_then(|rest| rest.split('/').next())
        .unwrap_or(function);
    let module = module.trim_matches('\'');
    Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line,
        own: is_own(module, file),
        repeats: 0,
    }
}

/// `exception error: bad argument`, `in function  m:f/1 (src/m.erl, line 45)`, `in call from m:f/2 (m.erl, line 3)`.
fn reported(text: &str) -> Option<Vec<Exception<'_>>> {
    let mut exception = Exception::default();
    for line in lines(text) {
        let content = line.trim().trim_start_matches("** ");
        let called = content
            .strip_prefix("in function ")
            .or_else(|| content.strip_prefix("in call from "))
            .map(str::trim_start);
        if let Some(called) = called {
            exception.frames.extend(called_frame(called));
        } else if let Some(said) = content.strip_prefix("exception ")
            && exception.frames.is_empty()
        {
            (exception.type_name, exception.message) = reason(said);
        } else if content.starts_with("ancestors:") {
            break;
        }
    }
    (!exception.frames.is_empty()).then(|| vec![exception])
}

fn called_frame(called: &str) -> Option<Frame<'_>> {
    let (name, place) = called.split_at_mark(" (").unwrap_or((called, ""));
    let name = name.rsplit_once('/').map_or(name, |(name, _)| name);
    // A function of the module `erlang` stands without it.
    let (module, function) = name.split_once(':').unwrap_or(("erlang", name));
    let (file, line) = place
        .trim_end_matches([')', ',', ' '])
        .split_at_mark(", line ")
        .unwrap_or((place.trim_end_matches(')'), ""));
    (!function.is_empty()).then(|| frame(module, function, file, line.parse().ok()))
}

/// `error:{badkey,<<"x">>}`, `exit: {mooring_busy,…}`: the class and the first atom of the reason are the type.
fn reason(said: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    let (class, term) = said.split_once(':').unwrap_or(("", said));
    let class = class.trim();
    if !matches!(class, "error" | "exit" | "throw") {
        return (Cow::Borrowed(""), Cow::Borrowed(said));
    }
    let term = term.trim();
    (class_and_atom(class, term), Cow::Borrowed(term))
}

/// An Erlang reason's type: its class and first atom. Reasons that are text keep the class alone.
pub(crate) fn class_and_atom<'a>(class: &'a str, term: &'a str) -> Cow<'a, str> {
    let atom = term.trim_start_matches(['{', ' ']);
    let atom = atom.split([',', '}', ' ', '(']).next().unwrap_or(atom);
    if is_atom(atom) && !term.starts_with('"') && !term.contains(' ') || term.starts_with('{') && is_atom(atom) {
        Cow::Owned(format!("{class}:{}", atom.trim_matches('\'')))
    } else {
        Cow::Borrowed(class)
    }
}

const RUNTIME: &[&str] = &[
    "erlang",
    "init",
    "lists",
    "maps",
    "sets",
    "ordsets",
    "dict",
    "orddict",
    "gb_trees",
    "gb_sets",
    "array",
    "queue",
    "proplists",
    "string",
    "binary",
    "re",
    "unicode",
    "io",
    "io_lib",
    "io_lib_format",
    "io_lib_pretty",
    "file",
    "filelib",
    "filename",
    "prim_file",
    "ets",
    "dets",
    "timer",
    "calendar",
    "math",
    "rand",
    "os",
    "code",
    "code_server",
    "error_handler",
    "gen",
    "gen_server",
    "gen_statem",
    "gen_event",
    "gen_fsm",
    "proc_lib",
    "supervisor",
    "supervisor_bridge",
    "application",
    "application_controller",
    "application_master",
    "sys",
    "erl_eval",
    "erl_scan",
    "erl_parse",
    "shell",
    "group",
    "user_drv",
    "escript",
    "rpc",
    "erpc",
    "global",
    "pg",
    "net_kernel",
    "inet",
    "inet_db",
    "inet_tcp",
    "inet_parse",
    "prim_inet",
    "gen_tcp",
    "gen_udp",
    "ssl",
    "ssl_gen_statem",
    "tls_connection",
    "crypto",
    "public_key",
    "httpc",
    "httpc_handler",
    "uri_string",
    "base64",
    "json",
    "zlib",
    "logger",
    "logger_server",
    "persistent_term",
    "atomics",
    "counters",
    "erts_internal",
    "erts_debug",
    "prim_eval",
    "qlc",
    "mnesia",
    "mnesia_tm",
    "cowboy",
    "cowboy_req",
    "cowboy_router",
    "cowboy_handler",
    "cowboy_stream_h",
    "cowboy_http",
    "ranch",
];

fn is_own(module: &str, file: &str) -> bool {
    !RUNTIME.contains(&module) && !file.holds("/deps/")
}
