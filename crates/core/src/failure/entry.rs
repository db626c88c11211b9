//! Spans with which a service begins to answer a request.

use std::sync::Arc;

use crate::Timestamp;
use crate::telemetry::{Attributes, Resource, facts};

/// A request or run to be counted.
#[derive(Clone, Debug, PartialEq)]
pub struct EntrySpan {
    /// Its endpoint.
    pub endpoint: String,
    /// When it began.
    pub at: Timestamp,
    /// Whether it failed: status ERROR, or an HTTP status of 500 and above.
    pub failed: bool,
    /// Its HTTP status code, if it has one.
    pub status: Option<u16>,
    /// How long it took, in microseconds.
    pub duration_us: u64,
    /// The instance group that served it, of a service that has groups.
    pub group: Option<String>,
    /// How many requests it counts for.
    pub weight: u32,
    /// Whether that is said by its sampling threshold.
    pub is_weighed: bool,
    /// What it said of itself, scrubbed, of a request that is kept by itself: failed, or answered 4xx.
    pub told: Option<Box<serde_json::Map<String, serde_json::Value>>>,
    /// What it said of itself, scrubbed, of one request in [`SAMPLED_ONE_IN`], evenly.
    pub sampled: Option<Box<Sampled>>,
}

/// What a sampled request said of itself.
#[derive(Clone, Debug, PartialEq)]
pub struct Sampled {
    /// Its sender's resource: shared, since a thousand requests may have one.
    pub resource: Arc<Resource>,
    /// Its own attributes.
    pub attributes: Attributes,
}

/// Longest value of a sampled request that is compared, and room for all of them, in bytes: what
/// distinguishes requests is short.
pub(super) const MAX_COMPARED_BYTES: usize = 256;

pub(super) const MAX_SAMPLED_BYTES: usize = 16_384;

impl Sampled {
    /// Both together, without what is too long to be compared; where a name is in both, the request's own value.
    #[must_use]
    pub fn to_json(&self) -> serde_json::Map<String, serde_json::Value> {
        let mut room = MAX_SAMPLED_BYTES;
        let mut told = serde_json::Map::new();
        for (name, value) in self.attributes.0.iter().chain(&self.resource.attributes.0) {
            let weight = name.len() + value.weight();
            if value.weight() <= MAX_COMPARED_BYTES && weight <= room && !told.contains_key(name) {
                room -= weight;
                told.insert(name.clone(), value.to_json());
            }
        }
        facts::settle(&mut told);
        told
    }
}
