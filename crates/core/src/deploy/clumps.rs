//! How an error's occurrences come: one by one, or in clumps.

/// How the occurrences of an error come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Clumps {
    /// By themselves.
    None,
    /// Rarely, some at once: incidents are counted.
    Incidents,
    /// In bursts, as of a job: bursts are held against bursts.
    Bursts,
}
