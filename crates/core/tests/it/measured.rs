//! What flags do where requests or errors are not reported as they are.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::deploy::{Detector, Event, FlagKind, FlagLine, Measured};
use outcrop_testkit::fleet::{Condition, Fleet, Score};
use proptest::prelude::*;
use rstest::rstest;

use crate::dice::Dice;

/// 2026-11-02T00:00Z, in minutes.
const START: i64 = 29_366_640;
/// The stretch in which reports are disturbed, and the deploy within it.
const DISTURBED: std::ops::Range<i64> = 2_500..2_620;
const DEPLOYED: i64 = 2_550;
/// The minute in which an error begins to occur four times as often, where it does.
const SURGE: i64 = 2_560;

fn time(minute: i64) -> DateTime<Utc> {
    DateTime::from_timestamp((START + minute) * 60, 0).unwrap()
}

impl Dice {
    /// A number of events by chance around a mean (Knuth's method).
    fn poisson(&mut self, mean: f64) -> u64 {
        let limit = (-mean).exp();
        let (mut product, mut count) = (self.next(), 0);
        while product > limit {
            product *= self.next();
            count += 1;
        }
        count
    }
}

/// What happens to reports.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Reports {
    /// So many times as many requests are counted.
    Times(f64),
    Missing,
    Lumps,
    Late,
    NoErrors,
}

/// Two days of a service of some two hundred requests a minute and twelve errors, told to the detector.
fn told(reports: Reports, surges: bool, seed: u64) -> (Vec<FlagLine>, Vec<Measured>) {
    let mut dice = Dice(seed);
    let mut detector = Detector::default();
    let mut events: BTreeMap<(i64, u8), Vec<Event>> = BTreeMap::new();
    let (service, environment) = ("fares".to_owned(), "production".to_owned());
    let deploy = Event::Deploy {
        at: time(DEPLOYED),
        service: service.clone(),
        environment: environment.clone(),
        version: "2.4.0".to_owned(),
        share: None,
        ended_at: None,
    };
    events.insert((DEPLOYED, 0), vec![deploy]);
    for minute in 0..3_000 {
        let version = if minute >= DEPLOYED { "2.4.0" } else { "2.3.9" }.to_owned();
        let angle = std::f64::consts::TAU * f64::from(i32::try_from(minute % 1_440).unwrap()) / 1_440.0;
        let busy = 1.0 + 0.4 * angle.sin();
        let is_disturbed = DISTURBED.contains(&minute);
        let times = if let Reports::Times(times) = reports
            && is_disturbed
        {
            times
        } else {
            1.0
        };
        let count = dice.poisson(200.0 * busy * times);
        let at = match reports {
            Reports::Lumps if is_disturbed => minute / 5 * 5 + 4,
            Reports::Late if is_disturbed => (minute + 6).min(DISTURBED.end),
            _ => minute,
        };
        if reports != Reports::Missing || !is_disturbed {
            let (service, environment, version) = (service.clone(), environment.clone(), version.clone());
            events.entry((at, 1)).or_default().push(Event::Requests {
                minute: time(at),
                service,
                environment,
                version,
                count,
            });
        }
        for error in 0..12_u32 {
            let surge = if surges && error == 5 && minute >= SURGE {
                4.0
            } else {
                1.0
            };
            let count = dice.poisson(0.02 * f64::from(1 << error.min(6)) * busy * surge);
            if count > 0 && !(reports == Reports::NoErrors && is_disturbed) {
                events.entry((minute, 2)).or_default().push(Event::Errors {
                    minute: time(minute),
                    service: service.clone(),
                    environment: environment.clone(),
                    version: version.clone(),
                    group: format!("g{error}"),
                    count,
                });
            }
        }
    }
    let mut flags: Vec<FlagLine> = events
        .values()
        .flatten()
        .flat_map(|event| detector.push(event))
        .collect();
    flags.extend(detector.finish());
    flags.retain(|flag| flag.at >= START + 1_440 && flag.flag == FlagKind::Surging);
    let measured = detector
        .disturbed()
        .filter(|(_, _, of)| of.from >= START + 1_440)
        .map(|(_, _, of)| of.measured)
        .collect();
    (flags, measured)
}

const TENTH: Reports = Reports::Times(0.1);
const HALF: Reports = Reports::Times(0.5);
const TWICE: Reports = Reports::Times(2.0);

#[rstest]
fn reports_that_are_disturbed_make_no_flags_and_are_said(
    #[values(
        TENTH,
        HALF,
        TWICE,
        Reports::Missing,
        Reports::Lumps,
        Reports::Late,
        Reports::NoErrors
    )]
    reports: Reports,
    #[values(1, 2, 3)] seed: u64,
) {
    let (flags, measured) = told(reports, false, seed);
    assert!(flags.is_empty(), "{flags:?}");
    let is_said = |of: &Measured| match (reports, *of) {
        (Reports::Times(times), Measured::Times(said)) => (said / times).ln().abs() < 0.25,
        (Reports::Missing | Reports::Late, Measured::Missing)
        | (Reports::Lumps, Measured::Lumped)
        | (Reports::NoErrors, Measured::NoErrors) => true,
        _ => false,
    };
    assert!(measured.iter().any(is_said), "{measured:?}");
}

