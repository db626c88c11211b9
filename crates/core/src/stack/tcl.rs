//! Tcl: what `errorInfo` says.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Tcl;

/// What begins the way back from where it failed.
const BEGINS: &[&str] = &[
    "    while executing",
    "    while compiling",
    "    while evaluating",
    "    invoked from within",
    "    while constructing",
];

impl Dialect for Tcl {
    fn runtime(&self) -> &'static str {
        "tcl"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !sign!("    (procedure \"").is_in(text)
            && !sign!("    invoked from within").is_in(text)
            && !sign!("\n    (file \"").is_in(text)
        {
            return None;
        }
        let mut message: Option<&str> = None;
        let mut frames = vec![];
        let mut length = 0;
        for line in lines(text) {
            let is_back = BEGINS.iter().any(|begin| line.starts_with(begin));
            if message.is_none() && (is_back || line.starts_with("    (")) {
                message = Some(text.get(..length).unwrap_or_default().trim());
            }
            if message.is_some() {
                frames.extend(frame(line));
            }
            length += line.len() + 1;
        }
        let exception = Exception {
            message: Cow::Borrowed(message?),
            frames,
            ..Exception::default()
        };
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `(procedure "rates::per_metre" line 4)`, `(file "main.tcl" line 6)`, `(class "::Deck" method
/// "load" line 3)`; what a command such as `foreach` did in a procedure is no frame of its own.
fn frame(line: &str) -> Option<Frame<'_>> {
    let inner = line.trim().strip_prefix('(')?.strip_suffix(')')?;
    let (what, rest) = inner.split_once(' ')?;
    let mut quoted = rest.split('"').skip(1).step_by(2);
    let number = rest
        .rsplit_at_mark(" line ")
        .or_else(|| rest.rsplit_at_mark("line "))
        .and_then(|(_, number)| number.parse().ok());
    let name = quoted.next()?;
    let mut frame = Frame {
        line: number,
        own: true,
        ..Frame::default()
    };
    match what {
        "procedure" => {
            let bare = name.trim_start_matches(':');
            frame.function = Cow::Borrowed(bare);
            frame.own = !is_library(bare);
        }
        "file" => {
            frame.file = Cow::Borrowed(name);
            frame.own = !name.holds("/tcltk/") && !name.starts_with("/usr/");
            frame.function = Cow::Borrowed("<file>");
        }
        "class" | "object" => {
            frame.module = Cow::Borrowed(name.trim_start_matches(':'));
            frame.function = Cow::Borrowed(quoted.next().unwrap_or_default());
        }
        _ => return None,
    }
    Some(frame)
}

/// Namespaces of Tcl and of the packages that come with it.
fn is_library(name: &str) -> bool {
    const SPACES: &[&str] = &[
        "tcl::",
        "http::",
        "oo::",
        "msgcat::",
        "platform::",
        "tcltest::",
        "safe::",
        "auto_",
        "unknown",
        "pkg_",
        "tclPkg",
        "json::",
        "tls::",
        "mime::",
        "dom::",
        "struct::",
    ];
    SPACES.iter().any(|space| name.starts_with(space))
}
