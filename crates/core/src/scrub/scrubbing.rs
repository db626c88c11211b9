//! How what comes in is scrubbed: what is built in, and what people say.

use std::collections::BTreeMap;

use crate::scrub::{Addresses, Rule, Rules, Scrubber};

/// Nothing but what is built in, with addresses hidden under a key that everybody knows: for tests and dry runs.
pub static BUILT_IN: Scrubbing = Scrubbing::built_in();

/// How what comes in is scrubbed: the built-in names and shapes, e-mail addresses, and people's rules.
#[derive(Clone, Debug, Default)]
pub struct Scrubbing {
    /// Whose e-mail addresses are kept.
    pub addresses: Addresses,
    pub(super) for_all: Rules,
    pub(super) by_service: BTreeMap<String, Rules>,
}

impl Scrubbing {
    pub(super) const fn built_in() -> Self {
        Self {
            addresses: super::HIDDEN,
            for_all: Rules::none(),
            by_service: BTreeMap::new(),
        }
    }

    /// Puts together what people say: each rule with the service it is for, `None` for all.
    #[must_use]
    pub fn new(addresses: Addresses, rules: impl IntoIterator<Item = (Option<String>, Rule)>) -> Self {
        let mut made = Self {
            addresses,
            ..Self::default()
        };
        let (for_all, own): (Vec<_>, Vec<_>) = rules.into_iter().partition(|(service, _)| service.is_none());
        made.for_all = Rules(for_all.into_iter().map(|(_, rule)| rule).collect());
        for (service, rule) in own.into_iter().filter_map(|(service, rule)| Some((service?, rule))) {
            made.by_service
                .entry(service)
                .or_insert_with(|| made.for_all.clone())
                .0
                .push(rule);
        }
        made
    }

    /// How a service's records are scrubbed.
    #[must_use]
    pub fn of(&self, service: &str) -> Scrubber<'_> {
        let rules = self.by_service.get(service).unwrap_or(&self.for_all);
        Scrubber::new(rules, self.addresses.hides(service).then_some(&self.addresses))
    }
}
