//! What changing each threshold of flags costs, on simulated fleets.

use outcrop_core::deploy::{Asked, Detector};
use outcrop_testkit::fleet::{Condition, Score};

use crate::conditions::measured;

/// By how many nats each is changed, of those above one; the others by a half of themselves.
const BY: f64 = 1.5;

fn row(name: &str, value: f64, score: &Score) {
    let share = |found: &[u64], of: &[u64]| found.iter().sum::<u64>() as f64 / of.iter().sum::<u64>().max(1) as f64;
    println!(
        "| {name} | {value:.2} | {:.3} | {:.3} | {:.3} | {:.2} |",
        share(&score.found[..1], &score.by_reader[..1]),
        share(&score.found[1..], &score.by_reader[1..]),
        score.found.iter().sum::<u64>() as f64 / (score.found.iter().sum::<u64>() + score.wrong).max(1) as f64,
        100.0 * score.wrong_of_silent as f64 / score.silent.max(1) as f64,
    );
}

pub fn run(first: u64, fleets: u64) {
    println!(
        "| threshold | value | easy, of the reader's | medium and hard, of the reader's | precision | wrong per 100 \
         silent deploys |"
    );
    println!("| --- | --- | --- | --- | --- | --- |");
    let score = |asked: Asked| {
        let mut score = Score::default();
        for condition in [Condition::Calm, Condition::Drift, Condition::CountsThinned] {
            score.join(measured(condition, first..first + fleets, || Detector::asking(asked)));
        }
        score
    };
    row("as they are", 0.0, &score(Asked::default()));
    let names = Asked::default().each().map(|(name, value)| (name, *value));
    for (at, (name, value)) in names.into_iter().enumerate() {
        let by = if value > 1.0 { BY.min(value) } else { value / 2.0 };
        for changed in [value - by, value + by] {
            let mut asked = Asked::default();
            if let Some((_, of)) = asked.each().into_iter().nth(at) {
                *of = changed;
            }
            row(name, changed, &score(asked));
        }
    }
}
