//! Racket: an error with its context, and with errortrace where that is used.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame};

pub(super) struct Racket;

impl Dialect for Racket {
    fn runtime(&self) -> &'static str {
        "racket"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        let context = sign!("\n  context...:").find(text);
        let traced = sign!("\n  errortrace...:").find(text);
        // The expressions of errortrace say the same as the functions around them, only nearer.
        let head = text.get(..traced.into_iter().chain(context).min()?)?;
        let mut exception = Exception {
            message: Cow::Borrowed(head.trim()),
            ..Exception::default()
        };
        for line in lines(text.get(context.or(traced)?..)?) {
            if let Some(frame) = frame(line.trim()) {
                exception.frames.push(frame);
            } else if let (Some(count), Some(last)) = (repeated(line.trim()), exception.frames.last_mut()) {
                last.repeats = last.repeats.saturating_add(count);
            }
        }
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `/srv/fares/rates.rkt:6:0: per-metre`, `body of "/srv/fares/main.rkt"`, `.../private/map.rkt:40:19: loop`.
fn frame(content: &str) -> Option<Frame<'_>> {
    static LIBRARIES: Parts =
        Parts::new(|| anywhere(&["/racket/collects/", "/collects/", "/share/racket/", "/pkgs/", ".../"]));
    if let Some(file) = content.strip_prefix("body of ") {
        let file = file.trim_matches('"');
        let own = !LIBRARIES.is_in(file);
        return Some(Frame {
            function: Cow::Borrowed("body"),
            file: Cow::Borrowed(file),
            own,
            ..Frame::default()
        });
    }
    let (place, function) = content.split_at_mark(": ")?;
    let mut parts = place.rsplitn(3, ':');
    let (_column, line, file) = (
        parts.next()?.parse::<u32>().ok()?,
        parts.next()?.parse().ok()?,
        parts.next()?,
    );
    // An expression of errortrace: the operation at its head.
    let function = match function.strip_prefix('(') {
        Some(expression) => expression.split([' ', ')']).next().unwrap_or_default(),
        None => function.trim_matches(['[', ']']),
    };
    let is_unnamed = function.holds(":") || function.holds("...");
    let own = !LIBRARIES.is_in(file) && !file.starts_with("...");
    let function = if is_unnamed { "" } else { function };
    Some(Frame {
        function: Cow::Borrowed(function),
        file: Cow::Borrowed(file),
        line: Some(line),
        own,
        ..Frame::default()
    })
}

/// `[repeats 40 more times]`.
fn repeated(content: &str) -> Option<u32> {
    content.strip_prefix("[repeats ")?.split(' ').next()?.parse().ok()
}
