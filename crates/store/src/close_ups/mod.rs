//! Close-ups: the next occurrences of an error, or that a predicate holds for, kept in full.
//!
//! While one is under way no writer samples the exact data of what it may take ([`Watched`]); [`look`] takes what
//! matches, at one place for all instances.

mod ask;
mod look;
mod read;

pub use ask::{Asking, NewCloseUp, ask, end};
pub use look::{Done, look, told, untold, watched};
pub use read::{CloseUp, Taken, list, one, taken};

/// What close-ups under way may take.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Watched {
    /// All services: one looks for what a predicate holds for.
    pub all: bool,
    /// The services of the errors that are looked at.
    pub services: std::collections::BTreeSet<i32>,
}

impl Watched {
    /// Whether what a service sends may be taken.
    #[must_use]
    pub fn has(&self, service: i32) -> bool {
        self.all || self.services.contains(&service)
    }
}

#[cfg(test)]
mod tests;
