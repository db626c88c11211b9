//! Who sent the records of a request.

use std::collections::HashMap;
use std::sync::Arc;

use crate::telemetry::names::{self, Identity};
use crate::telemetry::{Resource, tidy};
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
            tidy::attributes(&mut clean.attributes);
            let service = names::identity(&clean).service;
            scrubbing.of(&service).resource(&mut clean);
            let identity = names::identity(&clean);
            let instance = Digest::of([identity.namespace.as_str(), &identity.service, &names::instance(&clean)]);
            Arc::new(Sender { identity: Arc::new(identity), instance, resource: Arc::new(clean) })
        });
        sender.clone()
    }
}
