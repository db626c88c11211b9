//! A batch with its names resolved and its repeated parts interned.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use outcrop_core::failure::{OccurrenceId, Report, SeenSpan};
use outcrop_core::telemetry::Resource;
use outcrop_core::telemetry::names::Identity;
use outcrop_core::{Digest, Timestamp};

use super::Submission;
use crate::writing::dictionary::causes::{CauseKey, Naming, other_key};
use crate::writing::dictionary::interned::ToIntern;
use crate::writing::dictionary::names::{Numbers, SenderIds, Wanted, name_hash};
use crate::writing::limits::Reached;

/// Senders and their endpoints in a batch: every identity that anything in it names.
pub(super) fn names(batch: &[Submission]) -> Wanted<'_> {
    let mut names = Wanted::new();
    for submission in batch {
        let found = &submission.found;
        let mut seen: HashSet<*const Identity> = HashSet::new();
        for identity in found.identities().filter(|identity| seen.insert(Arc::as_ptr(identity))) {
            names
                .entry(&**identity)
                .or_insert_with(|| (submission.key, BTreeSet::new()));
        }
        for span in &found.spans {
            if let (Some(entry), Some((_, endpoints))) = (&span.entry, names.get_mut(&*span.identity)) {
                endpoints.insert(entry.endpoint.as_str());
            }
        }
    }
    names
}

/// Grouping keys in a batch.
pub(super) fn causes<'a>(batch: &'a [Submission], numbers: &Numbers) -> BTreeMap<CauseKey, Naming<'a>> {
    let found = || batch.iter().map(|submission| &submission.found);
    let reports = found()
        .flat_map(|found| &found.reports)
        .filter(|report| report.dropped_by.is_none())
        .map(|report| {
            let sender = numbers.senders[&*report.identity];
            (
                (sender.service, report.grouping.key),
                Naming::of(report, sender.version),
            )
        });
    let counted = found()
        .flat_map(|found| &found.counted_only)
        .filter(|counted| counted.like.is_none());
    let others = counted.map(|counted| {
        (
            (numbers.senders[&*counted.identity].service, other_key()),
            Naming::other(),
        )
    });
    reports.chain(others).collect()
}

/// A report with the numbers of its names.
#[derive(Clone, Copy)]
pub(super) struct Numbered<'a> {
    pub report: &'a Report,
    pub sender: SenderIds,
    pub cause: i64,
    pub resource: Digest,
    pub stack: Option<Digest>,
    pub received: Timestamp,
    pub clock_ahead_ms: i64,
}

/// A batch, ready for its transaction.
pub(super) struct Prepared<'a> {
    pub submissions: &'a [Submission],
    numbers: Numbers,
    /// Reports by id; of a report sent twice in one batch, one stays.
    pub reports: HashMap<OccurrenceId, Numbered<'a>>,
    resources: BTreeMap<Digest, Arc<Resource>>,
    /// Hashes of resources by the address of each, which the submissions keep.
    hashed: HashMap<usize, Digest>,
    templates: BTreeMap<Digest, String>,
    stacks: BTreeMap<Digest, Vec<u8>>,
    /// Causes of the services' other errors, where failures are counted under them.
    others: HashMap<i32, i64>,
    /// Limits reached.
    pub reached: Reached,
}

impl<'a> Prepared<'a> {
    pub(super) fn new(submissions: &'a [Submission], mut numbers: Numbers, causes: &HashMap<CauseKey, i64>) -> Self {
        let others = causes
            .iter()
            .filter(|((_, key), _)| *key == other_key())
            .map(|((service, _), cause)| (*service, *cause));
        let mut prepared = Self {
            submissions,
            others: others.collect(),
            reached: std::mem::take(&mut numbers.reached),
            numbers,
            reports: HashMap::new(),
            resources: BTreeMap::new(),
            hashed: HashMap::new(),
            templates: BTreeMap::new(),
            stacks: BTreeMap::new(),
        };
        for submission in submissions {
            for line in &submission.found.lines {
                prepared.add_resource(&line.resource);
            }
            for report in &submission.found.reports {
                let sender = prepared.numbers.senders[&*report.identity];
                let resource = prepared.add_resource(&report.resource);
                let stack = report
                    .stack
                    .as_ref()
                    .filter(|_| report.dropped_by.is_none())
                    .map(|stack| {
                        let bytes = serde_json::to_vec(&**stack).expect("a stack of plain values always encodes");
                        let hash = Digest::of_bytes(&bytes);
                        prepared.stacks.insert(hash, bytes);
                        hash
                    });
                // What is dropped has no cause, and is never written.
                let cause = causes
                    .get(&(sender.service, report.grouping.key))
                    .copied()
                    .unwrap_or_default();
                let numbered = Numbered {
                    report,
                    sender,
                    cause,
                    resource,
                    stack,
                    received: submission.received,
                    clock_ahead_ms: report.clock_ahead_ms,
                };
                prepared.reports.insert(report.facts.id, numbered);
            }
        }
        prepared
    }

