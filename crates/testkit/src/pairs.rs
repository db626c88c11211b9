//! How well labelled stacks are grouped: over pairs within one service, those put together against
//! those that belong together.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::grouping::Described;
use outcrop_core::grouping::together::Together;
use outcrop_core::stack::Frame;
use serde_json::Value;

/// Pairs within one service.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Pairs {
    /// Records that they are pairs of.
    pub records: u64,
    /// Pairs put together that belong together.
    pub both: u64,
    /// Pairs put together.
    pub together: u64,
    /// Pairs that belong together.
    pub belonging: u64,
}

impl Pairs {
    /// Adds the pairs of other services.
    pub fn add(&mut self, other: Self) {
        self.records += other.records;
        self.both += other.both;
        self.together += other.together;
        self.belonging += other.belonging;
    }

    /// The share of the pairs put together that belong together, 0 to 1.
    #[must_use]
    pub fn precision(self) -> f64 {
        ratio(self.both, self.together)
    }

    /// The share of the pairs that belong together which were put together, 0 to 1.
    #[must_use]
    pub fn recall(self) -> f64 {
        ratio(self.both, self.belonging)
    }

    /// The harmonic mean of both: 2 · both / (together + belonging).
    #[must_use]
    pub fn f1(self) -> f64 {
        ratio(2 * self.both, self.together + self.belonging)
    }
}

#[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
fn ratio(part: u64, whole: u64) -> f64 {
    if whole == 0 { 1.0 } else { part as f64 / whole as f64 }
}

/// Groups records over their versions, and scores them by runtime.
#[must_use]
pub fn by_runtime(records: &[Value]) -> BTreeMap<String, Pairs> {
    let mut together = Together::default();
    let of: Vec<(&str, usize)> = records
        .iter()
        .map(|record| {
            let described = Described::new(
                text(record, "type"),
                text(record, "message"),
                text(record, "stacktrace"),
            );
            let (_, cause) = together.add(text(record, "service"), text(record, "version"), &described);
            (text(record, "runtime"), cause)
        })
        .collect();
    let settled = together.settled();
    let mut runtimes: BTreeMap<String, Vec<[String; 3]>> = BTreeMap::new();
    for (record, (runtime, cause)) in records.iter().zip(of) {
        let group = settled[cause].group.to_string();
        let row = [
            text(record, "service").to_owned(),
            text(record, "label").to_owned(),
            group,
        ];
        runtimes.entry(runtime.to_owned()).or_default().push(row);
    }
    runtimes
        .into_iter()
        .map(|(runtime, rows)| (runtime, score(&rows)))
        .collect()
}

/// The pairs of rows of a service, a label and a group.
#[must_use]
pub fn score(rows: &[[String; 3]]) -> Pairs {
    let pairs = |name: &dyn Fn(&[String; 3]) -> String| {
        let mut counts: HashMap<String, u64> = HashMap::new();
        for row in rows {
            *counts.entry(name(row)).or_default() += 1;
        }
        counts.into_values().map(|n| n * (n - 1) / 2).sum()
    };
    Pairs {
        records: u64::try_from(rows.len()).unwrap_or(u64::MAX),
        both: pairs(&|[service, label, group]| format!("{service}\n{label}\n{group}")),
        together: pairs(&|[service, _, group]| format!("{service}\n{group}")),
        belonging: pairs(&|[service, label, _]| format!("{service}\n{label}")),
    }
}

/// Frames that are told rightly to be the service's own or not, of those whose file says where they
/// come from: the services of the labelled stacks lie under `/srv/skerry/`, and by bare names where
/// a runtime names no folder. Returns how many, of how many.
#[must_use]
pub fn own_frames(records: &[Value]) -> (u64, u64) {
    let (mut right, mut all) = (0, 0);
    for record in records {
        let described = Described::new(
            text(record, "type"),
            text(record, "message"),
            text(record, "stacktrace"),
        );
        for frame in described
            .stack
            .iter()
            .flat_map(|stack| &stack.exceptions)
            .flat_map(|exception| &exception.frames)
        {
            if let Some(own) = is_own(frame) {
                all += 1;
                right += u64::from(own == frame.own);
            }
        }
    }
    (right, all)
}

/// Functions of Ruby and PHP themselves in the labelled stacks: their frames bear the file of what called them.
const NATIVE: &[&str] = &[
    "+",
    "/",
    "Integer",
    "concat",
    "each",
    "each_key",
    "each_with_index",
    "fetch",
    "first",
    "intdiv",
    "json_decode",
    "map",
    "sleep",
    "throw",
    "times",
];
/// Names that both such functions and the services' own have.
const EITHER: &[&str] = &["__construct", "from", "next", "parse", "read"];

/// Whether the file of a frame is a labelled service's; `None` where it does not tell, as with a bundle.
fn is_own(frame: &Frame<'_>) -> Option<bool> {
    let file = frame.file.as_ref();
    let base = outcrop_core::stack::base_name(file);
    let stem = base.split('.').next().unwrap_or(base);
    if file.is_empty() || file.starts_with('<') || file.contains("/dist/") {
        return None;
    }
    if matches!(file.rsplit('.').next(), Some("rb" | "php")) {
        match frame.function.as_ref() {
            function if NATIVE.contains(&function) => return Some(false),
            function if EITHER.contains(&function) => return None,
            _ => {}
        }
    }
    let is_ours = [
        "rates", "Rates", "tariffs", "Tariffs", "main", "watch", "app", "defects", "holds", "Holds", "decks",
    ]
    .contains(&stem);
    if file.starts_with("/srv/skerry/") {
        return Some(!file.contains("node_modules"));
    }
    Some(!file.starts_with('/') && is_ours)
}

fn text<'a>(record: &'a Value, name: &str) -> &'a str {
    record[name].as_str().unwrap_or_default()
}