#[rstest]
fn an_error_that_surges_meanwhile_is_found_and_no_other(
    #[values(TENTH, HALF, TWICE, Reports::Missing, Reports::Lumps, Reports::Late)] reports: Reports,
    #[values(4, 5)] seed: u64,
) {
    let (flags, _) = told(reports, true, seed);
    let said: Vec<_> = flags
        .iter()
        .map(|flag| (flag.group.as_str(), flag.at - START))
        .collect();
    let [("g5", at)] = said.as_slice() else {
        panic!("{said:?}")
    };
    assert!((SURGE..SURGE + 40).contains(at), "after {} minutes", at - SURGE);
}

#[test]
fn traffic_that_truly_doubles_or_drops_is_believed() {
    let mut dice = Dice(9);
    let mut detector = Detector::default();
    let mut flags = vec![];
    for minute in 0..3_000_i64 {
        let busy = match minute {
            2_000..2_100 => 3.0,
            2_400..2_500 => 0.2,
            _ => 1.0,
        };
        let of = |group: Option<String>, count| {
            let (minute, service) = (time(minute), "fares".to_owned());
            let (environment, version) = ("production".to_owned(), "2.3.9".to_owned());
            match group {
                Some(group) => Event::Errors {
                    minute,
                    service,
                    environment,
                    version,
                    group,
                    count,
                },
                None => Event::Requests {
                    minute,
                    service,
                    environment,
                    version,
                    count,
                },
            }
        };
        flags.extend(detector.push(&of(None, dice.poisson(200.0 * busy))));
        for error in 0..12_u32 {
            let count = dice.poisson(0.02 * f64::from(1 << error.min(6)) * busy);
            if count > 0 {
                flags.extend(detector.push(&of(Some(format!("g{error}")), count)));
            }
        }
    }
    flags.retain(|flag| flag.at >= START + 1_440);
    assert!(flags.is_empty(), "{flags:?}");
    let said: Vec<_> = detector
        .disturbed()
        .filter(|(_, _, of)| matches!(of.measured, Measured::Times(_)))
        .collect();
    assert!(said.is_empty(), "{said:?}");
}

#[test]
fn of_reports_that_come_and_go_a_bounded_number_is_remembered() {
    let mut detector = Detector::default();
    for minute in 0..4_000_i64 {
        let (service, environment, version) = ("fares".to_owned(), "production".to_owned(), "2.3.9".to_owned());
        if minute % 20 < 12 {
            drop(detector.push(&Event::Requests {
                minute: time(minute),
                service,
                environment,
                version,
                count: 100,
            }));
        }
    }
    let remembered = detector.disturbed().count();
    assert!((60..=66).contains(&remembered), "{remembered}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whatever is reported, exposures stay finite: every flag has numbers.
    #[test]
    fn counts_of_any_kind_leave_numbers_that_can_be_said(
        counts in proptest::collection::vec((0..4_u8, 0..100_000_u64), 200..600),
    ) {
        let mut detector = Detector::default();
        let mut flags = vec![];
        for (minute, (kind, count)) in (0..).zip(&counts) {
            let (at, service, environment) = (time(minute * 7), "fares".to_owned(), "production".to_owned());
            let version = format!("2.{}.0", minute / 150);
            let event = match kind {
                0 => Event::Deploy { at, service, environment, version, share: Some(0.1), ended_at: None },
                1 => Event::Errors { minute: at, service, environment, version, group: format!("g{}", count % 7),
                    count: *count },
                _ => Event::Requests { minute: at, service, environment, version, count: *count },
            };
            flags.extend(detector.push(&event));
        }
        flags.extend(detector.finish());
        let is_sane = |flag: &FlagLine| flag.expected.is_finite() && flag.expected >= 0.0 && flag.evidence.is_finite();
        prop_assert!(flags.iter().all(is_sane), "{flags:?}");
    }
}

/// One fleet of some of the conditions; `bench conditions` measures all of them over many.
#[test]
fn simulated_fleets_are_flagged_rightly() {
    let mut score = Score::default();
    let conditions = [
        Condition::Calm,
        Condition::CountsMissing,
        Condition::CountsThinned,
        Condition::CountsInLumps,
        Condition::ErrorsMissing,
    ];
    for (condition, seed) in conditions.into_iter().zip(500..) {
        let fleet = Fleet::new(condition, seed);
        let mut detector = Detector::default();
        let mut flags: Vec<_> = fleet.events.iter().flat_map(|event| detector.push(event)).collect();
        flags.extend(detector.finish());
        score.add(&fleet, &flags);
    }
    // The aims, with what chance makes of five fleets.
    let (asked, found): (u64, u64) = (score.asked.iter().sum(), score.found.iter().sum());
    assert!(
        asked > 150 && score.silent > 100,
        "{asked} changes, {} silent deploys",
        score.silent
    );
    assert!(
        score.wrong * 10 <= found,
        "{} wrong, {found} found: {:#?}",
        score.wrong,
        score.notes
    );
    assert!(score.wrong_of_silent * 25 <= score.silent, "{:#?}", score.notes);
    assert!(score.found[0] * 25 >= score.by_reader[0] * 24, "{score:#?}");
    assert!(
        (score.found[1] + score.found[2]) * 6 >= (score.by_reader[1] + score.by_reader[2]) * 5,
        "{score:#?}"
    );
}
