//! Flags on simulated fleets, a row for each condition that operators meet.

use outcrop_core::deploy::Detector;
use outcrop_testkit::fleet::{Condition, Fleet, Score, bounds};

/// Simulates fleets of one condition, half of the seeds on each of two threads, and holds flags against what is true.
pub fn measured(condition: Condition, seeds: std::ops::Range<u64>, detector: impl Fn() -> Detector + Sync) -> Score {
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get) as u64;
    let mut score = Score::default();
    let detector = &detector;
    std::thread::scope(|scope| {
        let parts: Vec<_> = (0..threads)
            .map(|part| {
                let seeds = seeds.clone().filter(move |seed| seed % threads == part);
                scope.spawn(move || {
                    let mut score = Score::default();
                    for seed in seeds {
                        let fleet = Fleet::new(condition, seed);
                        let mut detector = detector();
                        let mut flags: Vec<_> = fleet.events.iter().flat_map(|event| detector.push(event)).collect();
                        flags.extend(detector.finish());
                        let before = score.notes.len();
                        score.add(&fleet, &flags);
                        for note in &mut score.notes[before..] {
                            *note = format!("seed {seed}: {note}");
                        }
                        score.notes.extend(
                            disturbed(&fleet, &detector)
                                .into_iter()
                                .map(|line| format!("seed {seed}: {line}")),
                        );
                    }
                    score
                })
            })
            .collect();
        for part in parts {
            score.join(part.join().expect("a simulation ends"));
        }
    });
    score
}

/// What was truly disturbed, and what the detector says of it, in order of service and time.
fn disturbed(fleet: &Fleet, detector: &Detector) -> Vec<String> {
    let day = fleet.scored_from - 1_440;
    let truly = fleet.disturbed.iter().map(|(service, from, until, by)| {
        (
            service.as_str(),
            from - day,
            format!("truly disturbed until {}, by {by:.2}", until - day),
        )
    });
    let said = detector.disturbed().map(|(service, _, of)| {
        (
            service,
            of.from - day,
            format!("said {:?} until {:?}", of.measured, of.until.map(|until| until - day)),
        )
    });
    let mut lines: Vec<_> = truly.chain(said).collect();
    lines.sort();
    lines
        .into_iter()
        .map(|(service, from, line)| format!("{service} {from}: {line}"))
        .collect()
}

fn row(condition: Condition, score: &Score) {
    let [easy, medium, hard] = [0, 1, 2].map(|place| match (score.asked[place], score.by_reader[place]) {
        (0, _) => "-".to_owned(),
        (asked, reader) => format!(
            "{:.3} ({:.3})",
            score.found[place] as f64 / asked as f64,
            reader as f64 / asked as f64
        ),
    });
    let found: u64 = score.found.iter().sum();
    let precision = found as f64 / (found + score.wrong).max(1) as f64;
    let (least, _) = bounds(found, (found + score.wrong).max(1));
    let per_hundred = 100.0 * score.wrong_of_silent as f64 / score.silent.max(1) as f64;
    let (_, most) = bounds(score.wrong_of_silent.min(score.silent), score.silent.max(1));
    let delay = score
        .median_delays()
        .map_or_else(|| "-".to_owned(), |(ours, reader)| format!("{ours} ({reader})"));
    println!(
        "| {} | {} | {} | {easy} | {medium} | {hard} | {precision:.3} (≥ {least:.3}) | {per_hundred:.2} (≤ {:.2}) | \
         {delay} |",
        condition.name(),
        score.asked.iter().sum::<u64>(),
        score.silent,
        100.0 * most,
    );
}

pub fn run(first: u64, fleets: u64, only: Option<&str>, notes: bool) {
    println!(
        "| condition | changes | silent deploys | easy | medium | hard | precision | wrong per 100 silent deploys | \
         median delay |"
    );
    println!("| --- | --- | --- | --- | --- | --- | --- | --- | --- |");
    for condition in Condition::ALL
        .into_iter()
        .filter(|condition| only.is_none_or(|only| condition.name().contains(only)))
    {
        let score = measured(condition, first..first + fleets, Detector::default);
        row(condition, &score);
        if notes {
            for note in &score.notes {
                println!("  {note}");
            }
        }
    }
}
