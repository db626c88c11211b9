//! Whether an error that is new by its key is one that was known before: the same failure, at a
//! place in the code that was edited.
//!
//! A refactoring changes keys: a helper is put among the frames, a file gets another name, a
//! function goes to another module. What then looks new is compared with the errors that earlier
//! versions had and this one has no longer. Where exactly one of them could have become it by few
//! edits, it is that one. What is left open stays new, and says which it may be.
//!
//! The outcome depends on the set of causes and versions alone, never on the order in which they became known.

mod compare;
mod shape;

use std::collections::{BTreeMap, BTreeSet, HashMap};

pub use compare::Change;
use compare::{Edits, Known, edits, has_words};
pub use shape::{Link, Shape, Spot};

/// The most that the edits of one version may cost together, for an error to be the same: three
/// edits of the usual kind.
const MAX_COST: f64 = 2.6;
/// The most for an error to be named as one that it may be.
const MAX_COST_NAMED: f64 = 3.4;
/// The least that must have stayed: one function, or what is as telling, that no other error of the service has.
const LEAST_KEPT: f64 = 0.8;
/// By how much the next best must cost more, for the best to be meant: an edit is more likely than two.
const MARGIN: f64 = 0.5;
/// What a message in words counts for that no other error of the service has.
const MESSAGE_KEPT: f64 = 0.6;
/// What a type counts for that no other error of the service has.
const TYPE_KEPT: f64 = 0.3;
/// Errors named as what a new one may be.
const MAX_NAMED: usize = 3;
/// New causes of one version that are compared: past these, a version has made all things new, and
/// comparing costs their number times that of the errors before.
pub const MAX_NEW: usize = 400;
/// Errors of earlier versions that they are compared with.
pub const MAX_EARLIER: usize = 1_000;

/// A cause as far as it is known.
#[derive(Clone, Debug)]
pub struct Sighted<'a> {
    /// Its number.
    pub cause: i64,
    /// The error it belongs to, apart from what was found here.
    pub error: i64,
    /// Its shape.
    pub shape: &'a Shape,
    /// The versions it has occurred in, by their place in the order of versions.
    pub versions: BTreeSet<usize>,
}

/// What was found of a cause that a version brought.
#[derive(Clone, Debug, PartialEq)]
pub enum Finding {
    /// It is an error that was known.
    Moved {
        /// The error.
        error: i64,
        /// What an edit did.
        changes: Vec<Change>,
    },
    /// It is new, and may be one of these that were known, the likeliest first.
    MayBe {
        /// The errors, at most three.
        errors: Vec<i64>,
    },
}

/// Works out which causes are errors that were known before the version that brought them.
///
/// # Example: a helper was put around what failed
/// ```
/// use std::collections::BTreeSet;
/// use outcrop_core::grouping::{Subject, moved::{Finding, Shape, Sighted, find}};
/// use outcrop_core::stack;
/// let shape = |helper: &str| {
///     let text = format!("Traceback (most recent call last):\n  File \"/srv/fares/app.py\", line 9, in quote\n    x\n{helper}  File \"/srv/fares/tariff.py\", line 26, in per_metre\n    x\nKeyError: 'a'");
///     let stack = stack::read(&text).unwrap();
///     Shape::of(&Subject { type_name: "KeyError", sent_type: "", message: "'a'", stack: Some(&stack) }).unwrap()
/// };
/// let (before, after) = (shape(""), shape("  File \"/srv/fares/watch.py\", line 4, in timed\n    x\n"));
/// let sighted = |cause, shape, version| Sighted { cause, error: cause, shape, versions: BTreeSet::from([version]) };
/// let found = find(&[sighted(1, &before, 0), sighted(2, &after, 1)]);
/// assert!(matches!(&found[&2], Finding::Moved { error: 1, changes } if changes[0].to_string() == "a frame watch: timed was added"));
/// ```
#[must_use]
pub fn find(causes: &[Sighted<'_>]) -> BTreeMap<i64, Finding> {
    let mut errors: HashMap<i64, i64> = causes.iter().map(|cause| (cause.cause, cause.error)).collect();
    let mut found = BTreeMap::new();
    let versions: BTreeSet<usize> = causes.iter().flat_map(|cause| &cause.versions).copied().collect();
    for version in versions {
        for (cause, finding) in of_version(version, causes, &errors) {
            if let Finding::Moved { error, .. } = &finding {
                // What people have put together with it goes along.
                let from = errors[&cause];
                for of in errors.values_mut().filter(|of| **of == from) {
                    *of = *error;
                }
            }
            found.insert(cause, finding);
        }
    }
    found
}

/// An error of earlier versions.
struct Earlier<'a> {
    /// Its causes of the latest version before this one.
    causes: Vec<&'a Sighted<'a>>,
    /// Whether it occurs in this version as it did.
    goes_on: bool,
}

