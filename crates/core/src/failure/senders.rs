//! Who sent the records of a request.

use std::collections::HashMap;
use std::sync::Arc;

use super::clock::Clocks;
use crate::telemetry::names::Identity;
use crate::telemetry::{Resource, names, tidy};
use crate::{Digest, scrub};

/// Who sent it, with the resource cleaned once.
pub(super) struct Sender {
    pub(super) identity: Arc<Identity>,
    pub(super) instance: Digest,
    pub(super) resource: Arc<Resource>,
}

#[derive(Default)]
pub(super) struct Senders(HashMap<*const Resource, Arc<Sender>>);

impl Senders {
    pub(super) fn of(&mut self, resource: &Arc<Resource>, scrubbing: &scrub::Scrubbing) -> Arc<Sender> {
        let sender = self.0.entry(Arc::as_ptr(resource)).or_insert_with(|| {
            let mut clean = Resource::clone(resource);
            tidy::resource(&mut clean);
            let service = names::identity(&clean).service;
            scrubbing.of(&service).resource(&mut clean);
            let identity = names::identity(&clean);
            let instance = Digest::of([identity.namespace.as_str(), &identity.service, &names::instance(&clean)]);
            Arc::new(Sender {
                identity: Arc::new(identity),
                instance,
                resource: Arc::new(clean),
            })
        });
        sender.clone()
    }

    /// The clocks that are ahead, and of whom.
    pub(super) fn ahead(&self, clocks: &Clocks) -> Vec<(Arc<Identity>, i64)> {
        let of_each = self
            .0
            .values()
            .map(|sender| (sender.identity.clone(), clocks.of(sender.instance).ahead_ms));
        of_each.filter(|(_, ahead_ms)| *ahead_ms > 0).collect()
    }
}
