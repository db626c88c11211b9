//! Occurrences of several services and versions, grouped at once: as the service would have, had
//! they come to it in the order of their versions.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::moved::{Change, Finding, Shape, Sighted};
use super::{Described, Grouping, moved};
use crate::Digest;
use crate::query::dotted_order;

/// The groups of all that was added.
#[derive(Debug, Default)]
pub struct Together {
    causes: Vec<Cause>,
    by_group: HashMap<Digest, usize>,
}

/// A grouping key in a service.
#[derive(Debug)]
struct Cause {
    service: String,
    group: Digest,
    shape: Option<Shape>,
    versions: BTreeSet<String>,
}

/// The group that an occurrence belongs to, when all are known.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Belonging {
    /// Equal exactly when two are one error.
    pub group: Digest,
    /// What was edited since the version before, where its code has moved.
    pub changes: Vec<Change>,
    /// Groups of versions before that it may be, its code having moved.
    pub may_be: Vec<Digest>,
}

impl Together {
    /// Adds an occurrence. Returns its grouping and the number of its cause.
    pub fn add(&mut self, service: &str, version: &str, described: &Described<'_>) -> (Grouping, usize) {
        let grouping = described.group();
        // An error belongs to one service.
        let group = Digest::of([service, &grouping.key.to_string()]);
        let at = *self.by_group.entry(group).or_insert_with(|| {
            let shape = Shape::of(&described.subject());
            self.causes.push(Cause {
                service: service.to_owned(),
                group,
                shape,
                versions: BTreeSet::new(),
            });
            self.causes.len() - 1
        });
        if !version.is_empty() {
            self.causes[at].versions.insert(version.to_owned());
        }
        (grouping, at)
    }

    /// Where each cause belongs, by its number.
    #[must_use]
    pub fn settled(&self) -> Vec<Belonging> {
        let of = |number: i64| {
            usize::try_from(number)
                .ok()
                .and_then(|at| self.causes.get(at))
                .map(|cause| cause.group)
                .unwrap_or_default()
        };
        let mut settled: Vec<Belonging> = self
            .causes
            .iter()
            .map(|cause| Belonging {
                group: cause.group,
                ..Belonging::default()
            })
            .collect();
        let mut by_service: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (at, cause) in self.causes.iter().enumerate() {
            by_service.entry(&cause.service).or_default().push(at);
        }
        for causes in by_service.values() {
            for (cause, finding) in moved::find(&self.sighted(causes)) {
                let Some(belonging) = usize::try_from(cause).ok().and_then(|at| settled.get_mut(at)) else {
                    continue;
                };
                match finding {
                    Finding::Moved { error, changes } => (belonging.group, belonging.changes) = (of(error), changes),
                    Finding::MayBe { errors } => belonging.may_be = errors.into_iter().map(of).collect(),
                }
            }
        }
        settled
    }

    /// The causes of a service, with versions in the order of their numbers.
    fn sighted(&self, causes: &[usize]) -> Vec<Sighted<'_>> {
        let labels: BTreeSet<&String> = causes.iter().flat_map(|at| &self.causes[*at].versions).collect();
        let mut labels: Vec<&String> = labels.into_iter().collect();
        labels.sort_by(|one, other| dotted_order(one, other).then(one.cmp(other)));
        let place: HashMap<&String, usize> = labels.into_iter().enumerate().map(|(at, label)| (label, at)).collect();
        let sighted = causes.iter().filter_map(|at| {
            let cause = &self.causes[*at];
            let number = i64::try_from(*at).ok()?;
            let versions = cause.versions.iter().map(|label| place[label]).collect();
            Some(Sighted {
                cause: number,
                error: number,
                shape: cause.shape.as_ref()?,
                versions,
            })
        });
        sighted.collect()
    }
}
