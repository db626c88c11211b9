//! How errors survive a version in which their code was edited, on labelled real stacks: what is
//! told of each, held against its label.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_core::grouping::moved::{Finding, Shape, Sighted, find};

use crate::labelled_stacks;
use crate::refactoring::{Edit, Refactoring};

/// What became of errors.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fate {
    /// Their key is what it was.
    pub as_before: u32,
    /// Found to be what they were, by comparing versions.
    pub moved: u32,
    /// Taken for new.
    pub new: u32,
    /// Taken for another error.
    pub wrong: u32,
}

/// What became of all errors in a version.
#[derive(Clone, Debug, Default)]
pub struct Survival {
    /// Errors that were there before, by what was done to their code.
    pub edited: BTreeMap<Edit, Fate>,
    /// Defects that came with the version.
    pub brought: Fate,
    /// What was not told rightly, in words.
    pub notes: Vec<String>,
}

impl Survival {
    /// Adds what became of the errors of another version.
    pub fn add(&mut self, other: Self) {
        for (edit, fate) in other.edited {
            self.edited.entry(edit).or_default().add(fate);
        }
        self.brought.add(other.brought);
        self.notes.extend(other.notes);
    }
}

impl Fate {
    fn add(&mut self, other: Self) {
        self.as_before += other.as_before;
        self.moved += other.moved;
        self.new += other.new;
        self.wrong += other.wrong;
    }

    /// How many they are.
    #[must_use]
    pub const fn all(self) -> u32 {
        self.as_before + self.moved + self.new + self.wrong
    }
}

/// A cause of a simulated service.
struct Known {
    number: i64,
    label: String,
    version: usize,
    shape: Option<Shape>,
}

/// Draws a version: of the labelled defects a sixth comes with it, a sixth (or, where few are seen,
/// two thirds) does not occur in it, and the code of the others is edited.
#[must_use]
pub fn survival(seed: u64, few_are_seen: bool) -> Survival {
    let mut refactoring = Refactoring::new(seed);
    let mut services: BTreeMap<String, BTreeMap<(usize, Digest), Known>> = BTreeMap::new();
    let mut numbers: HashMap<(String, Digest), i64> = HashMap::new();
    let mut seen: HashSet<(String, String)> = HashSet::new();
    let mut edits: HashMap<i64, Edit> = HashMap::new();
    for record in &labelled_stacks() {
        let text = |name: &str| record[name].as_str().unwrap_or_default();
        let (service, label) = (text("service").to_owned(), text("label").to_owned());
        // The first record of each defect stands for it: what varies within a version is measured elsewhere.
        if !seen.insert((service.clone(), label.clone())) {
            continue;
        }
        let mut described = Described::new(text("type"), text("message"), text("stacktrace"));
        if described.stack.as_ref().is_none_or(|stack| stack.own_frame().is_none()) {
            continue;
        }
        let lot = refactoring.lot(&service, &label);
        let is_brought = lot == 0;
        let is_gone = if few_are_seen { lot > 1 } else { lot == 1 };
        for version in 0..2_usize {
            if version == 0 && is_brought || version == 1 && is_gone {
                continue;
            }
            if version == 1 && !is_brought {
                described.stack = described
                    .stack
                    .map(|stack| refactoring.edited(&service, &label, &stack));
            }
            let key = described.group().key;
            let next = i64::try_from(numbers.len()).unwrap_or_default();
            let number = *numbers.entry((service.clone(), key)).or_insert(next);
            if version == 1 {
                edits.insert(
                    number,
                    if is_brought {
                        Edit::None
                    } else {
                        refactoring.edit(&service, &label)
                    },
                );
            }
            let shape = Shape::of(&described.subject());
            let known = Known {
                number,
                label: label.clone(),
                version,
                shape,
            };
            services
                .entry(service.clone())
                .or_default()
                .insert((version, key), known);
        }
    }
    let mut survival = Survival::default();
    for (service, known) in &services {
        judge(service, known, &edits, &mut survival);
    }
    survival
}

fn judge(service: &str, known: &BTreeMap<(usize, Digest), Known>, edits: &HashMap<i64, Edit>, survival: &mut Survival) {
    let mut by_cause: BTreeMap<i64, (&Known, BTreeSet<usize>)> = BTreeMap::new();
    for cause in known.values() {
        by_cause
            .entry(cause.number)
            .or_insert((cause, BTreeSet::new()))
            .1
            .insert(cause.version);
    }
    let sighted: Vec<Sighted<'_>> = by_cause
        .iter()
        .filter_map(|(number, (cause, versions))| {
            Some(Sighted {
                cause: *number,
                error: *number,
                shape: cause.shape.as_ref()?,
                versions: versions.clone(),
            })
        })
        .collect();
    let found = find(&sighted);
    for (number, (cause, versions)) in by_cause.iter().filter(|(_, (_, versions))| versions.contains(&1)) {
        let before = known
            .values()
            .find(|other| other.version == 0 && other.label == cause.label);
        let joined = match found.get(number) {
            Some(Finding::Moved { error, .. }) => Some(*error),
            _ if versions.contains(&0) => Some(*number),
            _ => None,
        };
        let edit = edits[number];
        let fate = if before.is_some() {
            survival.edited.entry(edit).or_default()
        } else {
            &mut survival.brought
        };
        match joined {
            None => fate.new += 1,
            Some(joined) if before.is_none_or(|before| before.number != joined) => fate.wrong += 1,
            Some(joined) if joined == *number => fate.as_before += 1,
            Some(_) => fate.moved += 1,
        }
        if before.map(|before| before.number) != joined {
            let taken = joined.and_then(|joined| known.values().find(|known| known.number == joined));
            let then = before
                .into_iter()
                .chain(taken)
                .map(|known| format!("\n  then {}: {}", known.label, shown(known)));
            let now = format!(
                "{service} {} {edit:?}: {:?}\n  now  {}",
                cause.label,
                found.get(number),
                shown(cause)
            );
            survival.notes.push(format!("{now}{}", then.collect::<String>()));
        }
    }
}

fn shown(known: &Known) -> String {
    known.shape.as_ref().map_or_else(String::new, |shape| {
        let links: Vec<String> = shape
            .exceptions
            .iter()
            .map(|link| {
                format!(
                    "{} [{}]",
                    link.type_name,
                    link.spots
                        .iter()
                        .map(ToString::to_string)
                        .collect::<Vec<_>>()
                        .join(" < ")
                )
            })
            .collect();
        format!("{} | {}", links.join(" / "), shape.message)
    })
}
