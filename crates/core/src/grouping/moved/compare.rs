//! How one shape could have become another by editing the code.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::shape::{Link, Shape, Spot};

// What each edit costs. One edit that teams make every week costs less than 1; what hardly happens
// twice in one version, or is as likely another defect, costs more. Only sums are compared, with
// the bounds in `mod.rs`.
/// A function in another file, module or class; the first time for each pair of places, since a
/// renamed file moves all of its functions.
const MOVED: f64 = 0.6;
/// A frame more or less: a helper was extracted, wrapped around, or inlined.
const FRAME: f64 = 0.8;
/// The same, where the exception is thrown: it was thrown by a caller, or by one that was called.
const THROWER: f64 = 1.0;
/// The same where only what dispatches to the failing code is: it is the same for many errors, and no key holds it.
const FAR_OUT: f64 = 0.3;
/// From which frame on that is.
const FAR: usize = 4;
/// A function in the same place under another name.
const RENAMED: f64 = 1.2;
/// Another type, with all frames alike.
const TYPE: f64 = 1.2;
/// A message none of whose words stayed; in proportion for less.
const MESSAGE: f64 = 1.2;
/// Thrown by a function that is not on the way to where it was thrown before: as likely another defect.
const ELSEWHERE: f64 = 1.0;
/// How far from where it was thrown the function that threw it may be now.
const MAX_DEPTH: usize = 2;

/// What an edit did to an error's place in the code.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(tag = "change", rename_all = "snake_case")]
pub enum Change {
    /// A frame is there that was not.
    Added {
        /// The frame.
        frame: String,
    },
    /// A frame is gone.
    Removed {
        /// The frame.
        frame: String,
    },
    /// Functions are in another file, module or class.
    Moved {
        /// Where they were.
        from: String,
        /// Where they are.
        to: String,
    },
    /// A function has another name.
    Renamed {
        /// Its name before.
        from: String,
        /// Its name now.
        to: String,
    },
    /// The exception's type has another name.
    Type {
        /// Its name before.
        from: String,
        /// Its name now.
        to: String,
    },
    /// The message is worded otherwise.
    Reworded,
}

impl std::fmt::Display for Change {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Added { frame } => write!(f, "a frame {frame} was added"),
            Self::Removed { frame } => write!(f, "the frame {frame} is gone"),
            Self::Moved { from, to } => write!(f, "{from} became {to}"),
            Self::Renamed { from, to } => write!(f, "{from} is called {to}"),
            Self::Type { from, to } => write!(f, "the type {from} is called {to}"),
            Self::Reworded => f.write_str("the message is worded otherwise"),
        }
    }
}

/// The edits that lead from one shape to another.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Edits {
    /// The sum of their costs, from 0.
    pub cost: f64,
    /// Whether the function that threw it then is on the way to where it is thrown now, or the other way round.
    pub is_thrown_alike: bool,
    /// Frames found in both: the position of the exception, and of the frame in the later shape.
    pub kept: Vec<(usize, usize)>,
    /// What was done, from where it was thrown outwards.
    pub changes: Vec<Change>,
}

/// Edits that several errors of a version had alike: those cost no other error of it anything.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// Places and what they are called now.
    pub moved: BTreeSet<(String, String)>,
    /// Frames that were added or are gone.
    pub frames: BTreeSet<String>,
}

