//! Searching stack texts: the same answers as `str`'s own methods, several times faster on texts of
//! this size, since those prepare each search anew.

use std::sync::LazyLock;

use memchr::memmem::Finder;

/// What a runtime's texts hold somewhere, prepared once.
pub(super) struct Sign(LazyLock<Finder<'static>>);

impl Sign {
    pub(super) const fn new(finder: fn() -> Finder<'static>) -> Self {
        Self(LazyLock::new(finder))
    }

    pub(super) fn is_in(&self, text: &str) -> bool {
        self.find(text).is_some()
    }

    /// Where it stands first, in bytes.
    pub(super) fn find(&self, text: &str) -> Option<usize> {
        self.0.find(text.as_bytes())
    }
}

/// `sign!("text")`: the [`Sign`] of a text known here, prepared at its first use.
macro_rules! sign {
    ($text:expr) => {{
        static SIGN: $crate::stack::search::Sign =
            $crate::stack::search::Sign::new(|| memchr::memmem::Finder::new($text));
        &SIGN
    }};
}
pub(super) use sign;

/// The lines of a text, as [`str::lines`] has them.
pub(super) fn lines(text: &str) -> impl Iterator<Item = &str> {
    let mut rest = Some(text).filter(|text| !text.is_empty());
    std::iter::from_fn(move || {
        let all = rest?;
        let (line, after) = match memchr::memchr(b'\n', all.as_bytes()) {
            Some(at) => {
                let (line, after) = all.split_at(at);
                (
                    line.strip_suffix('\r').unwrap_or(line),
                    after.get(1..).filter(|after| !after.is_empty()),
                )
            }
            None => (all, None),
        };
        rest = after;
        Some(line)
    })
}

/// What follows the first `at ` that begins a line: how many runtimes write their frames.
pub(super) fn first_called(text: &str) -> Option<&str> {
    let mut from = 0;
    loop {
        let at = from + sign!("at ").find(text.get(from..)?)?;
        let before = text.get(..at)?.trim_end_matches([' ', '\t']);
        let rest = text.get(at + "at ".len()..)?;
        if before.is_empty() || before.ends_with('\n') {
            return lines(rest).next().or(Some(rest));
        }
        from = at + "at ".len();
    }
}

/// Searching short texts, such as lines.
pub(super) trait Search {
    /// As `split_once`, for a mark of several bytes.
    fn split_at_mark(&self, mark: &str) -> Option<(&str, &str)>;
    /// As `rsplit_once`.
    fn rsplit_at_mark(&self, mark: &str) -> Option<(&str, &str)>;
    /// As `find`.
    fn find_mark(&self, mark: &str) -> Option<usize>;
    /// As `contains`.
    fn holds(&self, mark: &str) -> bool {
        self.find_mark(mark).is_some()
    }
    /// What stands before the mark; all where there is none.
    fn before_mark(&self, mark: &str) -> &str;
}

impl Search for str {
    fn split_at_mark(&self, mark: &str) -> Option<(&str, &str)> {
        let at = self.find_mark(mark)?;
        Some((self.get(..at)?, self.get(at + mark.len()..)?))
    }

    fn rsplit_at_mark(&self, mark: &str) -> Option<(&str, &str)> {
        let at =
            memchr::memrchr_iter(*mark.as_bytes().first()?, self.as_bytes()).find(|at| stands_at(self, *at, mark))?;
        Some((self.get(..at)?, self.get(at + mark.len()..)?))
    }

    fn find_mark(&self, mark: &str) -> Option<usize> {
        memchr::memchr_iter(*mark.as_bytes().first()?, self.as_bytes()).find(|at| stands_at(self, *at, mark))
    }

    fn before_mark(&self, mark: &str) -> &str {
        self.find_mark(mark).and_then(|at| self.get(..at)).unwrap_or(self)
    }
}

fn stands_at(text: &str, at: usize, mark: &str) -> bool {
    text.as_bytes()
        .get(at..)
        .is_some_and(|rest| rest.starts_with(mark.as_bytes()))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn lines_are_those_of_the_standard_library(text in "(a|b|\r|\n|\u{e4}){0,12}") {
            prop_assert_eq!(lines(&text).collect::<Vec<_>>(), text.lines().collect::<Vec<_>>());
        }

        #[test]
        fn a_mark_splits_as_in_the_standard_library(text in "(:| |a|\u{e4}){0,12}") {
            prop_assert_eq!(text.split_at_mark(": "), text.split_once(": "));
            prop_assert_eq!(text.rsplit_at_mark(": "), text.rsplit_once(": "));
            prop_assert_eq!(Some(text.before_mark(": ")), text.split(": ").next());
        }

        #[test]
        fn the_first_called_is_that_of_the_lines(text in "(at |a| |\t|\r|\n|\u{e4}){0,12}") {
            let expected = text.lines().find_map(|line| line.trim_start_matches([' ', '\t']).strip_prefix("at "));
            prop_assert_eq!(first_called(&text), expected);
        }
    }
}
