//! How well labelled real stacks are grouped over versions, and how well errors survive edits of their code.

use outcrop_testkit::pairs::{Pairs, by_runtime, own_frames};
use outcrop_testkit::survival::{Fate, Survival, survival};
use outcrop_testkit::{labelled_stacks, labelled_versions};

/// Prints how well the recorded stacks are grouped, and what became of errors in versions drawn for
/// all of their services.
pub fn run(first: u64, rounds: u64, few_are_seen: bool, notes: bool) {
    println!("stacks           records precision recall     F1   pairs within one service, over all versions");
    for (name, records) in [("published", labelled_stacks()), ("recorded here", labelled_versions())] {
        let mut all = Pairs::default();
        for (runtime, pairs) in by_runtime(&records) {
            row_of(&runtime, pairs);
            all.add(pairs);
        }
        row_of(name, all);
        println!();
    }
    let (right, frames) = own_frames(&labelled_versions());
    println!("own or library told rightly of {right} of {frames} frames recorded here whose file says which\n");
    let mut all = Survival::default();
    for seed in first..first + rounds {
        all.add(survival(seed, few_are_seen));
    }
    if notes {
        all.notes.iter().for_each(|note| println!("{note}"));
    }
    println!("edit             errors as before  moved    new  wrong   what errors are taken for in the next version");
    let row = |name: &str, fate: Fate| {
        println!(
            "{name:<16} {:>6} {:>9} {:>6} {:>6} {:>6}",
            fate.all(),
            fate.as_before,
            fate.moved,
            fate.new,
            fate.wrong
        );
    };
    for (edit, fate) in &all.edited {
        row(&format!("{edit:?}"), *fate);
    }
    row("(a new defect)", all.brought);
}

fn row_of(name: &str, pairs: Pairs) {
    println!(
        "{name:<16} {:>7} {:>9.3} {:>6.3} {:>6.3}",
        pairs.records,
        pairs.precision(),
        pairs.recall(),
        pairs.f1()
    );
}
