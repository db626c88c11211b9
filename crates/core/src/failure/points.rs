//! Points of metrics, cleaned and named by their series.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Digest;
use crate::failure::limits::Limits;
use crate::metric::{Kind, Point};
use crate::telemetry::names::Identity;
use crate::telemetry::{Attributes, Reading, Resource, names, tidy};
use crate::text::prefix;

/// Attributes that tell one series of a metric from another; more are no series but a log.
const MAX_ATTRIBUTES: usize = 16;
/// Longest name of a metric, unit and value of an attribute, in bytes: the specification's 255 for names.
const LONGEST: (usize, usize, usize) = (255, 63, 200);

/// What a series is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Series {
    /// What it is known by within its sender.
    pub hash: Digest,
    /// The name of its metric.
    pub name: String,
    /// Its unit, as sent.
    pub unit: String,
    /// What its numbers are.
    pub kind: Kind,
    /// The instance that sends it.
    pub instance: String,
    /// What tells it from others of the metric, by name.
    pub attributes: Vec<(String, String)>,
}

/// A point, and whose it is.
#[derive(Clone, Debug, PartialEq)]
pub struct FoundPoint {
    /// Who sent it.
    pub identity: Arc<Identity>,
    /// Its series.
    pub series: Arc<Series>,
    /// What it says.
    pub point: Point,
}

/// The series of one request, each made once.
#[derive(Default)]
pub(super) struct Points {
    series: HashMap<Digest, Arc<Series>>,
    found: Vec<FoundPoint>,
}

impl Points {
    /// Takes a point whose name is known, whose number is one, and whose time is not too long ago.
    pub(super) fn take(
        &mut self,
        (identity, resource): (&Arc<Identity>, &Arc<Resource>),
        mut reading: Reading,
        limits: Limits<'_>,
    ) {
        let at = reading.at.map_or(limits.received, |at| at.min(limits.received));
        if reading.name.is_empty() || !reading.value.is_finite() || at < limits.oldest {
            return;
        }
        tidy::text(&mut reading.name);
        tidy::text(&mut reading.unit);
        tidy::attributes(&mut reading.attributes);
        limits
            .scrubbing
            .of(&identity.service)
            .attributes(&mut reading.attributes);
        let series = self.series(identity, resource, &reading);
        self.found.push(FoundPoint {
            identity: identity.clone(),
            series,
            point: Point {
                at,
                start: reading.start.filter(|start| *start <= at),
                value: reading.value,
                count: reading.count,
                buckets: reading.buckets,
            },
        });
    }

    fn series(&mut self, identity: &Identity, resource: &Resource, reading: &Reading) -> Arc<Series> {
        let instance = names::instance(resource);
        let attributes = told_by(&reading.attributes);
        let (name, unit) = (prefix(&reading.name, LONGEST.0), prefix(&reading.unit, LONGEST.1));
        let mut parts = vec![
            identity.namespace.as_str(),
            &identity.service,
            &identity.environment,
            &identity.version,
            &instance,
            name,
            unit,
            reading.kind.word(),
        ];
        let kind = reading.kind.number().to_string();
        parts.push(&kind);
        parts.extend(attributes.iter().flat_map(|(name, value)| [name.as_str(), value]));
        let hash = Digest::of(parts);
        self.series
            .entry(hash)
            .or_insert_with(|| {
                Arc::new(Series {
                    hash,
                    name: name.to_owned(),
                    unit: unit.to_owned(),
                    kind: reading.kind,
                    instance: instance.clone(),
                    attributes: attributes.clone(),
                })
            })
            .clone()
    }

    pub(super) fn finish(self) -> Vec<FoundPoint> {
        self.found
    }
}

/// The attributes that tell a series from others: in the order of their names, those past the limit left out.
fn told_by(attributes: &Attributes) -> Vec<(String, String)> {
    let mut told: Vec<(String, String)> = attributes
        .0
        .iter()
        .map(|(name, value)| (name.clone(), prefix(&value.to_text(), LONGEST.2).to_owned()))
        .collect();
    told.sort();
    told.dedup_by(|one, other| one.0 == other.0);
    told.truncate(MAX_ATTRIBUTES);
    told
}
