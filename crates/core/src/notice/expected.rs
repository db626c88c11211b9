//! What is to have run by a time of the day.

use super::Hours;
use super::words::{clock, days};
use crate::Timestamp;

/// What is to have run by a time of the day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// The service, as pages name it.
    pub service: String,
    /// The endpoint or job; any of the service where there is none.
    pub endpoint: Option<String>,
    /// By which minute of which days: where the spell ends that begins a day before.
    pub by: Hours,
}

impl Expected {
    /// The times between two by which it is to have run, the earliest first.
    #[must_use]
    pub fn deadlines(&self, from: Timestamp, to: Timestamp) -> Vec<Timestamp> {
        self.by.beginnings(from, to)
    }

    pub(super) fn in_words(&self) -> String {
        let what = self
            .endpoint
            .as_ref()
            .map_or_else(|| self.service.clone(), |job| format!("{job} of {}", self.service));
        let spell = self.by.spell;
        let days = if spell.days == [true; 7] {
            String::new()
        } else {
            format!(" on {}", days(spell.days))
        };
        format!(
            "{what} has not run by {}{days} {}",
            clock(spell.from),
            self.by.zone.name()
        )
    }
}
