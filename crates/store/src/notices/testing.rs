//! Events and rules for tests.

use chrono::{DateTime, Utc};
use outcrop_core::notice::{Event, EventKind, Rule, Target};

use super::events::NewEvent;
use crate::from_utc;

/// An event of fares in production, which is of no stored service.
pub(super) fn event(key: &str, kind: EventKind, at: DateTime<Utc>) -> NewEvent {
    NewEvent {
        key: key.to_owned(),
        service_id: None,
        environment_id: None,
        error_id: None,
        is_late: false,
        event: Event {
            version: "2.4.0".to_owned(),
            title: key.to_owned(),
            ..Event::of("fares", "production", kind, from_utc(at))
        },
    }
}

/// A rule that tells one way.
pub(super) fn rule(id: i32, when: &[EventKind], way: &str) -> Rule {
    Rule {
        id,
        name: format!("rule {id}"),
        when: when.to_vec(),
        environment: None,
        predicate: None,
        measure: None,
        metric: None,
        expected: None,
        tell: vec![Target::Owner],
        otherwise: None,
        by: vec![way.to_owned()],
        at_most: None,
        quiet: None,
        pass_on: None,
    }
}
