//! Parsing and grouping, over real stacks.

use std::hint::black_box;
use std::time::{Duration, Instant};

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_testkit::labelled_stacks;
use serde_json::Value;

use crate::results;

/// The aim, in stacks per second on one core.
const AIM: f64 = 100_000.0;

pub fn run(seconds: u64) {
    let records = labelled_stacks();
    println!(
        "parse + grouping key, one core, {seconds} s each, the fastest tenth of the rounds; aim {AIM:.0} stacks/s"
    );
    let mut runtimes: Vec<&str> = records.iter().filter_map(|record| record["runtime"].as_str()).collect();
    runtimes.sort_unstable();
    runtimes.dedup();
    let (mut all, mut spent, mut read) = (0.0, 0.0, 0.0);
    for runtime in runtimes {
        let stacks: Vec<[&str; 3]> = records
            .iter()
            .filter(|record| record["runtime"] == runtime && record["stacktrace"] != "")
            .map(|record| ["type", "message", "stacktrace"].map(|part| record[part].as_str().unwrap_or_default()))
            .collect();
        let bytes: usize = stacks.iter().map(|[_, _, stack]| stack.len()).sum::<usize>() / stacks.len();
        let rate = best_rate(seconds, stacks.len(), || {
            for [type_name, message, stacktrace] in &stacks {
                black_box(Described::new(type_name, message, stacktrace).group());
            }
        });
        println!(
            "{runtime:<8} {rate:>9.0} stacks/s  {:.2} of the aim  ({} stacks, {bytes} bytes on average)",
            rate / AIM,
            stacks.len()
        );
        // The floor: each line of the same texts found and hashed.
        let floor = best_rate(seconds, stacks.len(), || {
            for line in stacks.iter().flat_map(|[_, _, stack]| stack.lines()) {
                black_box(Digest::of_bytes(line.as_bytes()));
            }
        });
        read += stacks.len() as f64 / floor;
        all += stacks.len() as f64;
        spent += stacks.len() as f64 / rate;
    }
    let rate = all / spent;
    println!(
        "all      {rate:>9.0} stacks/s  {:.2} of the aim, as mixed in the labelled stacks",
        rate / AIM
    );
    results::rate("stacks parsed and grouped", rate, all / read, "a second");
    adversarial();
    let texts: Vec<&str> = records
        .iter()
        .filter_map(|record: &Value| record["message"].as_str())
        .collect();
    let rate = best_rate(seconds, texts.len(), || {
        for text in &texts {
            black_box(outcrop_core::grouping::template(text));
        }
    });
    println!("template {rate:>9.0} messages/s");
}

/// Items a second over all rounds that fit into the time, by the fastest tenth of the rounds: on a
/// shared machine the others tell of whoever else was running.
fn best_rate(seconds: u64, items: usize, mut round: impl FnMut()) -> f64 {
    let mut rounds = vec![];
    let start = Instant::now();
    while rounds.is_empty() || start.elapsed() < Duration::from_secs(seconds) {
        let begin = Instant::now();
        round();
        rounds.push(begin.elapsed().as_secs_f64());
    }
    rounds.sort_unstable_by(f64::total_cmp);
    let fastest = &rounds[..rounds.len().div_ceil(10)];
    (items * fastest.len()) as f64 / fastest.iter().sum::<f64>()
}

/// Texts made to be slow: each twice, the second four times as long. Linear work takes four times as long.
fn adversarial() {
    const PIECES: &[(&str, &str)] = &[
        ("one line of dots", "a."),
        ("one line of brackets", "[{"),
        ("one line of angles", "at A.<<"),
        ("one line of places", "a.py:1 "),
        ("lines of at", "    at a.b (c.js:1:2)\n"),
        ("python frames", "  File \"/srv/a.py\", line 3, in f\n"),
        ("java frames", "\tat a.b.C.d(C.java:1)\n"),
        ("ruby frames", "\tfrom a.rb:1:in `b'\n"),
        ("php frames", "#0 /srv/a.php(1): b()\n"),
        ("rust frames", "   1: a::b\n             at ./src/a.rs:1:2\n"),
        ("erlang frames", "{a,b,1,[{file,\"a.erl\"},{line,1}]},"),
        ("go frames", "a.b(...)\n\t/srv/a.go:1 +0x1\n"),
        ("causes", "Caused by: a.B: c\n"),
        ("inner exceptions", " ---> A: b"),
    ];
    // What makes each dialect take the text for its own.
    const HEADS: &[&str] = &[
        "",
        "Traceback (most recent call last):\n",
        "A: b\n\tat a.b.C.d(C.java:1)\n",
        "A: b\n  at A.B (C c) [0x1] in <1>:0\n",
        "thread 'main' panicked at 'a', a.rs:1:1\nstack backtrace:\n",
        "A: b in /a.php:1\nStack trace:\n",
        "goroutine 1 [running]:\n",
        "stack traceback:\n",
        "** (A) b\n",
        "[{a,b,1,[]},",
        "a.rb:1:in `b': c (D)\n",
        "a at b.pl line 1.\n",
    ];
    let mut worst = (0.0, String::new());
    for (name, piece) in PIECES {
        for head in HEADS {
            let time = |bytes: usize| {
                let text = format!("{head}{}", piece.repeat(bytes / piece.len()));
                (0..3)
                    .map(|_| {
                        let start = Instant::now();
                        black_box(Described::new("", "", &text).group());
                        start.elapsed().as_secs_f64()
                    })
                    .fold(f64::MAX, f64::min)
            };
            let (short, long) = (time(250_000), time(1_000_000));
            let growth = long / short;
            if growth > worst.0 && long > 0.005 {
                worst = (
                    growth,
                    format!(
                        "{name} after {:?}: {:.1} ms for 1 MB",
                        head.lines().next().unwrap_or_default(),
                        long * 1_000.0
                    ),
                );
            }
            if long > 0.5 {
                println!("slow: {name} after {head:?}: {:.0} ms for 1 MB", long * 1_000.0);
            }
        }
    }
    println!(
        "adversarial texts: four times the length takes {:.1} times as long at worst ({})",
        worst.0, worst.1
    );
}
