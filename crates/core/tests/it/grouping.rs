//! Labelled real stacks as a floor that no change may fall through.

use std::collections::HashMap;

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_testkit::labelled_stacks;

/// Pairs of one service put together rightly, wrongly, and torn apart: precision and recall over pairs.
#[test]
fn labelled_stacks_of_each_runtime_are_grouped_with_f1_of_at_least_099() {
    let records = labelled_stacks();
    let runtimes: std::collections::BTreeSet<&str> = records.iter().filter_map(|record| record["runtime"].as_str()).collect();
    assert_eq!(runtimes.len(), 15);
    for runtime in runtimes {
        let labelled: Vec<(String, String, Digest)> = records
            .iter()
            .filter(|record| record["runtime"] == runtime)
            .map(|record| {
                let text = |name: &str| record[name].as_str().unwrap_or_default();
                let key = Described::new(text("type"), text("message"), text("stacktrace")).group().key;
                (text("service").to_owned(), text("label").to_owned(), key)
            })
            .collect();
        assert!(labelled.len() >= 28, "{runtime}");
        let pairs = |counts: HashMap<String, u64>| counts.values().map(|n| n * (n - 1) / 2).sum::<u64>();
        let count = |name: &dyn Fn(&(String, String, Digest)) -> String| {
            let mut counts: HashMap<String, u64> = HashMap::new();
            for record in &labelled {
                *counts.entry(name(record)).or_default() += 1;
            }
            pairs(counts)
        };
        let together = count(&|(service, _, key)| format!("{service} {key}"));
        let belonging = count(&|(service, label, _)| format!("{service} {label}"));
        let both = count(&|(service, label, key)| format!("{service} {label} {key}"));
        // F1 = 2 · both / (together + belonging), in whole numbers.
        assert!(200 * both >= 99 * (together + belonging), "{runtime}: {both} of {together} together, {belonging} belonging");
    }
}
