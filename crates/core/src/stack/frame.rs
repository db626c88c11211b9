//! Stacks as they are read: exceptions, and their frames.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

/// A stack text read into exceptions and frames.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stack<'a> {
    /// The runtime whose text it is, as `process.runtime.name` calls it.
    pub runtime: Cow<'a, str>,
    /// The exception as it arrived at the top, then what it came from. Never empty.
    pub exceptions: Vec<Exception<'a>>,
}

/// One exception of a chain.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Exception<'a> {
    /// How it belongs to the one before it.
    pub relation: Relation,
    /// The type as the text states it; empty where it does not.
    #[serde(rename = "type")]
    pub type_name: Cow<'a, str>,
    /// The message as the text states it; may have several lines.
    pub message: Cow<'a, str>,
    /// Frames, the innermost (where it was thrown) first.
    pub frames: Vec<Frame<'a>>,
}

/// How an exception belongs to the one before it in [`Stack::exceptions`].
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Relation {
    /// The first of the chain.
    #[default]
    Thrown,
    /// It was the cause of the one before it.
    Cause,
    /// The one before it was thrown while this one was being handled.
    Handled,
    /// It is a member of the group before it.
    Member,
}

/// One frame.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Frame<'a> {
    /// The function as the text names it; empty where it has no name.
    pub function: Cow<'a, str>,
    /// The module, class or package, where the text tells it apart from the function.
    #[serde(default, skip_serializing_if = "str::is_empty")]
    pub module: Cow<'a, str>,
    /// The file as the text names it; empty where it does not.
    pub file: Cow<'a, str>,
    /// The line, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// Whether it is the service's own code.
    pub own: bool,
    /// How often this frame repeats in a row, beyond the first time.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub repeats: u32,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the signature serde asks for")]
pub(super) const fn is_zero(number: &u32) -> bool {
    *number == 0
}

/// Frames kept per exception: a deeper stack keeps its innermost and outermost halves.
pub const MAX_FRAMES: usize = 256;

/// Exceptions kept per stack; a chain or group has rarely more than five.
pub const MAX_EXCEPTIONS: usize = 32;

impl<'a> Stack<'a> {
    /// The exception as it was thrown last.
    #[must_use]
    pub fn top(&self) -> &Exception<'a> {
        &self.exceptions[0]
    }

    /// The innermost own frame: of the top exception if it has one, else of the nearest cause that has.
    #[must_use]
    pub fn own_frame(&self) -> Option<&Frame<'a>> {
        self.exceptions
            .iter()
            .find_map(|exception| exception.frames.iter().find(|frame| frame.own))
    }

    /// How many frames all exceptions have.
    #[must_use]
    pub fn frame_count(&self) -> usize {
        self.exceptions.iter().map(|exception| exception.frames.len()).sum()
    }

    /// Makes the stack independent of the text it was read from.
    #[must_use]
    pub fn into_owned(self) -> Stack<'static> {
        let own = |text: Cow<'_, str>| Cow::Owned(text.into_owned());
        Stack {
            runtime: own(self.runtime),
            exceptions: self
                .exceptions
                .into_iter()
                .map(|exception| Exception {
                    relation: exception.relation,
                    type_name: own(exception.type_name),
                    message: own(exception.message),
                    frames: exception
                        .frames
                        .into_iter()
                        .map(|frame| Frame {
                            function: own(frame.function),
                            module: own(frame.module),
                            file: own(frame.file),
                            line: frame.line,
                            own: frame.own,
                            repeats: frame.repeats,
                        })
                        .collect(),
                })
                .collect(),
        }
    }
}

impl Frame<'_> {
    /// The frame in one line: `tariff.quote app/tariff.py:88`.
    #[must_use]
    pub fn short(&self) -> String {
        let file = short_path(&self.file);
        let name = match (self.module.as_ref(), self.function.as_ref()) {
            ("", "") => "(anonymous)".to_owned(),
            ("", function) => function.to_owned(),
            (module, "") => module.to_owned(),
            (module, function) => format!("{module}.{function}"),
        };
        match (file, self.line) {
            ("", _) => name,
            (file, None) => format!("{name} {file}"),
            (file, Some(line)) => format!("{name} {file}:{line}"),
        }
    }
}

/// Whether a name ends with one of these endings, in this case.
pub(super) fn ends_with_any(name: &str, endings: &[&str]) -> bool {
    endings.iter().any(|ending| name.ends_with(ending))
}

/// The last two parts of a path: what a person needs to find the file.
#[must_use]
pub fn short_path(path: &str) -> &str {
    let mut separators = path.rmatch_indices(['/', '\\']).skip(1);
    separators
        .next()
        .and_then(|(at, _)| path.get(at + 1..))
        .unwrap_or_else(|| path.trim_start_matches('/'))
}

/// The last part of a path.
#[must_use]
pub fn base_name(path: &str) -> &str {
    memchr::memrchr2(b'/', b'\\', path.as_bytes())
        .and_then(|at| path.get(at + 1..))
        .unwrap_or(path)
}
