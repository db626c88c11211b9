//! Labelled real stacks as a floor that no change may fall through.

use std::collections::HashMap;
use std::sync::LazyLock;

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_testkit::labelled_stacks;
use regex::{Captures, Regex};

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

/// Moves every line by the same distance, as code above it does, and changes every column, address and deploy folder.
fn with_noise(stack: &str, seed: u64) -> String {
    static PLACES: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
        r"(?P<before>\.(?:java|kt|scala|clj|m?js|rb|rs|cs|exs?|erl|lua|go|php|py)(?:\x22, line |:line |:|\()|[, ]line |\{line,)(?P<line>\d+)(?P<column>:\d+)?",)
    .unwrap()
    });
    static ADDRESSES: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"0x[0-9a-f]{6,}|::h[0-9a-f]{16}\b").unwrap());
    static FOLDERS: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"/srv/skerry/(?:releases/\d+/)?").unwrap());
    let mut state = seed;
    let mut number = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        state >> 33
    };
    let moved = PLACES.replace_all(stack, |found: &Captures<'_>| {
        let column = found.name("column").map(|_| format!(":{}", number() % 90 + 1)).unwrap_or_default();
        let line = found["line"].parse::<u64>().unwrap() + seed % 300 + 7;
        format!("{}{line}{column}", &found["before"])
    });
    let moved = ADDRESSES.replace_all(&moved, |found: &Captures<'_>| {
        if found[0].starts_with("::h") { format!("::h{:016x}", number()) } else { format!("{:#014x}", number()) }
    });
    FOLDERS.replace_all(&moved, format!("/srv/elsewhere/rev-{}/", number() % 100)).into_owned()
}

#[test]
fn noise_that_versions_and_deploys_bring_never_changes_a_group() {
    let mut changed = 0;
    for (at, record) in labelled_stacks().iter().enumerate() {
        let text = |name: &str| record[name].as_str().unwrap_or_default();
        let stack = text("stacktrace");
        if stack.is_empty() {
            continue;
        }
        let noisy = with_noise(stack, at as u64 + 1);
        changed += usize::from(noisy != stack);
        let key = |stack: &str| Described::new(text("type"), text("message"), stack).group().key;
        assert_eq!(key(stack), key(&noisy), "{} {}\n{stack}\n{noisy}", text("runtime"), text("label"));
    }
    assert!(changed > 700, "the noise reached {changed} stacks only");
}
