//! Times in which request counts could not be taken as they were.

use crate::deploy::event::Minute;

/// Disturbed times that are remembered of a service in an environment, at most.
pub(super) const MOST_DISTURBED: usize = 64;

/// How the requests of a service were measured for a time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Measured {
    /// They were not reported.
    Missing,
    /// Their reports came together for several minutes.
    Lumped,
    /// So many times as many were reported as there were, by what the errors say.
    Times(f64),
    /// So many times as many were reported as before, and it is not known whether traffic changed or how it is counted.
    Unsure(f64),
    /// No error was reported, while requests were.
    NoErrors,
}

/// A time in which what a service reports cannot be taken as it is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Disturbed {
    /// What is to be known of it.
    pub measured: Measured,
    /// Its first minute.
    pub from: Minute,
    /// The minute in which it ended; none while it goes on.
    pub until: Option<Minute>,
}