/// The edits that lead from a shape to a later one; `None` where none do: other exceptions, other codes.
pub(super) fn edits(before: &Shape, after: &Shape, known: &Known) -> Option<Edits> {
    if before.exceptions.len() != after.exceptions.len() {
        return None;
    }
    let mut edits = Edits {
        cost: 0.0,
        is_thrown_alike: true,
        kept: vec![],
        changes: vec![],
    };
    let mut places: Vec<(&str, &str)> = vec![];
    let mut types: Vec<(&str, &str)> = vec![];
    for (at, (old, new)) in before.exceptions.iter().zip(&after.exceptions).enumerate() {
        if old.relation != new.relation || old.codes != new.codes {
            return None;
        }
        if old.type_name != new.type_name {
            types.push((&old.type_name, &new.type_name));
        }
        Pair {
            exception: at,
            old,
            new,
            known,
        }
        .align(&mut places, &mut edits);
    }
    for (from, to) in places {
        let (from, to) = (from.to_owned(), to.to_owned());
        if !known.moved.contains(&(from.clone(), to.clone())) {
            edits.cost += MOVED;
        }
        edits.changes.push(Change::Moved { from, to });
    }
    if !edits.is_thrown_alike {
        edits.cost += ELSEWHERE;
    }
    let shared = shared_words(&before.message, &after.message);
    if let Some((from, to)) = types.first() {
        // A type by another name is told from another type by all else being as it was, and by what
        // is left of its name.
        let is_of_top = types.len() == 1 && before.exceptions[0].type_name != after.exceptions[0].type_name;
        let is_all_else_alike =
            edits.changes.is_empty() && before.message == after.message && has_words(&after.message);
        if !is_of_top || !is_all_else_alike || !is_like(from, to) {
            return None;
        }
        edits.cost += TYPE;
        edits.changes.push(Change::Type {
            from: (*from).to_owned(),
            to: (*to).to_owned(),
        });
    }
    if shared < 1.0 {
        edits.cost += MESSAGE * (1.0 - shared);
        edits.changes.push(Change::Reworded);
    }
    Some(edits)
}

/// Whether a template says something in words of its own.
pub(super) fn has_words(template: &str) -> bool {
    words(template)
        .filter(|word| word.chars().all(char::is_alphabetic))
        .nth(1)
        .is_some()
}

fn words(template: &str) -> impl Iterator<Item = &str> {
    template
        .split(|c: char| c.is_whitespace() || matches!(c, ',' | ':' | ';' | '(' | ')' | '='))
        .filter(|word| !word.is_empty())
}

/// The share of the words of two templates that they have in common, 0 to 1.
fn shared_words(one: &str, other: &str) -> f64 {
    if one == other {
        return 1.0;
    }
    let mut left: Vec<&str> = words(other).collect();
    let (mut both, mut count) = (0_u32, 0_u32);
    for word in words(one) {
        count += 1;
        if let Some(at) = left.iter().position(|there| *there == word) {
            left.swap_remove(at);
            both += 1;
        }
    }
    let all = count + u32::try_from(left.len()).unwrap_or(u32::MAX);
    if all == 0 {
        1.0
    } else {
        f64::from(both) / f64::from(all)
    }
}

/// Whether two names of types have a word in common, beside those that most have.
fn is_like(one: &str, other: &str) -> bool {
    let words = |name: &str| {
        let mut words: Vec<String> = vec![];
        for c in name.chars() {
            if c.is_uppercase() || words.is_empty() || !c.is_alphanumeric() {
                words.push(String::new());
            }
            if let Some(word) = words.last_mut().filter(|_| c.is_alphanumeric()) {
                word.extend(c.to_lowercase());
            }
        }
        words.retain(|word| {
            word.len() > 2
                && !matches!(
                    word.as_str(),
                    "error" | "exception" | "failure" | "fault" | "invalid" | "not"
                )
        });
        words
    };
    let there = words(other);
    words(one).iter().any(|word| there.contains(word))
}

/// What became of a frame.
#[derive(Clone, Copy, PartialEq)]
enum Step {
    Match,
    Removed,
    Added,
}

/// Two exceptions' frames, one to be made into the other.
#[derive(Clone, Copy)]
struct Pair<'a> {
    /// Which exception of the chain it is.
    exception: usize,
    old: &'a Link,
    new: &'a Link,
    known: &'a Known,
}

impl<'a> Pair<'a> {
    fn rows(&self) -> usize {
        self.old.spots.len()
    }

    fn columns(&self) -> usize {
        self.new.spots.len()
    }

    // What a list that was cut off does not show may have been there.
    fn of_removed(&self, row: usize, column: usize) -> f64 {
        let at = self.rows() - row;
        if column == 0 && self.new.is_cut {
            0.0
        } else {
            of_frame(&self.old.spots[at], at, self.known)
        }
    }

    fn of_added(&self, row: usize, column: usize) -> f64 {
        let at = self.columns() - column;
        if row == 0 && self.old.is_cut {
            0.0
        } else {
            of_frame(&self.new.spots[at], at, self.known)
        }
    }

