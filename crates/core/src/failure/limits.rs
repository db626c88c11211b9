//! When and how a request was received, and what holds for it.

use crate::telemetry::groups::InstanceGroups;
use crate::{Timestamp, scrub};

/// What a request's times are held against.
#[derive(Clone, Copy, Debug)]
pub struct Limits<'a> {
    /// When the request was received.
    pub received: Timestamp,
    /// The oldest event time that is still taken.
    pub oldest: Timestamp,
    /// How what is kept is scrubbed.
    pub scrubbing: &'a scrub::Scrubbing,
    /// Which attribute tells instance groups apart.
    pub groups: &'a InstanceGroups,
}
