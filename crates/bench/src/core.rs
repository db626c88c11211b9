//! Parsing and grouping, over real stacks.

use std::hint::black_box;
use std::time::{Duration, Instant};

use outcrop_core::grouping::Described;
use outcrop_testkit::labelled_stacks;
use serde_json::Value;

/// The aim, in stacks per second on one core.
const AIM: f64 = 100_000.0;

pub fn run(seconds: u64) {
    let records = labelled_stacks();
    println!("parse + grouping key, one core, {seconds} s each; aim {AIM:.0} stacks/s");
    for runtime in ["cpython", "nodejs"] {
        let stacks: Vec<[&str; 3]> = records
            .iter()
            .filter(|record| record["runtime"] == runtime && record["stacktrace"] != "")
            .map(|record| ["type", "message", "stacktrace"].map(|part| record[part].as_str().unwrap_or_default()))
            .collect();
        let bytes: usize = stacks.iter().map(|[_, _, stack]| stack.len()).sum::<usize>() / stacks.len();
        let mut count = 0_u64;
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(seconds) {
            for [type_name, message, stacktrace] in &stacks {
                black_box(Described::new(type_name, message, stacktrace).group());
            }
            count += stacks.len() as u64;
        }
        let rate = count as f64 / start.elapsed().as_secs_f64();
        println!("{runtime:<8} {rate:>9.0} stacks/s  {:.2} of the aim  ({} stacks, {bytes} bytes on average)", rate / AIM, stacks.len());
    }
    let texts: Vec<&str> = records.iter().filter_map(|record: &Value| record["message"].as_str()).collect();
    let mut count = 0_u64;
    let start = Instant::now();
    while start.elapsed() < Duration::from_secs(seconds) {
        for text in &texts {
            black_box(outcrop_core::grouping::template(text));
        }
        count += texts.len() as u64;
    }
    println!("template {:>9.0} messages/s", count as f64 / start.elapsed().as_secs_f64());
}
