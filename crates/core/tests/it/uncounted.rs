//! What a deploy's answer says of services that report errors and no requests: they are judged by their errors alone.

use std::iter;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::{Detector, Event, FlagLine, Judged, Minute, Outcome, VersionFacts, judge};
use rstest::rstest;

use crate::dice::Dice;

/// Minutes before the deploy: the detector learns for a day, then watches.
const BEFORE: Minute = 2 * 1_440;

/// Occurrences a minute of each known error.
const RATES: [f64; 6] = [2.0, 1.0, 0.3, 0.1, 0.02, 0.005];

/// What a deploy does.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Does {
    Nothing,
    /// The error of one a minute comes three times as often.
    Triples,
    /// An error that never was comes once in two minutes.
    Breaks,
}

fn at(minute: Minute) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + TimeDelta::days(20_000) + TimeDelta::minutes(minute)
}

/// A number around a mean, as independent occurrences give it (Knuth 1997, 3.4.1, algorithm Q).
fn poisson(dice: &mut Dice, mean: f64) -> u64 {
    let least = (-mean).exp();
    iter::repeat_with(|| dice.next())
        .scan(1.0, |product, next| {
            *product *= next;
            (*product > least).then_some(())
        })
        .count() as u64
}

struct Simulated {
    dice: Dice,
    detector: Detector,
    does: Does,
    flags: Vec<FlagLine>,
}

impl Simulated {
    fn new(does: Does, seed: u64) -> Self {
        let mut this = Self {
            dice: Dice(seed),
            detector: Detector::default(),
            does,
            flags: vec![],
        };
        (0..BEFORE).for_each(|minute| this.minute(minute));
        let deployed = this.detector.push(&Event::Deploy {
            at: at(BEFORE),
            service: "ledger".to_owned(),
            environment: "production".to_owned(),
            version: "7.3.0".to_owned(),
            share: None,
            ended_at: None,
        });
        assert!(deployed.iter().all(|flag| flag.version != "7.3.0"));
        this
    }

    fn minute(&mut self, minute: Minute) {
        let is_after = minute >= BEFORE;
        for (error, rate) in RATES.into_iter().enumerate() {
            let factor = if is_after && self.does == Does::Triples && error == 1 {
                3.0
            } else {
                1.0
            };
            let count = poisson(&mut self.dice, rate * factor);
            self.occur(minute, error, count);
        }
        if is_after && self.does == Does::Breaks {
            let count = poisson(&mut self.dice, 0.5);
            self.occur(minute, RATES.len(), count);
        }
    }

    fn occur(&mut self, minute: Minute, error: usize, count: u64) {
        if count == 0 {
            return;
        }
        let said = self.detector.push(&Event::Errors {
            minute: at(minute),
            service: "ledger".to_owned(),
            environment: "production".to_owned(),
            version: if minute < BEFORE { "7.2.0" } else { "7.3.0" }.to_owned(),
            group: format!("e{error}"),
            count,
        });
        self.flags.extend(said);
    }

    /// What is answered so many minutes after the deploy.
    fn answer(&mut self, minutes: Minute) -> Outcome {
        self.minute(BEFORE + minutes - 1);
        self.flags.extend(self.detector.finish_until(BEFORE + minutes));
        let charged = self
            .flags
            .iter()
            .filter(|flag| flag.at >= BEFORE && flag.version == "7.3.0")
            .count();
        judge(&VersionFacts {
            flags: charged,
            minutes,
            known_minutes: BEFORE + minutes,
            version: &Judged::default(),
            endpoints: &[],
            has_requests: false,
        })
    }
}

/// The first answer but `too early`, asked each minute for an hour, and at which minute it came.
fn first_answer(does: Does, seed: u64) -> Option<(Outcome, Minute)> {
    let mut simulated = Simulated::new(does, seed);
    (1..=60).find_map(|minutes| {
        let answer = simulated.answer(minutes);
        matches!(answer, Outcome::Flagged | Outcome::Clear).then_some((answer, minutes))
    })
}

/// Counts how many of the answers are `flagged`.
fn flagged(does: Does, runs: u64) -> u64 {
    let flagged = (0..runs)
        .filter(|seed| matches!(first_answer(does, seed * 31 + 7), Some((Outcome::Flagged, _))))
        .count() as u64;
    eprintln!("without requests, {does:?}: {flagged} flagged of {runs}");
    flagged
}

#[rstest]
// Of 100 harmless deploys three or fewer: more than 3 come in fewer than 2 of 100 runs at a rate of 1 in 100.
#[case::harmless(Does::Nothing, 0, 3)]
#[case::an_error_triples(Does::Triples, 95, 100)]
#[case::an_error_is_new(Does::Breaks, 100, 100)]
fn of_a_hundred_deploys_so_many_are_flagged(#[case] does: Does, #[case] least: u64, #[case] most: u64) {
    let flagged = flagged(does, 100);
    assert!((least..=most).contains(&flagged), "{flagged} of 100");
}

#[test]
fn nothing_is_called_clear_within_half_an_hour() {
    for seed in 0..5 {
        let Some((outcome, minutes)) = first_answer(Does::Nothing, seed) else {
            panic!("no answer within an hour");
        };
        assert!(
            outcome == Outcome::Flagged || minutes >= 30,
            "{outcome:?} after {minutes}"
        );
    }
}
