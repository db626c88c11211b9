//! What services call and which of their instances sent something, summed over one request of a sender.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Timestamp;
use crate::failure::entry::EntrySpan;
use crate::failure::limits::Limits;
use crate::failure::points::{FoundPoint, Points};
use crate::telemetry::names::Identity;
use crate::telemetry::{Reading, Resource, ScopeRecords, Span, names, sampling};

/// Calls of one service to one other place, or runs of one statement, within an hour.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundCalls {
    /// Who called.
    pub identity: Arc<Identity>,
    /// The hour in which they began.
    pub hour: Timestamp,
    /// `database`, `queue`, `rpc`, `http`; `consumed` of messages taken from a queue; `statement`.
    pub kind: &'static str,
    /// What was called, or the statement with its values left out.
    pub name: String,
    /// How many, by what each stands for.
    pub count: u64,
    /// Of them failed.
    pub failed: u64,
    /// How long all took together, in microseconds.
    pub total_us: u64,
    /// The longest, in microseconds.
    pub longest_us: u64,
}

/// An instance that sent something.
#[derive(Clone, Debug, PartialEq)]
pub struct FoundInstance {
    /// The service it runs.
    pub identity: Arc<Identity>,
    /// What tells it from others.
    pub name: String,
    /// Its host; may be empty.
    pub host: String,
    /// Its region or zone; may be empty.
    pub region: String,
    /// When it first sent something in this request, in event time.
    pub first: Timestamp,
    /// When last.
    pub last: Timestamp,
    /// Requests and runs.
    pub requests: u64,
    /// Of them failed.
    pub failed: u64,
    /// Its load: readings by name, the newest.
    pub readings: Vec<Reading>,
}

type Key = (*const Identity, i64, &'static str, String);

/// Sums calls.
#[derive(Default)]
pub(super) struct Calls(HashMap<Key, FoundCalls>);

impl Calls {
    /// Counts what a scrubbed span calls.
    pub(super) fn add(
        &mut self,
        identity: &Arc<Identity>,
        span: &Span,
        (start, end): (Timestamp, Timestamp),
        failed: bool,
    ) {
        let weight = u64::from(sampling::weight(span));
        let took = u64::try_from(end.micros() - start.micros()).unwrap_or_default();
        for (kind, name) in [
            names::called(span.kind, &span.name, &span.attributes),
            names::statement(&span.attributes).map(|text| ("statement", text)),
        ]
        .into_iter()
        .flatten()
        {
            let hour = start.hour();
            let calls = self
                .0
                .entry((Arc::as_ptr(identity), hour.millis(), kind, name))
                .or_insert_with_key(|(_, _, kind, name)| FoundCalls {
                    identity: identity.clone(),
                    hour,
                    kind,
                    name: name.clone(),
                    count: 0,
                    failed: 0,
                    total_us: 0,
                    longest_us: 0,
                });
            calls.count += weight;
            calls.failed += if failed { weight } else { 0 };
            calls.total_us = calls.total_us.saturating_add(took.saturating_mul(weight));
            calls.longest_us = calls.longest_us.max(took);
        }
    }

    pub(super) fn finish(self) -> Vec<FoundCalls> {
        self.0.into_values().collect()
    }
}

/// Sums instances.
#[derive(Default)]
pub(super) struct Instances(HashMap<*const Resource, FoundInstance>);

impl Instances {
    /// Counts something that an instance sent; `resource` must be kept while this is used.
    pub(super) fn add(
        &mut self,
        identity: &Arc<Identity>,
        resource: &Arc<Resource>,
        at: Timestamp,
        entry: Option<&EntrySpan>,
    ) {
        let instance = self.of(identity, resource, at);
        instance.first = instance.first.min(at);
        instance.last = instance.last.max(at);
        let weight = entry.map_or(0, |entry| u64::from(entry.weight));
        instance.requests += weight;
        instance.failed += if entry.is_some_and(|entry| entry.failed) {
            weight
        } else {
            0
        };
    }

    fn of(&mut self, identity: &Arc<Identity>, resource: &Arc<Resource>, at: Timestamp) -> &mut FoundInstance {
        self.0.entry(Arc::as_ptr(resource)).or_insert_with(|| {
            let bounded = |text: &str| crate::text::prefix(text, names::MAX_NAME_BYTES).to_owned();
            let region = resource.attributes.text(&["cloud.availability_zone", "cloud.region"]);
            FoundInstance {
                identity: identity.clone(),
                name: bounded(&names::instance(resource)),
                host: bounded(names::host(resource).unwrap_or_default()),
                region: bounded(region.unwrap_or_default()),
                first: at,
                last: at,
                requests: 0,
                failed: 0,
                readings: vec![],
            }
        })
    }

    /// Takes a reading; of one name the newest stays.
    pub(super) fn read(&mut self, identity: &Arc<Identity>, resource: &Arc<Resource>, reading: Reading, at: Timestamp) {
        self.add(identity, resource, at, None);
        let instance = self.of(identity, resource, at);
        match instance.readings.iter_mut().find(|known| known.name == reading.name) {
            Some(known) if known.at <= reading.at => *known = reading,
            Some(_) => {}
            None => instance.readings.push(reading),
        }
    }

    pub(super) fn finish(self) -> Vec<FoundInstance> {
        // An instance that names nothing of itself is none.
        self.0.into_values().filter(|instance| instance.name != "/").collect()
    }
}

/// What is read of an instance's load, as OpenTelemetry's conventions for system, process and runtime metrics name it.
pub const READINGS: &[&str] = &[
    "process.cpu.utilization",
    "process.memory.usage",
    "system.cpu.utilization",
    "system.memory.utilization",
    "system.cpu.load_average.1m",
    "system.linux.cpu.load_1m",
    "jvm.cpu.recent_utilization",
    "jvm.memory.used",
    "nodejs.eventloop.utilization",
    "v8js.memory.heap.used",
    "go.memory.used",
];

/// Takes the points of metrics, and an instance's load out of them.
pub(super) fn readings(
    groups: Vec<ScopeRecords<Reading>>,
    mut of: impl FnMut(&Arc<Resource>) -> (Arc<Identity>, Arc<Resource>),
    limits: Limits<'_>,
) -> (Vec<FoundInstance>, Vec<FoundPoint>) {
    let mut instances = Instances::default();
    let mut points = Points::default();
    for group in groups {
        let (identity, resource) = of(&group.resource);
        for reading in group.records {
            let is_load = READINGS.contains(&reading.name.as_str())
                && reading.value.is_finite()
                && !reading.kind.is_distribution();
            if !is_load {
                points.take((&identity, &resource), reading, limits);
                continue;
            }
            points.take((&identity, &resource), reading.clone(), limits);
            let at = reading.at.map_or(limits.received, |at| at.min(limits.received));
            if at < limits.oldest {
                continue;
            }
            instances.read(
                &identity,
                &resource,
                Reading {
                    at: Some(at),
                    ..reading
                },
                at,
            );
        }
    }
    (instances.finish(), points.finish())
}
