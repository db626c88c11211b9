//! What predicates name: attributes, and slices.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::query::{Field, Predicate};

use super::condition::Condition;
use crate::people::settings::ServiceSetting;

/// Whether a predicate asks for a slice.
#[must_use]
pub(crate) fn names_slice(predicate: &Predicate) -> bool {
    predicate.tests().iter().any(|test| test.field == Field::Slice)
}

/// The attributes chosen for instance groups or customers, each with the services it was chosen for.
pub(crate) fn chosen_attributes(
    settings: &HashMap<Option<i32>, ServiceSetting>,
    field: &Field,
) -> Vec<(String, Condition)> {
    let chosen = |setting: &ServiceSetting| {
        if *field == Field::Group {
            setting.instance_group.clone()
        } else {
            setting.customer.clone()
        }
    };
    let mut by_attribute: BTreeMap<String, Vec<i32>> = BTreeMap::new();
    for (service, setting) in settings {
        if let (Some(service), Some(name)) = (service, chosen(setting)) {
            by_attribute.entry(name).or_default().push(*service);
        }
    }
    let with_own: Vec<i32> = by_attribute.values().flatten().copied().collect();
    let of = |services: Vec<i32>| Condition::Numbers("o.service_id", services);
    let for_all = settings
        .get(&None)
        .and_then(chosen)
        .map(|name| (name, Condition::Not(Box::new(of(with_own)))));
    by_attribute
        .into_iter()
        .map(|(name, services)| (name, of(services)))
        .chain(for_all)
        .collect()
}