    fn add_resource(&mut self, resource: &Arc<Resource>) -> Digest {
        *self.hashed.entry(Arc::as_ptr(resource).addr()).or_insert_with(|| {
            let hash = Digest::of_bytes(body(resource).as_bytes());
            self.resources.insert(hash, resource.clone());
            hash
        })
    }

    /// The cause of a service's other error.
    pub(super) fn other_cause(&self, service: i32) -> i64 {
        self.others.get(&service).copied().unwrap_or_default()
    }

    /// The newest time at which a request of the batch was received.
    pub(super) fn received(&self) -> Timestamp {
        self.submissions
            .iter()
            .map(|submission| submission.received)
            .max()
            .unwrap_or_default()
    }

    /// The hash of a resource of this batch.
    pub(super) fn resource_hash(&self, resource: &Arc<Resource>) -> Digest {
        self.hashed
            .get(&Arc::as_ptr(resource).addr())
            .copied()
            .unwrap_or_default()
    }

    /// Has templates of log lines interned.
    pub(super) fn intern_templates(&mut self, templates: BTreeMap<uuid::Uuid, &str>) {
        self.templates.extend(
            templates
                .into_iter()
                .map(|(hash, text)| (Digest(*hash.as_bytes()), text.to_owned())),
        );
    }

    pub(super) fn sender(&self, identity: &Identity) -> SenderIds {
        self.numbers.senders[identity]
    }

    /// The number of a span's endpoint, where it is an entry span.
    pub(super) fn endpoint(&self, span: &SeenSpan) -> Option<i32> {
        let entry = span.entry.as_ref()?;
        let service = self.sender(&span.identity).service;
        self.numbers
            .endpoints
            .get(&(service, name_hash(&entry.endpoint)))
            .copied()
    }

    /// The number of an endpoint of a service, by its name's hash.
    pub(super) fn endpoint_of(&self, service: i32, name: Digest) -> Option<i32> {
        self.numbers.endpoints.get(&(service, name)).copied()
    }

    /// What is not interned yet, as far as the caller knows.
    pub(super) fn take_to_intern(&mut self, is_known: impl Fn(Digest) -> bool) -> ToIntern {
        let stacks = std::mem::take(&mut self.stacks);
        ToIntern {
            resources: self
                .resources
                .iter()
                .filter(|(hash, _)| !is_known(**hash))
                .map(|(hash, resource)| (*hash, body(resource)))
                .collect(),
            templates: std::mem::take(&mut self.templates)
                .into_iter()
                .filter(|(hash, _)| !is_known(*hash))
                .collect(),
            stacks: stacks.into_iter().filter(|(hash, _)| !is_known(*hash)).collect(),
        }
    }

    /// The days of event time that rows of this batch fall on.
    pub(super) fn days(&self) -> BTreeSet<i64> {
        let of_reports = self.reports.keys().map(|id| id.at().day());
        let spans = self.submissions.iter().flat_map(|submission| &submission.found.spans);
        let of_entries = spans.filter_map(|span| span.entry.as_ref()).map(|entry| entry.at.day());
        let of_lines = self
            .submissions
            .iter()
            .flat_map(|submission| &submission.found.lines)
            .map(|line| line.at.day());
        let counted = self
            .submissions
            .iter()
            .flat_map(|submission| &submission.found.counted_only);
        of_reports
            .chain(of_entries)
            .chain(of_lines)
            .chain(counted.map(|counted| counted.minute.day()))
            .collect()
    }
}

fn body(resource: &Resource) -> String {
    serde_json::Value::Object(resource.attributes.to_json()).to_string()
}
