//! Which instances of a service belong together: a canary, a region, a customer's own.

use std::collections::BTreeMap;

use crate::telemetry::names::MAX_NAME_BYTES;
use crate::telemetry::{Attributes, Value};

/// The attribute that tells instance groups apart, by service.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct InstanceGroups {
    /// Of services without a word of their own.
    pub for_all: Option<String>,
    /// Of these services.
    pub by_service: BTreeMap<String, String>,
}

/// No service has groups.
pub static NO_GROUPS: InstanceGroups = InstanceGroups {
    for_all: None,
    by_service: BTreeMap::new(),
};

impl InstanceGroups {
    /// The group that a request belongs to, by its resource, else by its span; `None` where the
    /// service has none, or the attribute is not there.
    #[must_use]
    pub fn of(&self, service: &str, resource: &Attributes, span: &Attributes) -> Option<String> {
        let attribute = self.by_service.get(service).or(self.for_all.as_ref())?;
        let value = resource
            .get(attribute)
            .or_else(|| span.get(attribute))
            .filter(|value| !matches!(value, Value::Empty))?;
        Some(crate::text::prefix(&value.to_text(), MAX_NAME_BYTES).to_owned())
    }
}
