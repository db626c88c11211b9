//! What a service's telemetry lacks for good answers.

use crate::telemetry::names::{NO_ENVIRONMENT, NO_VERSION};
use crate::telemetry::sampling::Sampling;

/// A limit that a service's telemetry may reach. Past it nothing is lost: it is counted together, or without details.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Limit {
    /// Services of one sender key.
    Services,
    /// Environments of one sender key.
    Environments,
    /// Versions of the service.
    Versions,
    /// Endpoints of the service.
    Endpoints,
    /// Errors of the service.
    Errors,
    /// Instances of the service.
    Instances,
    /// Places and statements that the service calls.
    Called,
    /// Templates of its log lines.
    Templates,
    /// Failures of one span, or one request of the sender, told in full.
    FailuresInFull,
    /// Failures compared in one trace.
    FailuresInTrace,
    /// Room for log lines.
    LogLines,
    /// Room for bodies of occurrences.
    Bodies,
}

impl Limit {
    /// All limits, in the order in which they are said.
    pub const ALL: [Self; 12] = [
        Self::Services,
        Self::Environments,
        Self::Versions,
        Self::Endpoints,
        Self::Errors,
        Self::Instances,
        Self::Called,
        Self::Templates,
        Self::FailuresInFull,
        Self::FailuresInTrace,
        Self::LogLines,
        Self::Bodies,
    ];

    /// The name under which it is stored.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Services => "services",
            Self::Environments => "environments",
            Self::Versions => "versions",
            Self::Endpoints => "endpoints",
            Self::Errors => "errors",
            Self::Instances => "instances",
            Self::Called => "called",
            Self::Templates => "templates",
            Self::FailuresInFull => "failures in full",
            Self::FailuresInTrace => "failures in trace",
            Self::LogLines => "log lines",
            Self::Bodies => "bodies",
        }
    }

    /// Reads [`Self::name`].
    #[must_use]
    pub fn of_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|limit| limit.name() == name)
    }

    fn note(self, count: i64) -> String {
        match self {
            Self::Services => "too many services by one sender key: further ones are counted together".to_owned(),
            Self::Environments => "too many environments by one sender key: further ones are counted together".to_owned(),
            Self::Versions => "too many versions: further ones are counted together".to_owned(),
            Self::Endpoints => "too many endpoints: further ones are counted together".to_owned(),
            Self::Errors => "too many errors: further ones are counted together, and no deploy check says clear".to_owned(),
            Self::Instances => "too many instances: further ones are counted together".to_owned(),
            Self::Called => "calls to too many places or statements: further ones are counted together".to_owned(),
            Self::Templates => "too many kinds of log lines: further ones are counted together".to_owned(),
            Self::FailuresInFull => format!("{count} failures counted without details: too many in one span or request"),
            Self::FailuresInTrace => format!("{count} failures of crowded traces counted one by one: some may be counted twice"),
            Self::LogLines => format!("{count} log lines were not kept: log lines take all the room they may"),
            Self::Bodies => format!("{count} occurrences were kept without their data in full: bodies take all the room they may"),
        }
    }
}

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
    /// Limits that it reached, and how many names or failures came past each.
    pub limits: &'a [(Limit, i64)],
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
    missing.extend(telemetry.limits.iter().map(|(limit, count)| limit.note(*count)));
    missing
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_that_was_reached_is_said_and_keeps_its_name() {
        for limit in Limit::ALL {
            assert_eq!(Limit::of_name(limit.name()), Some(limit));
            let versions = ["2.4.0".to_owned()];
            let environments = ["production".to_owned()];
            let said = missing(&Telemetry {
                versions: &versions,
                environments: &environments,
                requests: 9,
                limits: &[(limit, 7)],
                ..Telemetry::default()
            });
            assert_eq!(said, [limit.note(7)]);
        }
    }
}