fn of_version(version: usize, causes: &[Sighted<'_>], errors: &HashMap<i64, i64>) -> BTreeMap<i64, Finding> {
    let first = |cause: &Sighted<'_>| cause.versions.first().copied();
    let mut earlier: BTreeMap<i64, Earlier<'_>> = BTreeMap::new();
    for cause in causes
        .iter()
        .filter(|cause| first(cause).is_some_and(|first| first < version))
    {
        let error = earlier.entry(errors[&cause.cause]).or_insert(Earlier {
            causes: vec![],
            goes_on: false,
        });
        error.goes_on |= cause.versions.contains(&version);
        let latest = |cause: &Sighted<'_>| cause.versions.range(..version).next_back().copied();
        match error.causes.first().map(|known| latest(known)) {
            Some(known) if known > latest(cause) => continue,
            Some(known) if known < latest(cause) => error.causes.clear(),
            _ => {}
        }
        error.causes.push(cause);
    }
    let mut new: Vec<&Sighted<'_>> = causes
        .iter()
        .filter(|cause| first(cause) == Some(version) && !earlier.contains_key(&errors[&cause.cause]))
        .collect();
    new.sort_by_key(|cause| cause.cause);
    new.truncate(MAX_NEW);
    while earlier.len() > MAX_EARLIER {
        earlier.pop_first();
    }
    if new.is_empty() || earlier.is_empty() {
        return BTreeMap::new();
    }
    let rarity = Rarity::of(&earlier);
    let found = settle(&new, pairs(&new, &earlier, errors, &rarity, &Known::default()));
    // What several errors had done to them alike was done to the service: once more, with that known.
    let known = in_common(&found);
    if known.moved.is_empty() && known.frames.is_empty() {
        return found;
    }
    settle(&new, pairs(&new, &earlier, errors, &rarity, &known))
}

/// Edits that were found of more than one error.
fn in_common(found: &BTreeMap<i64, Finding>) -> Known {
    let mut counts: HashMap<&Change, usize> = HashMap::new();
    for finding in found.values() {
        if let Finding::Moved { changes, .. } = finding {
            for change in changes {
                *counts.entry(change).or_default() += 1;
            }
        }
    }
    let mut known = Known::default();
    for (change, _) in counts.into_iter().filter(|(_, count)| *count > 1) {
        match change {
            Change::Moved { from, to } => drop(known.moved.insert((from.clone(), to.clone()))),
            Change::Added { frame } | Change::Removed { frame } => drop(known.frames.insert(frame.clone())),
            Change::Renamed { .. } | Change::Type { .. } | Change::Reworded => {}
        }
    }
    known
}

/// All new causes with the errors that they could be.
fn pairs(
    new: &[&Sighted<'_>],
    earlier: &BTreeMap<i64, Earlier<'_>>,
    errors: &HashMap<i64, i64>,
    rarity: &Rarity<'_>,
    known: &Known,
) -> Vec<Pair> {
    // A type that was known beside the other is no new name of it.
    let is_known_type = |edits: &Edits| {
        edits
            .changes
            .iter()
            .any(|change| matches!(change, Change::Type { to, .. } if rarity.types.contains_key(to.as_str())))
    };
    let mut pairs = vec![];
    for (at, cause) in new.iter().enumerate() {
        for (error, before) in earlier.iter().filter(|(error, _)| **error != errors[&cause.cause]) {
            let nearest = before
                .causes
                .iter()
                .filter_map(|before| Some((before, edits(before.shape, cause.shape, known)?)))
                .min_by(|one, other| one.1.cost.total_cmp(&other.1.cost));
            if let Some((then, edits)) =
                nearest.filter(|(_, edits)| edits.cost <= MAX_COST_NAMED && !is_known_type(edits))
            {
                let kept = rarity.kept(*error, cause.shape, &edits, then.shape.message == cause.shape.message);
                pairs.push(Pair {
                    new: at,
                    error: *error,
                    goes_on: before.goes_on,
                    kept,
                    edits,
                });
            }
        }
    }
    pairs
}

/// A new cause and an error that it could be.
struct Pair {
    new: usize,
    error: i64,
    goes_on: bool,
    kept: f64,
    edits: Edits,
}

impl Pair {
    fn is_enough(&self) -> bool {
        !self.goes_on
            && self.edits.is_thrown_alike
            && self.edits.cost <= MAX_COST
            && (self.kept >= LEAST_KEPT || self.edits.cost <= 0.0)
    }

    /// Whether another pair could as well be meant.
    fn is_doubted_by(&self, other: &Self) -> bool {
        let shares = (self.new == other.new) != (self.error == other.error);
        // One that goes on as it was is another error; what is as near to it as to one that is gone
        // is not surely the one that is gone.
        let margin = if other.goes_on { 0.0 } else { MARGIN };
        shares && other.edits.cost <= self.edits.cost + margin
    }
}

/// Takes pairs that nothing doubts, until none is left: each leaves less doubt about the others.
fn settle(new: &[&Sighted<'_>], mut pairs: Vec<Pair>) -> BTreeMap<i64, Finding> {
    let mut found = BTreeMap::new();
    pairs.sort_by(|one, other| {
        one.edits
            .cost
            .total_cmp(&other.edits.cost)
            .then((one.new, one.error).cmp(&(other.new, other.error)))
    });
    loop {
        let sure: Vec<usize> = (0..pairs.len())
            .filter(|at| pairs[*at].is_enough() && !pairs.iter().any(|other| pairs[*at].is_doubted_by(other)))
            .collect();
        if sure.is_empty() {
            break;
        }
        let taken: Vec<(usize, i64)> = sure.iter().map(|at| (pairs[*at].new, pairs[*at].error)).collect();
        for at in sure {
            let pair = &pairs[at];
            found.insert(
                new[pair.new].cause,
                Finding::Moved {
                    error: pair.error,
                    changes: pair.edits.changes.clone(),
                },
            );
        }
        pairs.retain(|pair| {
            taken
                .iter()
                .all(|(new, error)| pair.new != *new && pair.error != *error)
        });
    }
    let mut named: BTreeMap<i64, Vec<i64>> = BTreeMap::new();
    for pair in pairs
        .iter()
        .filter(|pair| !pair.goes_on && pair.kept >= LEAST_KEPT / 2.0)
    {
        let errors = named.entry(new[pair.new].cause).or_default();
        if errors.len() < MAX_NAMED {
            errors.push(pair.error);
        }
    }
    found.extend(
        named
            .into_iter()
            .map(|(cause, errors)| (cause, Finding::MayBe { errors })),
    );
    found
}

/// How telling each part of a shape is: what many errors of a service had says nothing of one.
#[derive(Default)]
struct Rarity<'a> {
    functions: HashMap<&'a str, BTreeSet<i64>>,
    throwers: HashMap<(&'a str, &'a str, &'a [String]), BTreeSet<i64>>,
    messages: HashMap<(&'a str, &'a str), BTreeSet<i64>>,
    types: HashMap<&'a str, BTreeSet<i64>>,
}

impl<'a> Rarity<'a> {
    fn of(earlier: &BTreeMap<i64, Earlier<'a>>) -> Self {
        let mut rarity = Self::default();
        for (error, shape) in earlier
            .iter()
            .flat_map(|(error, known)| known.causes.iter().map(|cause| (*error, cause.shape)))
        {
            for link in &shape.exceptions {
                rarity.types.entry(&link.type_name).or_default().insert(error);
                if let Some(thrower) = link.spots.first() {
                    rarity
                        .throwers
                        .entry((&thrower.function, &link.type_name, &link.codes))
                        .or_default()
                        .insert(error);
                }
                for spot in &link.spots {
                    rarity.functions.entry(&spot.function).or_default().insert(error);
                }
            }
            if let Some(top) = shape.exceptions.first() {
                rarity
                    .messages
                    .entry((&top.type_name, &shape.message))
                    .or_default()
                    .insert(error);
            }
        }
        rarity
    }

    /// How much of what stayed tells an error apart from the others of the service; each part by
    /// one over the errors that had it.
    fn kept(&self, error: i64, now: &Shape, edits: &Edits, has_same_message: bool) -> f64 {
        let share = |errors: Option<&BTreeSet<i64>>| {
            let others = errors.map_or(0, |errors| errors.len() - usize::from(errors.contains(&error)));
            1.0 / (1.0 + f64::from(u32::try_from(others).unwrap_or(u32::MAX)))
        };
        let mut kept = 0.0;
        for (exception, at) in &edits.kept {
            let link = &now.exceptions[*exception];
            let function = link.spots[*at].function.as_str();
            let thrown = self
                .throwers
                .get(&(function, link.type_name.as_str(), link.codes.as_slice()))
                .filter(|errors| errors.contains(&error));
            kept += share(self.functions.get(function)).max(thrown.map_or(0.0, |errors| share(Some(errors))));
        }
        let top = &now.exceptions[0];
        if has_same_message && has_words(&now.message) {
            kept += MESSAGE_KEPT * share(self.messages.get(&(top.type_name.as_str(), now.message.as_str())));
        }
        kept + TYPE_KEPT * share(self.types.get(top.type_name.as_str()))
    }
}
