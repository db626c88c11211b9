//! What a service's telemetry lacks for good answers.

use crate::deploy::{Disturbed, Measured, Minute};
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
    /// Series of its metrics.
    Series,
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
    pub const ALL: [Self; 13] = [
        Self::Services,
        Self::Environments,
        Self::Versions,
        Self::Endpoints,
        Self::Errors,
        Self::Instances,
        Self::Called,
        Self::Templates,
        Self::Series,
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
            Self::Series => "series",
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
            Self::Environments => {
                "too many environments by one sender key: further ones are counted together".to_owned()
            }
            Self::Versions => "too many versions: further ones are counted together".to_owned(),
            Self::Endpoints => "too many endpoints: further ones are counted together".to_owned(),
            Self::Errors => {
                "too many errors: further ones are counted together, and no deploy check says clear".to_owned()
            }
            Self::Instances => "too many instances: further ones are counted together".to_owned(),
            Self::Called => "calls to too many places or statements: further ones are counted together".to_owned(),
            Self::Series => "too many series of metrics: further ones are not kept".to_owned(),
            Self::Templates => "too many kinds of log lines: further ones are counted together".to_owned(),
            Self::FailuresInFull => {
                format!("{count} failures counted without details: too many in one span or request")
            }
            Self::FailuresInTrace => {
                format!("{count} failures of crowded traces counted one by one: some may be counted twice")
            }
            Self::LogLines => format!("{count} log lines were not kept: log lines take all the room they may"),
            Self::Bodies => {
                format!("{count} occurrences were kept without their data in full: bodies take all the room they may")
            }
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
    /// Whether it sends metrics.
    pub has_metrics: bool,
    /// How its requests are sampled, where any came.
    pub sampling: Option<Sampling>,
    /// How far its clock was ahead when it last sent, in milliseconds; 0 for not.
    pub clock_ahead_ms: i64,
    /// Limits that it reached, and how many names or failures came past each.
    pub limits: &'a [(Limit, i64)],
    /// The times of these 24 hours in which its reports could not be taken as they were, with the
    /// environment where it has several.
    pub disturbed: &'a [(Option<String>, Disturbed)],
    /// The minute at which this is said.
    pub now: Minute,
}

/// Says what is missing and what cannot be answered without it; nothing where all is there.
///
/// # Example
/// ```
/// use outcrop_core::completeness::{Telemetry, missing};
/// let versions = ["2.4.0".to_owned()];
/// let environments = ["production".to_owned()];
/// let telemetry = Telemetry { versions: &versions, environments: &environments, requests: 9, occurrences: 2, has_metrics: true, clock_ahead_ms: 40_300, ..Telemetry::default() };
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
    if !telemetry.has_metrics {
        missing.push("no metrics: no memory or processor beside its failures".to_owned());
    }
    if let Some(sampling @ Sampling::Unknown(_)) = telemetry.sampling {
        missing.extend(sampling.note());
    }
    if telemetry.clock_ahead_ms > 0 {
        missing.push(format!(
            "clock {} s ahead: its times were moved back",
            (telemetry.clock_ahead_ms + 500) / 1_000
        ));
    }
    missing.extend(disturbed(telemetry.disturbed, telemetry.now));
    missing.extend(telemetry.limits.iter().map(|(limit, count)| limit.note(*count)));
    missing
}

