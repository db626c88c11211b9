//! Flags: processor time per minute of data, at many services and errors.

use chrono::{DateTime, Utc};
use outcrop_core::deploy::{Detector, Event};

use crate::processor;

/// The aim: seconds of processor time per minute of data, at the usual size.
const AIM_S: f64 = 1.0;
/// Minutes that are learnt first: a day and an hour.
const LEARNT: i64 = 1_500;
/// 2026-11-02T00:00Z, in minutes.
const START: i64 = 29_366_640;

/// A number that looks random and is the same in every run.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1_u64 << 53) as f64
    }
}

pub fn run(services: u32, errors: u32, minutes: i64) {
    let mut detector = Detector::default();
    let mut chance = Chance(7);
    let per_service = errors.div_ceil(services.max(1));
    // A few errors are busy, most are rare: from one in a week to some a minute.
    let rates: Vec<f64> = (0..errors).map(|_| 10_f64.powf(-4.0 + 4.4 * chance.next())).collect();
    let mut events = 0_u64;
    let mut begun = 0.0;
    let mut flags = 0;
    for minute in 0..LEARNT + minutes {
        if minute == LEARNT {
            (events, flags, begun) = (0, 0, processor::micros(std::process::id()));
        }
        let at: DateTime<Utc> = DateTime::from_timestamp((START + minute) * 60, 0).expect("a time of this century");
        for service in 0..services {
            let (name, environment, version) = (format!("s{service}"), "production".to_owned(), "1.0.0".to_owned());
            let requests = Event::Requests {
                minute: at,
                service: name.clone(),
                environment: environment.clone(),
                version: version.clone(),
                count: 600,
            };
            flags += detector.push(&requests).len();
            events += 1;
            for error in 0..per_service {
                let Some(rate) = rates.get((service * per_service + error) as usize) else {
                    break;
                };
                let count = (0..3).filter(|_| chance.next() < rate / 3.0).count() as u64;
                if count > 0 {
                    let group = format!("g{error}");
                    let occurred = Event::Errors {
                        minute: at,
                        service: name.clone(),
                        environment: environment.clone(),
                        version: version.clone(),
                        group,
                        count,
                    };
                    flags += detector.push(&occurred).len();
                    events += 1;
                }
            }
        }
    }
    let per_minute = (processor::micros(std::process::id()) - begun) / 1e6 / minutes as f64;
    println!(
        "{services} services, {errors} errors, {} events a minute, {flags} flags in {minutes} minutes",
        events / minutes.unsigned_abs()
    );
    println!(
        "processor time per minute of data: {:.0} ms   {:.2} of the aim ({AIM_S} s)",
        per_minute * 1_000.0,
        per_minute / AIM_S
    );
}
