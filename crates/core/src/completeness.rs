//! What a service's telemetry lacks for good answers.

use crate::telemetry::names::{NO_ENVIRONMENT, NO_VERSION};
use crate::telemetry::sampling::Sampling;

/// What is known of a service's telemetry of the last 24 hours.
#[derive(Clone, Debug, Default)]
pub struct Telemetry<'a> {
    /// Its versions.
    pub versions: &'a [String],
    /// Its environments.
    pub environments: &'a [String],
    /// Requests.
    pub requests: i64,
    /// Occurrences.
    pub occurrences: i64,
    /// Whether any occurrence names a user.
    pub has_users: bool,
    /// How its requests are sampled, where any came.
    pub sampling: Option<Sampling>,
    /// How far its clock was ahead when it last sent, in milliseconds; 0 for not.
    pub clock_ahead_ms: i64,
}

/// Says what is missing and what cannot be answered without it; nothing where all is there.
///
/// # Example
/// ```
/// use outcrop_core::completeness::{Telemetry, missing};
/// let versions = ["2.4.0".to_owned()];
/// let environments = ["production".to_owned()];
/// let telemetry = Telemetry { versions: &versions, environments: &environments, requests: 9, occurrences: 2, clock_ahead_ms: 40_300, ..Telemetry::default() };
/// assert_eq!(missing(&telemetry), ["no user: no user counts", "clock 40 s ahead: its times were moved back"]);
/// ```
#[must_use]
pub fn missing(telemetry: &Telemetry<'_>) -> Vec<String> {
    let lacks = |names: &[String], none: &str| names.iter().all(|name| name == none);
    let mut missing = vec![];
    if lacks(telemetry.versions, NO_VERSION) {
        missing.push("no version: no deploy answers".to_owned());
    }
    if lacks(telemetry.environments, NO_ENVIRONMENT) {
        missing.push("no environment: all its environments are one".to_owned());
    }
    if telemetry.requests == 0 {
        missing.push("no requests: no share of requests, no traffic".to_owned());
    }
    if telemetry.occurrences > 0 && !telemetry.has_users {
        missing.push("no user: no user counts".to_owned());
    }
    if let Some(sampling @ Sampling::Unknown(_)) = telemetry.sampling {
        missing.extend(sampling.note());
    }
    if telemetry.clock_ahead_ms > 0 {
        missing.push(format!("clock {} s ahead: its times were moved back", (telemetry.clock_ahead_ms + 500) / 1_000));
    }
    missing
}
