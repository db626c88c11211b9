//! Lists of what library code looks like, searched all at once: the time does not grow with the list.

use std::borrow::Cow;
use std::sync::LazyLock;

use aho_corasick::{AhoCorasick, Anchored, Input, StartKind};

/// Parts of a path, each with its separators, any of which makes it a library's.
pub(super) struct Parts(LazyLock<AhoCorasick>);

/// Beginnings of a name.
pub(super) struct Beginnings(LazyLock<AhoCorasick>);

impl Parts {
    pub(super) const fn new(automaton: fn() -> AhoCorasick) -> Self {
        Self(LazyLock::new(automaton))
    }

    /// Whether a path, of Unix or Windows, has one of the parts.
    pub(super) fn is_in(&self, path: &str) -> bool {
        let unix = if path.contains('\\') {
            Cow::Owned(path.replace('\\', "/"))
        } else {
            Cow::Borrowed(path)
        };
        self.0.is_match(unix.as_ref())
    }
}

impl Beginnings {
    pub(super) const fn new(automaton: fn() -> AhoCorasick) -> Self {
        Self(LazyLock::new(automaton))
    }

    /// Whether a name begins with one of them.
    pub(super) fn begin(&self, name: &str) -> bool {
        self.0.is_match(Input::new(name).anchored(Anchored::Yes))
    }
}

pub(super) fn anywhere(list: &[&str]) -> AhoCorasick {
    AhoCorasick::new(list).expect("a list in the source is small")
}

pub(super) fn at_the_start(list: &[&str]) -> AhoCorasick {
    AhoCorasick::builder()
        .start_kind(StartKind::Anchored)
        .build(list)
        .expect("a list in the source is small")
}
