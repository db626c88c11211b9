//! Who can be told, and how they want to be.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::hours::clock;
use super::{Hours, Zone};
use crate::Timestamp;

/// How soon a member wants to be told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Pace {
    /// As it happens.
    #[default]
    AtOnce,
    /// Once a day, in a digest.
    Daily,
    /// Not at all.
    Nothing,
}

/// How a member wants to be told.
#[derive(Clone, Debug, PartialEq)]
pub struct Wishes {
    /// How soon, where nothing closer is said.
    pub pace: Pace,
    /// How soon of single services, by their names.
    pub of_services: BTreeMap<String, Pace>,
    /// How soon as one of a team, by its name.
    pub of_teams: BTreeMap<String, Pace>,
    /// Within which hours alone; what happens outside waits for them.
    pub hours: Option<Hours>,
    /// Whether uncaught errors do not wait for these hours.
    pub uncaught_at_any_hour: bool,
    /// Where the member's clock stands.
    pub zone: Zone,
    /// The minute of the day at which the digest is made, 0 to 1,439.
    pub digest_at: u16,
}

impl Default for Wishes {
    fn default() -> Self {
        Self {
            pace: Pace::AtOnce,
            of_services: BTreeMap::new(),
            of_teams: BTreeMap::new(),
            hours: None,
            uncaught_at_any_hour: false,
            zone: Zone::UTC,
            digest_at: 8 * 60,
        }
    }
}

impl Wishes {
    /// How soon a member wants to be told of a service, asked as one of a team or by themselves: what is
    /// said of the service counts before what is said of the team.
    #[must_use]
    pub fn pace_of(&self, service: &str, team: Option<&str>) -> Pace {
        let of_team = || team.and_then(|team| self.of_teams.get(team));
        self.of_services
            .get(service)
            .or_else(of_team)
            .copied()
            .unwrap_or(self.pace)
    }

    /// The last time at or before one at which a digest is made.
    #[must_use]
    pub fn digest_before(&self, at: Timestamp) -> Option<Timestamp> {
        let local = chrono::DateTime::from_timestamp_millis(at.millis())?.with_timezone(&self.zone);
        (0..=2)
            .filter_map(|ago| local.date_naive().checked_sub_days(chrono::Days::new(ago)))
            .filter_map(|day| clock(self.zone, day, self.digest_at))
            .find(|time| *time <= at)
    }
}

/// A member.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Member {
    /// Whether they look after the installation: told where nobody else is.
    pub is_admin: bool,
    /// The services that they may not read.
    pub closed: BTreeSet<String>,
    /// How they want to be told.
    pub wishes: Wishes,
}

/// Members by their addresses, and teams by their names with their members.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Directory {
    /// The members.
    pub members: BTreeMap<String, Member>,
    /// The teams.
    pub teams: BTreeMap<String, Vec<String>>,
}

impl Directory {
    /// Members that a name stands for, each with the team that they are told as one of.
    pub(super) fn named(&self, name: &str) -> Vec<(&str, Option<&str>)> {
        if let Some((email, _)) = self.members.get_key_value(name) {
            return vec![(email, None)];
        }
        let team = self.teams.iter().find(|(team, _)| team.eq_ignore_ascii_case(name));
        team.map_or_else(Vec::new, |(team, emails)| {
            emails
                .iter()
                .filter_map(|email| self.members.get_key_value(email))
                .map(|(email, _)| (email.as_str(), Some(team.as_str())))
                .collect()
        })
    }

    /// Whether a name stands for a member or a team.
    #[must_use]
    pub fn knows(&self, name: &str) -> bool {
        self.members.contains_key(name) || self.teams.keys().any(|team| team.eq_ignore_ascii_case(name))
    }

    pub(super) fn admins(&self) -> Vec<(&str, Option<&str>)> {
        let admins = self.members.iter().filter(|(_, member)| member.is_admin);
        admins.map(|(email, _)| (email.as_str(), None)).collect()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn time(text: &str) -> Timestamp {
        Timestamp::from_millis(chrono::DateTime::parse_from_rfc3339(text).unwrap().timestamp_millis())
    }

    #[rstest]
    #[case::later_today("2026-11-30T06:59:00Z", "2026-11-29T07:00:00Z")]
    #[case::at_that_minute("2026-11-30T07:00:00Z", "2026-11-30T07:00:00Z")]
    #[case::in_summer("2026-07-01T06:30:00Z", "2026-07-01T06:00:00Z")]
    fn a_digest_is_made_by_the_members_clock(#[case] at: &str, #[case] made: &str) {
        let wishes = Wishes {
            zone: "Europe/Oslo".parse().unwrap(),
            ..Wishes::default()
        };
        assert_eq!(wishes.digest_before(time(at)), Some(time(made)));
    }

    #[test]
    fn what_is_said_of_a_service_counts_before_what_is_said_of_a_team() {
        let wishes = Wishes {
            pace: Pace::Daily,
            of_services: [("fares".to_owned(), Pace::AtOnce)].into(),
            of_teams: [("tariff desk".to_owned(), Pace::Nothing)].into(),
            ..Wishes::default()
        };
        assert_eq!(wishes.pace_of("fares", Some("tariff desk")), Pace::AtOnce);
        assert_eq!(wishes.pace_of("gangway", Some("tariff desk")), Pace::Nothing);
        assert_eq!(wishes.pace_of("gangway", Some("deck team")), Pace::Daily);
        assert_eq!(wishes.pace_of("gangway", None), Pace::Daily);
    }
}
