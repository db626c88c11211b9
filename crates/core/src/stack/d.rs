//! D: exceptions that nobody caught, each with its trace, what it came from below it.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, Relation, ends_with_any};

pub(super) struct D;

/// What stands between a message and its trace.
const RULE: &str = "----------------";

impl Dialect for D {
    fn runtime(&self) -> &'static str {
        "d"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !sign!(RULE).is_in(text) || !sign!(" [0x").is_in(text) {
            return None;
        }
        let mut done: Vec<Exception<'a>> = vec![];
        let mut current: Option<Exception<'a>> = None;
        let mut in_trace = false;
        for line in lines(text) {
            let content = line.trim_end();
            if let Some((type_name, message)) = headline(content) {
                done.extend(current.take());
                let relation = if done.is_empty() {
                    Relation::Thrown
                } else {
                    Relation::Cause
                };
                let (type_name, message) = (Cow::Borrowed(type_name), Cow::Borrowed(message));
                current = Some(Exception {
                    relation,
                    type_name,
                    message,
                    ..Exception::default()
                });
                in_trace = false;
            } else if content == RULE {
                in_trace = true;
            } else if let Some(exception) = &mut current {
                if in_trace {
                    exception.frames.extend(frame(content));
                } else if !content.is_empty() {
                    let message = exception.message.to_mut();
                    message.push('\n');
                    message.push_str(content);
                }
            }
        }
        done.extend(current);
        done.iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(done)
    }
}

/// `rates.SeasonClosed@source/rates.d(3): season high is closed`.
fn headline(content: &str) -> Option<(&str, &str)> {
    let (type_name, rest) = content.split_once('@')?;
    let is_name = !type_name.is_empty()
        && type_name
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '!' | '(' | ')'));
    let (place, message) = rest.split_once(')').filter(|_| is_name)?;
    let (file, line) = place.split_once('(')?;
    let is_place = ends_with_any(file, &[".d", ".di"]) || file.holds(".d-mixin");
    (is_place && line.bytes().all(|b| b.is_ascii_digit())).then(|| (type_name, message.trim_start_matches([':', ' '])))
}

/// `source/rates.d:4 int rates.perMetre(immutable(char)[]) [0x564c]`, `??:? _d_arraybounds
/// [0x7f96]`, `rates.d:4 [0x564c]`.
fn frame(content: &str) -> Option<Frame<'_>> {
    static LIBRARIES: Parts = Parts::new(|| {
        anywhere(&[
            "/usr/",
            "/opt/",
            "/include/d/",
            "/.dub/",
            "/phobos/",
            "/druntime/",
            "/dmd2/",
        ])
    });
    let content = content
        .strip_suffix(']')?
        .rsplit_at_mark(" [0x")
        .map(|(rest, _)| rest)
        .or_else(|| Some(content.split_at_mark("[0x")?.0))?;
    let (place, rest) = content.split_once(' ').unwrap_or((content, ""));
    let (file, line) = place.rsplit_once(':')?;
    let is_known = file != "??";
    // A signature: what stands before the first bracket of the arguments, from its last blank on.
    let name = rest.split('(').next().unwrap_or_default().trim();
    let name = name.rsplit(' ').next().unwrap_or_default();
    let (module, function) = name.rsplit_once('.').unwrap_or(("", name));
    let is_runtime = ["core.", "std.", "rt.", "object.", "etc.", "ldc.", "gcc."]
        .iter()
        .any(|begin| name.starts_with(begin))
        || ["core/", "std/", "rt/"].iter().any(|begin| file.starts_with(begin));
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(if is_known { file } else { "" }),
        line: line.parse().ok(),
        own: is_known && !is_runtime && !LIBRARIES.is_in(file),
        repeats: 0,
    })
}
