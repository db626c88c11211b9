//! Labelled real stacks as a floor that no change may fall through.

use std::sync::LazyLock;

use outcrop_core::grouping::Described;
use outcrop_testkit::pairs::{Pairs, by_runtime, own_frames};
use outcrop_testkit::{labelled_stacks, labelled_versions};
use proptest::prelude::*;
use regex::{Captures, Regex};

#[test]
fn labelled_stacks_of_each_runtime_are_grouped_with_f1_of_at_least_099() {
    let runtimes = by_runtime(&labelled_stacks());
    assert_eq!(runtimes.len(), 15);
    for (runtime, pairs) in runtimes {
        assert!(pairs.records >= 28 && pairs.f1() >= 0.99, "{runtime}: {pairs:?}");
    }
}

/// Stacks of frameworks, and of runtimes beside those, in three versions each: lines moved, a file
/// renamed, a helper put between.
#[test]
fn labelled_versions_of_each_runtime_are_grouped_with_f1_of_at_least_097() {
    let records = labelled_versions();
    let mut all = Pairs::default();
    for (runtime, pairs) in by_runtime(&records) {
        assert!(pairs.records >= 18 && pairs.f1() >= 0.97, "{runtime}: {pairs:?}");
        all.add(pairs);
    }
    assert!(all.records > 2_100 && all.f1() >= 0.99, "{all:?}");
    let (right, frames) = own_frames(&records);
    assert!(
        frames > 19_000 && 100 * right >= 99 * frames,
        "{right} of {frames} frames"
    );
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
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        state >> 33
    };
    let moved = PLACES.replace_all(stack, |found: &Captures<'_>| {
        let column = found
            .name("column")
            .map(|_| format!(":{}", number() % 90 + 1))
            .unwrap_or_default();
        let line = found["line"].parse::<u64>().unwrap() + seed % 300 + 7;
        format!("{}{line}{column}", &found["before"])
    });
    let moved = ADDRESSES.replace_all(&moved, |found: &Captures<'_>| {
        if found[0].starts_with("::h") {
            format!("::h{:016x}", number())
        } else {
            format!("{:#014x}", number())
        }
    });
    FOLDERS
        .replace_all(&moved, format!("/srv/elsewhere/rev-{}/", number() % 100))
        .into_owned()
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
        assert_eq!(
            key(stack),
            key(&noisy),
            "{} {}\n{stack}\n{noisy}",
            text("runtime"),
            text("label")
        );
    }
    assert!(changed > 700, "the noise reached {changed} stacks only");
}

/// What changes from run to run though the code is the same: a kind of noise and what it is replaced by, by a number.
type Noise = (&'static str, fn(&Captures<'_>, u64) -> String);

const NOISES: &[Noise] = &[
    // Lambdas, proxies and accessors are numbered as they are made.
    (r"\$\$Lambda\$\d+", |_, n| format!("$$Lambda${}", n % 900 + 1)),
    (r"\$\$Lambda/0x[0-9a-f]+", |_, n| format!("$$Lambda/0x{n:016x}")),
    (r"lambda\$(?P<in>\w+)\$\d+", |found, n| {
        format!("lambda${}${}", &found["in"], n % 40)
    }),
    (r"GeneratedMethodAccessor\d+", |_, n| {
        format!("GeneratedMethodAccessor{}", n % 900 + 1)
    }),
    (r"\$Proxy\d+", |_, n| format!("$Proxy{}", n % 200 + 1)),
    // Threads, tasks and goroutines have names and numbers of their own.
    (r"goroutine \d+ ", |_, n| format!("goroutine {} ", n % 90_000 + 1)),
    (r#"in thread "[^"\n]*""#, |_, n| {
        format!("in thread \"http-worker-{}\"", n % 64)
    }),
    (r"thread '[^'\n]*' (?:\(\d+\) )?panicked", |_, n| {
        format!("thread 'tokio-runtime-worker' ({}) panicked", n % 9_000)
    }),
    (r"#PID<\d+\.\d+\.\d+>", |_, n| format!("#PID<0.{}.0>", n % 9_000)),
];

fn with_kinds_of_noise(stack: &str, kinds: u16, seed: u64) -> String {
    static COMPILED: LazyLock<Vec<Regex>> =
        LazyLock::new(|| NOISES.iter().map(|(pattern, _)| Regex::new(pattern).unwrap()).collect());
    let mut noisy = stack.to_owned();
    for (at, (pattern, (_, made))) in COMPILED
        .iter()
        .zip(NOISES)
        .enumerate()
        .filter(|(at, _)| kinds & (1 << at) != 0)
    {
        let mut number = seed.wrapping_add(at as u64);
        noisy = pattern
            .replace_all(&noisy, |found: &Captures<'_>| {
                number = number
                    .wrapping_mul(6_364_136_223_846_793_005)
                    .wrapping_add(1_442_695_040_888_963_407);
                made(found, number >> 33)
            })
            .into_owned();
    }
    noisy
}

#[test]
fn every_kind_of_noise_is_found_somewhere_in_the_labelled_stacks() {
    let records = labelled_stacks();
    let found = |pattern: &str| {
        let pattern = Regex::new(pattern).unwrap();
        records
            .iter()
            .any(|record| pattern.is_match(record["stacktrace"].as_str().unwrap_or_default()))
    };
    let missing: Vec<&str> = NOISES
        .iter()
        .map(|(pattern, _)| *pattern)
        .filter(|pattern| !found(pattern))
        .collect();
    assert!(missing.len() <= 3, "nothing to try these on: {missing:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 3_000, ..ProptestConfig::default() })]

    #[test]
    fn any_mixture_of_noise_keeps_a_group(at in any::<prop::sample::Index>(), kinds in 0_u16..512,
        moves in any::<bool>(), seed in any::<u64>()) {
        static RECORDS: LazyLock<Vec<serde_json::Value>> = LazyLock::new(labelled_stacks);
        let record = at.get(&RECORDS);
        let text = |name: &str| record[name].as_str().unwrap_or_default();
        let stack = text("stacktrace");
        let noisy = with_kinds_of_noise(stack, kinds, seed);
        let noisy = if moves && !noisy.is_empty() { with_noise(&noisy, seed >> 8) } else { noisy };
        let key = |stack: &str| Described::new(text("type"), text("message"), stack).group().key;
        prop_assert_eq!(key(stack), key(&noisy), "{}\n{}\n{}", text("label"), stack, noisy);
    }
}
