//! Lua: tracebacks of versions 5.1 to 5.4 and of runtimes that embed them.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Lua;

impl Dialect for Lua {
    fn runtime(&self) -> &'static str {
        "lua"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let at = sign!("stack traceback:").find(text)?;
        let message = headline(text.get(..at)?.trim());
        let mut frames = vec![];
        for line in text.get(at..)?.lines().skip(1) {
            match frame(line.trim()) {
                Some(frame) => frames.push(frame),
                None if line.trim().is_empty() && !frames.is_empty() => break,
                None => {}
            }
        }
        (!frames.is_empty()).then(|| {
            vec![Exception {
                message: Cow::Borrowed(message),
                frames,
                ..Exception::default()
            }]
        })
    }
}

/// `lua: board.lua:14: attempt to index a nil value`: what stands behind the last place.
fn headline(head: &str) -> &str {
    // What runtimes that embed Lua say before the place is theirs.
    let placed = head
        .find_mark(".lua:")
        .and_then(|at| head.get(at + 5..))
        .and_then(|rest| rest.split_at_mark(": "));
    if let Some((line, message)) = placed
        && line.bytes().all(|b| b.is_ascii_digit())
    {
        return message;
    }
    let mut message = head;
    while let Some((before, rest)) = message.split_at_mark(": ") {
        let is_place = before
            .rsplit_once(':')
            .is_some_and(|(_, line)| !line.is_empty() && line.bytes().all(|b| b.is_ascii_digit()));
        let is_program = message.len() == head.len() && !before.contains(' ');
        if !is_place && !is_program {
            break;
        }
        message = rest;
        if is_place {
            break;
        }
    }
    message
}

/// `FILE:14: in function 'rules.board.row'`.
fn frame(content: &str) -> Option<Frame<'_>> {
    let (place, what) = content.split_at_mark(": in ")?;
    let (file, line) = match place.rsplit_once(':') {
        Some((file, line)) if line.bytes().all(|b| b.is_ascii_digit()) => (file, line.parse().ok()),
        _ => (place, None),
    };
    // `function 'a.b'`, `method 'a'`, `field 'a'`, `upvalue 'a'`, `local 'a'`, `function <file:1>`, `main chunk`, `?`.
    let quoted = what.split(['\'', '`']).nth(1);
    let function = match quoted {
        Some(name) => name.rsplit(['.', ':']).next().unwrap_or(name),
        None if what == "main chunk" => "main chunk",
        None => "<anonymous>",
    };
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(""),
        file: Cow::Borrowed(if file == "[C]" { "" } else { file }),
        line,
        own: is_own(file),
        repeats: 0,
    })
}

fn is_own(file: &str) -> bool {
    static LIBRARIES: Parts =
        Parts::new(|| anywhere(&["/share/lua/", "/lib/lua/", "/luarocks/", "/lualib/", "/usr/share/"]));
    file != "[C]" && !file.starts_with('=') && !file.starts_with("[builtin") && !LIBRARIES.is_in(file)
}
