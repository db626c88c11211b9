//! The order of a service's versions in one environment.

use std::cmp::Ordering;
use std::collections::HashMap;

use crate::query::dotted_order;

/// Versions in the order in which they were first deployed or seen.
#[derive(Clone, Debug, Default)]
pub struct VersionOrder {
    places: HashMap<String, usize>,
    labels: Vec<String>,
}

impl VersionOrder {
    /// Notes a version; returns its number.
    pub fn see(&mut self, version: &str) -> u32 {
        let next = self.places.len();
        let place = *self.places.entry(version.to_owned()).or_insert_with(|| {
            self.labels.push(version.to_owned());
            next
        });
        u32::try_from(place).unwrap_or(u32::MAX)
    }

    /// The label of a version's number.
    #[must_use]
    pub fn label(&self, number: u32) -> &str {
        self.labels.get(number as usize).map_or("", String::as_str)
    }

    /// Whether a seen version is, or came after, another that may never have been seen: then dotted numbers tell.
    #[must_use]
    pub fn is_from_on(&self, version: u32, other: &str) -> bool {
        match self.places.get(other) {
            Some(place) => version as usize >= *place,
            None => {
                is_dotted(other)
                    && is_dotted(self.label(version))
                    && dotted_order(self.label(version), other) != Ordering::Less
            }
        }
    }
}

fn is_dotted(version: &str) -> bool {
    version.contains('.') && version.chars().all(|c| c.is_ascii_digit() || c == '.')
}
