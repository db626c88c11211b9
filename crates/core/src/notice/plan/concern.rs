//! Whom an event concerns.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::notice::{Directory, Event, Pace, Rule, Target};

/// Of an event, what says whom it concerns.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Concern {
    pub(super) service: String,
    owner: Option<String>,
    taken_by: Option<String>,
    deployed_by: Option<String>,
}

impl Concern {
    pub(super) fn of(event: &Event) -> Self {
        Self {
            service: event.service.clone(),
            owner: event.owner.clone(),
            taken_by: event.taken_by.clone(),
            deployed_by: event.deployed_by.clone(),
        }
    }

    fn name<'a>(&'a self, target: &'a Target) -> Option<&'a str> {
        match target {
            Target::Owner => self.owner.as_deref(),
            Target::Taker => self.taken_by.as_deref(),
            Target::Deployer => self.deployed_by.as_deref(),
            Target::Named(name) => Some(name),
        }
    }
}

/// The members that targets stand for, or who stands in where they are nobody: those who may read the
/// service and want to be told at once.
pub(super) fn told(rule: &Rule, targets: &[Target], concern: &Concern, directory: &Directory) -> Vec<String> {
    let named = targets.iter().filter_map(|target| concern.name(target));
    let mut people: Vec<(&str, Option<&str>)> = named.flat_map(|name| directory.named(name)).collect();
    if people.is_empty() {
        people = match &rule.otherwise {
            Some(name) => directory.named(name),
            None => concern
                .owner
                .as_deref()
                .map(|owner| directory.named(owner))
                .unwrap_or_default(),
        };
    }
    if people.is_empty() {
        people = directory.admins();
    }
    let wants = |(email, team): &(&str, Option<&str>)| {
        let member = directory.members.get(*email);
        member.is_some_and(|member| {
            !member.closed.contains(&concern.service) && member.wishes.pace_of(&concern.service, *team) == Pace::AtOnce
        })
    };
    let wanted: BTreeSet<String> = people
        .iter()
        .filter(|person| wants(person))
        .map(|(email, _)| (*email).to_owned())
        .collect();
    wanted.into_iter().collect()
}
