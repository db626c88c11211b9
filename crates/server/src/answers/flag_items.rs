//! Flags as the API tells them, and which are charged to a deploy.

use outcrop_api::FlagItem;
use outcrop_core::deploy::FlagKind;
use outcrop_store::deploys::facts::Facts;
use outcrop_store::flags::Flag;
use outcrop_store::ids;

/// A deploy's own flags, without those of errors that follow from another service's, and with those of errors elsewhere
/// that follow from its own: an echo counts against the deploy that caused its origin.
pub(super) fn charged(facts: &Facts) -> Vec<FlagItem> {
    let mut items: Vec<FlagItem> = vec![];
    for flag in facts
        .flags
        .iter()
        .filter(|flag| flag.withdrawn_at.is_none() && !facts.followers.contains(&flag.error_id))
    {
        items.push(flag_item(flag));
        for (origin, echo) in facts
            .echoes
            .iter()
            .filter(|(origin, echo)| *origin == flag.error_id && echo.said_at >= flag.since)
        {
            let item = flag_item(echo);
            // An origin that is both new and surging has its echoes once.
            let is_told = |other: &FlagItem| {
                (&other.reference, &other.flag, other.said_at) == (&item.reference, &item.flag, item.said_at)
            };
            if !items.iter().any(is_told) {
                let evidence = format!("follows from {}: {}", ids::reference(*origin), item.evidence);
                items.push(FlagItem { evidence, ..item });
            }
        }
    }
    items
}

/// Each error once: a new or returned one surges too as soon as it occurs often, and is still one error.
pub(super) fn once_an_error(flags: Vec<FlagItem>) -> Vec<FlagItem> {
    let strength = |flag: &FlagItem| {
        ["surging", "returned", "new"]
            .iter()
            .position(|kind| *kind == flag.flag)
    };
    let mut kept: Vec<FlagItem> = vec![];
    for flag in flags {
        match kept
            .iter_mut()
            .find(|other| other.reference == flag.reference && other.environment == flag.environment)
        {
            Some(other) if strength(other) < strength(&flag) => *other = flag,
            Some(_) => {}
            None => kept.push(flag),
        }
    }
    kept
}

/// A flag with its evidence in words.
#[must_use]
pub fn flag_item(flag: &Flag) -> FlagItem {
    let minutes = ((flag.said_at - flag.since).num_minutes() + 1).max(1);
    let at_requests = flag
        .requests
        .filter(|n| *n > 0)
        .map(|n| format!(" at {n} requests"))
        .unwrap_or_default();
    let since = if flag.by_deploy {
        format!("; since {} {}", flag.service, flag.version)
    } else {
        String::new()
    };
    let evidence = match flag.kind {
        FlagKind::Surging => format!(
            "{} in {minutes} min{at_requests}; expected {:.1}{since}",
            flag.count, flag.expected
        ),
        FlagKind::Returned => format!("it was settled, and occurs in {} {}", flag.service, flag.version),
        FlagKind::New => format!(
            "never seen before in {}; first in {} {}",
            flag.environment, flag.service, flag.version
        ),
    };
    FlagItem {
        flag: flag.kind.word().to_owned(),
        reference: ids::reference(flag.error_id).to_string(),
        title: flag.title.clone(),
        service: flag.service.clone(),
        environment: flag.environment.clone(),
        version: flag.version.clone(),
        by_deploy: flag.by_deploy,
        since: flag.since,
        said_at: flag.said_at,
        ended_at: flag.ended_at,
        evidence,
        why: flag.why.clone().unwrap_or_default(),
        withdrawn_at: flag.withdrawn_at,
    }
}