    /// The cheapest way to make one list of frames into the other: the edit distance by dynamic programming, on lists
    /// of a dozen. Innermost frames last, so that the way back lists them first.
    fn costs(&self) -> Vec<Vec<(f64, Step)>> {
        let (rows, columns) = (self.rows(), self.columns());
        let mut costs = vec![vec![(0.0_f64, Step::Match); columns + 1]; rows + 1];
        for row in 0..=rows {
            for column in 0..=columns {
                if row + column == 0 {
                    continue;
                }
                let mut best = (f64::INFINITY, Step::Match);
                let mut offer = |cost: f64, step: Step| {
                    if cost < best.0 {
                        best = (cost, step);
                    }
                };
                if row > 0
                    && column > 0
                    && let Some(cost) = of_match(
                        &self.old.spots[rows - row],
                        &self.new.spots[columns - column],
                        self.known,
                    )
                {
                    offer(costs[row - 1][column - 1].0 + cost, Step::Match);
                }
                if row > 0 {
                    offer(costs[row - 1][column].0 + self.of_removed(row, column), Step::Removed);
                }
                if column > 0 {
                    offer(costs[row][column - 1].0 + self.of_added(row, column), Step::Added);
                }
                costs[row][column] = best;
            }
        }
        costs
    }

    /// Notes what became of each frame.
    fn align(&self, places: &mut Vec<(&'a str, &'a str)>, edits: &mut Edits) {
        let costs = self.costs();
        let (mut row, mut column) = (self.rows(), self.columns());
        let mut first_kept = None;
        while row + column > 0 {
            let (was, is) = (self.rows() - row, self.columns() - column);
            match costs[row][column].1 {
                Step::Match => {
                    if self.note_match((was, is), places, edits) {
                        first_kept.get_or_insert((was, is));
                    }
                    row -= 1;
                    column -= 1;
                }
                Step::Removed => {
                    let change = Change::Removed {
                        frame: self.old.spots[was].to_string(),
                    };
                    edits.note(self.of_removed(row, column), change, column == 0 && self.new.is_cut);
                    row -= 1;
                }
                Step::Added => {
                    let change = Change::Added {
                        frame: self.new.spots[is].to_string(),
                    };
                    edits.note(self.of_added(row, column), change, row == 0 && self.old.is_cut);
                    column -= 1;
                }
            }
        }
        if self.rows() + self.columns() > 0 {
            edits.is_thrown_alike &= first_kept.is_some_and(|(was, is)| was.min(is) == 0 && was.max(is) <= MAX_DEPTH);
        }
    }

    /// Notes a frame that is in both; returns whether its function has kept its name.
    fn note_match(&self, (was, is): (usize, usize), places: &mut Vec<(&'a str, &'a str)>, edits: &mut Edits) -> bool {
        let (before, after) = (&self.old.spots[was], &self.new.spots[is]);
        if before.function != after.function {
            edits.cost += RENAMED;
            edits.changes.push(Change::Renamed {
                from: before.to_string(),
                to: after.to_string(),
            });
            return false;
        }
        if before.place != after.place && !places.contains(&(&before.place, &after.place)) {
            places.push((&before.place, &after.place));
        }
        if !after.function.is_empty() {
            edits.kept.push((self.exception, is));
        }
        true
    }
}

impl Edits {
    /// Notes a frame more or less: once, though each exception of a chain has it.
    fn note(&mut self, cost: f64, change: Change, is_unseen: bool) {
        if !is_unseen && !self.changes.contains(&change) {
            self.cost += cost;
            self.changes.push(change);
        }
    }
}

fn of_frame(spot: &Spot, depth: usize, known: &Known) -> f64 {
    if known.frames.contains(&spot.to_string()) {
        return 0.0;
    }
    match depth {
        0 => THROWER,
        FAR.. => FAR_OUT,
        _ => FRAME,
    }
}

fn of_match(before: &Spot, after: &Spot, known: &Known) -> Option<f64> {
    let is_moved = || known.moved.contains(&(before.place.clone(), after.place.clone()));
    match (before.function == after.function, before.place == after.place) {
        (true, true) => Some(0.0),
        (true, false) if is_moved() => Some(0.0),
        // Charged once for each pair of places, when the cheapest way is known.
        (true, false) if !before.function.is_empty() => Some(MOVED / 2.0),
        (true, false) => Some(MOVED),
        (false, true) => Some(RENAMED),
        (false, false) => None,
    }
}
