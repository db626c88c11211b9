//! Close-ups: the next occurrences of an error, or that a predicate holds for, kept in full.

use std::fmt::Write as _;
use std::time::Duration;

/// Most occurrences of one close-up: more than a person reads in full.
pub const MOST: u32 = 100;
/// Longest time of one close-up: what is asked for on call is of use for days, not for weeks.
pub const LONGEST: Duration = Duration::from_hours(7 * 24);
/// Close-ups under way at once: each is looked for every two seconds.
pub const MOST_OPEN: u32 = 20;

/// Where a close-up stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It takes what comes.
    Open,
    /// All that was wanted is kept.
    Complete,
    /// Its time ended.
    Over,
    /// Somebody ended it.
    Ended,
}

impl State {
    /// Its word, in the API and in the database.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Complete => "complete",
            Self::Over => "over",
            Self::Ended => "ended",
        }
    }

    /// The state of a word; one that a later release made is an end.
    #[must_use]
    pub fn of(word: &str) -> Self {
        match word {
            "open" => Self::Open,
            "complete" => Self::Complete,
            "over" => Self::Over,
            _ => Self::Ended,
        }
    }
}

/// What a close-up has come to, as a sentence: `2 of 5 kept; 3 left, until 18:00`. `until` and `ended` are times as their
/// reader writes them, `by` who ended it.
#[must_use]
pub fn said(state: State, (taken, wanted): (u32, u32), until: &str, ended: Option<(&str, &str)>) -> String {
    let mut said = format!("{taken} of {wanted} kept");
    let _ = match (state, ended) {
        (State::Open, _) => write!(said, "; {} left, until {until}", wanted.saturating_sub(taken)),
        (State::Complete, _) => Ok(()),
        (State::Over, _) => write!(said, "; its time ended at {until}"),
        (State::Ended, Some((at, by))) => write!(said, "; ended by {by} at {at}"),
        (State::Ended, None) => write!(said, "; ended"),
    };
    said
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(State::Open, (2, 5), "2 of 5 kept; 3 left, until 18:00")]
    #[case(State::Open, (6, 5), "6 of 5 kept; 0 left, until 18:00")]
    #[case(State::Complete, (5, 5), "5 of 5 kept")]
    #[case(State::Over, (0, 5), "0 of 5 kept; its time ended at 18:00")]
    #[case(State::Ended, (1, 5), "1 of 5 kept; ended by mate at 17:00")]
    fn what_is_left_is_said(#[case] state: State, #[case] counts: (u32, u32), #[case] wanted: &str) {
        assert_eq!(said(state, counts, "18:00", Some(("17:00", "mate"))), wanted);
        assert_eq!(State::of(state.word()), state);
    }
}
