//! How well errors survive edits of their code between two versions.

use outcrop_testkit::survival::{Fate, Survival, survival};

/// Prints what became of errors in versions drawn for all services of the labelled stacks.
pub fn run(first: u64, rounds: u64, few_are_seen: bool, notes: bool) {
    let mut all = Survival::default();
    for seed in first..first + rounds {
        all.add(survival(seed, few_are_seen));
    }
    if notes {
        all.notes.iter().for_each(|note| println!("{note}"));
    }
    println!(
        "{:<16} {:>6} {:>9} {:>6} {:>6} {:>6}   what errors are taken for in the next version",
        "edit", "errors", "as before", "moved", "new", "wrong"
    );
    let row = |name: &str, fate: Fate| {
        println!("{name:<16} {:>6} {:>9} {:>6} {:>6} {:>6}", fate.all(), fate.as_before, fate.moved, fate.new, fate.wrong);
    };
    for (edit, fate) in &all.edited {
        row(&format!("{edit:?}"), *fate);
    }
    row("(a new defect)", all.brought);
}