/// What is said of disturbed reports: a line for each kind and environment, with how long it lasted in these 24 hours.
fn disturbed(times: &[(Option<String>, Disturbed)], now: Minute) -> Vec<String> {
    let mut said: Vec<(&Option<String>, String, Minute, bool)> = vec![];
    for (environment, of) in times {
        let (from, until) = (of.from.max(now - DAY), of.until.unwrap_or(now).min(now));
        if until <= from {
            continue;
        }
        let (what, is_on) = (words(of.measured), of.until.is_none());
        match said
            .iter_mut()
            .find(|(place, other, _, _)| *place == environment && *other == what)
        {
            Some((_, _, minutes, goes_on)) => (*minutes, *goes_on) = (*minutes + until - from, *goes_on || is_on),
            None => said.push((environment, what, until - from, is_on)),
        }
    }
    let is_worth_saying = |minutes: Minute, is_on: bool| minutes >= if is_on { SHORTEST_NOW } else { SHORTEST };
    let lines = said
        .into_iter()
        .filter(|(_, _, minutes, is_on)| is_worth_saying(*minutes, *is_on))
        .map(|(environment, what, minutes, is_on)| {
            let place = environment
                .as_ref()
                .map_or_else(String::new, |environment| format!("{environment}: "));
            let length = match minutes {
                2..120 => format!("{minutes} minutes"),
                _ => format!("{} hours", (minutes + 30) / 60),
            };
            let (what, therefore) = what.split_once(';').unwrap_or((&what, ""));
            let when = if is_on { "until now" } else { "of the last 24 hours" };
            format!("{place}{what} for {length} {when}:{therefore}")
        });
    lines.collect()
}

const DAY: Minute = 1_440;
/// Minutes of a day that reports must be disturbed for to be told of, and those of one that goes on.
const SHORTEST: Minute = 10;
const SHORTEST_NOW: Minute = 5;

/// What happened to reports, and what follows of it.
fn words(measured: Measured) -> String {
    let part = |times: f64| {
        if times < 1.0 {
            format!("about 1 in {:.0} requests counted", (1.0 / times).max(2.0))
        } else {
            format!("requests counted about {times:.1} times over")
        }
    };
    match measured {
        Measured::Missing => "no request counts; flags suppose as many requests as on the days before".to_owned(),
        Measured::Lumped => "request counts of several minutes in one; flags spread them over these minutes".to_owned(),
        Measured::Times(times) if (0.67..1.0).contains(&times) => {
            "a part of the requests not counted; flags allow for it, shares of requests do not".to_owned()
        }
        Measured::Times(times) => format!(
            "{}, by what its errors say; flags allow for it, shares of requests do not",
            part(times)
        ),
        Measured::Unsure(_) => {
            "request counts stepped, and its errors do not say whether traffic did; flags take the larger of both"
                .to_owned()
        }
        Measured::NoErrors => "no errors reported while requests were; nothing is known of errors then".to_owned(),
    }
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
                has_metrics: true,
                limits: &[(limit, 7)],
                ..Telemetry::default()
            });
            assert_eq!(said, [limit.note(7)]);
        }
    }

    #[test]
    fn a_service_that_sends_nothing_else_lacks_all_that_answers_rest_on() {
        let said = missing(&Telemetry {
            occurrences: 1,
            ..Telemetry::default()
        });
        let lacks: Vec<&str> = said.iter().filter_map(|line| line.split(':').next()).collect();
        assert_eq!(
            lacks,
            ["no version", "no environment", "no requests", "no user", "no metrics"]
        );
    }

    #[test]
    fn disturbed_reports_are_summed_by_kind_and_said_with_what_follows() {
        let of = |measured, from, until| (None, Disturbed { measured, from, until });
        let now = 10_000;
        let times = [
            of(Measured::Missing, now - 2_000, Some(now - 1_420)),
            of(Measured::Missing, now - 300, Some(now - 280)),
            of(Measured::Lumped, now - 200, Some(now - 191)),
            of(Measured::Unsure(2.0), now - 4, None),
            of(Measured::Times(0.1), now - 180, None),
            of(Measured::NoErrors, now - 1_500, Some(now - 1_445)),
        ];
        assert_eq!(
            disturbed(&times, now),
            [
                "no request counts for 40 minutes of the last 24 hours: flags suppose as many requests as on the days \
                 before",
                "about 1 in 10 requests counted, by what its errors say for 3 hours until now: flags allow for it, \
                 shares of requests do not",
            ]
        );
        let staging = [(
            Some("staging".to_owned()),
            Disturbed {
                measured: Measured::Lumped,
                from: now - 5,
                until: None,
            },
        )];
        assert_eq!(
            disturbed(&staging, now),
            [
                "staging: request counts of several minutes in one for 5 minutes until now: flags spread them over \
                 these minutes"
            ]
        );
    }
}
