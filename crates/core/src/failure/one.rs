//! One failure: what is reported of it, and which report stands for it.

use serde::{Deserialize, Serialize};

use crate::failure::report::OccurrenceId;

/// One failure, with what all its reports together say.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    /// The report that stands for it: it decides type, message and group.
    pub occurrence: OccurrenceId,
    /// All its reports, that one among them, sorted.
    pub reports: Vec<OccurrenceId>,
    /// Whether the exception ended the request, job or process.
    pub uncaught: bool,
    /// The highest severity any report gives.
    pub severity: i16,
    /// Hash of the user; 0 where no report names one.
    pub user: u64,
    /// The number of the endpoint of the request it happened in.
    pub endpoint: Option<u32>,
}

impl Failure {
    /// Whether both say the same of the occurrence, whatever reports they rest on.
    #[must_use]
    pub fn says_the_same(&self, other: &Self) -> bool {
        (self.occurrence, self.uncaught, self.severity, self.user, self.endpoint)
            == (
                other.occurrence,
                other.uncaught,
                other.severity,
                other.user,
                other.endpoint,
            )
    }
}
