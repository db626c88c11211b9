//! The error rates that a deploy's answer states, held on simulated services: harmless deploys
//! flagged in fewer than 1 of 100, harmful ones called clear in fewer than 1 of 20.

#![expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "numbers of requests in a simulation are small"
)]

use outcrop_core::deploy::{Judged, Outcome, Side, VersionFacts, Watched, judge, judge_endpoint};
use rstest::rstest;

use crate::dice::Dice;

impl Dice {
    fn normal(&mut self) -> f64 {
        (-2.0 * (self.next() + 1e-12).ln()).sqrt() * (std::f64::consts::TAU * self.next()).cos()
    }

    /// So many of a number as have a chance.
    fn of(&mut self, number: u64, chance: f64) -> u64 {
        if number > 200 {
            let (mean, spread) = (number as f64 * chance, (number as f64 * chance * (1.0 - chance)).sqrt());
            return (mean + spread * self.normal()).round().clamp(0.0, number as f64) as u64;
        }
        (0..number).filter(|_| self.next() < chance).count() as u64
    }

    fn about(&mut self, mean: f64) -> u64 {
        let whole = mean.floor() as u64 * 4 + 4;
        self.of(whole, (mean / whole as f64).min(1.0))
    }
}

/// How a service is.
#[derive(Clone, Copy)]
struct Service {
    /// Requests a minute.
    requests: f64,
    /// The share of them that the deployed version takes at a minute since the deploy.
    share: fn(u64) -> f64,
    /// How often a minute begins an outage of ten minutes in which a third of all requests fail, of whichever version.
    outages: f64,
    /// The standard deviation of the logarithm of how long requests take.
    spread: f64,
    /// For how many minutes it is known at the deploy.
    known: u64,
}

/// A day: what a deploy is held against at most.
const DAY: u64 = 1_440;

const QUIET: Service = Service {
    requests: 4.0,
    share: |_| 1.0,
    outages: 0.0,
    spread: 0.6,
    known: DAY,
};
const BUSY: Service = Service {
    requests: 240.0,
    share: |_| 1.0,
    outages: 0.0,
    spread: 0.6,
    known: DAY,
};
/// Eight outages a day: nobody can know of the first one.
const BURSTY: Service = Service {
    requests: 120.0,
    share: |_| 1.0,
    outages: 1.0 / 180.0,
    spread: 1.0,
    known: DAY,
};
const CANARY: Service = Service {
    requests: 1_200.0,
    share: |_| 0.01,
    outages: 1.0 / 720.0,
    spread: 0.6,
    known: DAY,
};
const ROLLING: Service = Service {
    requests: 120.0,
    share: |minute| (minute as f64 / 20.0).min(1.0),
    outages: 0.0,
    spread: 0.6,
    known: DAY,
};

/// Deployed ten minutes after its first request.
const NEWBORN: Service = Service { known: 10, ..ROLLING };
/// Deployed two hours after its first request.
const YOUNG: Service = Service { known: 120, ..ROLLING };
/// Young, and with few requests.
const YOUNG_QUIET: Service = Service { known: 120, ..QUIET };

/// What a deploy does.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Does {
    Nothing,
    /// Failures double, and are a percentage point more at least.
    Fails,
    /// The requests of the busiest endpoint take half as long again.
    Slows,
}

/// Five endpoints: their share of the requests, the share that fails, and the median in microseconds.
const ENDPOINTS: [(f64, f64, f64); 5] = [
    (0.5, 0.02, 80_000.0),
    (0.25, 0.001, 200_000.0),
    (0.15, 0.08, 60_000.0),
    (0.08, 0.0, 150_000.0),
    (0.02, 0.01, 90_000.0),
];

struct Simulated {
    dice: Dice,
    service: Service,
    does: Does,
    outage: u64,
    sides: Vec<(Side, Side, (u64, u64))>,
    /// All requests of the day before.
    whole: Side,
}

impl Simulated {
    fn new(service: Service, does: Does, seed: u64) -> Self {
        let mut this = Self {
            dice: Dice(seed),
            service,
            does,
            outage: 0,
            sides: vec![Default::default(); ENDPOINTS.len()],
            whole: Side::default(),
        };
        for _ in 0..service.known / 10 {
            let mut counts = [(0, 0); 5];
            for _ in 0..10 {
                this.outages();
                for (at, (share, fails, _)) in ENDPOINTS.iter().enumerate() {
                    let requests = this.dice.about(service.requests * share);
                    let failed = this.failures(requests, *fails);
                    counts[at] = (counts[at].0 + requests, counts[at].1 + failed);
                }
            }
            let sum = counts
                .iter()
                .fold((0, 0), |sum, count| (sum.0 + count.0, sum.1 + count.1));
            (this.whole.requests, this.whole.failed) = (this.whole.requests + sum.0, this.whole.failed + sum.1);
            this.whole.scatter.add(sum.0, sum.1);
            for (at, (requests, failed)) in counts.into_iter().enumerate() {
                let before = &mut this.sides[at].0;
                before.requests += requests;
                before.failed += failed;
                before.scatter.add(requests, failed);
            }
        }
        for at in 0..ENDPOINTS.len() {
            // As many as are drawn stand for all.
            let drawn = this.sides[at].0.requests.min(20_000);
            for _ in 0..drawn {
                let took = this.took(at, 1.0);
                this.sides[at].0.latency.add(took);
            }
        }
        this
    }

    fn outages(&mut self) {
        self.outage = self.outage.saturating_sub(1);
        if self.dice.next() < self.service.outages {
            self.outage = 10;
        }
    }

    fn failures(&mut self, requests: u64, fails: f64) -> u64 {
        let chance = if self.outage > 0 { fails.max(0.33) } else { fails };
        self.dice.of(requests, chance)
    }

    fn took(&mut self, at: usize, factor: f64) -> u64 {
        (ENDPOINTS[at].2 * factor * (self.service.spread * self.dice.normal()).exp()) as u64
    }

    fn minute(&mut self, minute: u64) {
        self.outages();
        let part = (self.service.share)(minute);
        for (at, (share, fails, _)) in ENDPOINTS.iter().enumerate() {
            let requests = self.dice.about(self.service.requests * share * part);
            let now = if self.does == Does::Fails {
                (2.0 * fails).max(fails + 0.015)
            } else {
                *fails
            };
            let failed = self.failures(requests, now);
            let others = self.dice.about(self.service.requests * share * (1.0 - part));
            let others_failed = self.failures(others, *fails);
            let factor = if self.does == Does::Slows && at == 0 { 1.5 } else { 1.0 };
            let drawn: Vec<u64> = (0..requests).map(|_| self.took(at, factor)).collect();
            let (_, after, beside) = &mut self.sides[at];
            after.requests += requests;
            after.failed += failed;
            for took in drawn {
                after.latency.add(took);
            }
            *beside = (beside.0 + others, beside.1 + others_failed);
        }
    }

    fn answer(&self, minute: i64) -> Outcome {
        let (mut after, mut beside) = (Side::default(), (0, 0));
        for (_, other, others) in &self.sides {
            (after.requests, after.failed) = (after.requests + other.requests, after.failed + other.failed);
            beside = (beside.0 + others.0, beside.1 + others.1);
        }
        let tests = 2 * self.sides.len() + 1;
        let whole = judge_endpoint(
            &Watched {
                before: &self.whole,
                after: &after,
                beside,
                minutes: minute,
            },
            tests,
        );
        let endpoints: Vec<(f64, Judged)> = self
            .sides
            .iter()
            .map(|(before, after, beside)| {
                let judged = judge_endpoint(
                    &Watched {
                        before,
                        after,
                        beside: *beside,
                        minutes: minute,
                    },
                    tests,
                );
                (
                    after.requests as f64 / self.sides.iter().map(|side| side.1.requests).sum::<u64>().max(1) as f64,
                    judged,
                )
            })
            .collect();
        judge(&VersionFacts {
            flags: 0,
            minutes: minute,
            known_minutes: minute + i64::try_from(self.service.known).unwrap(),
            version: &whole,
            endpoints: &endpoints,
            has_requests: true,
        })
    }
}

/// Asks each minute, as `--wait` does, until something is said or so many minutes have passed.
fn first_answer(
    service: Service,
    does: Does,
    minutes: u64,
    seed: u64,
    ends: impl Fn(Outcome) -> bool,
) -> Option<Outcome> {
    let mut simulated = Simulated::new(service, does, seed);
    for minute in 1..=minutes {
        simulated.minute(minute);
        let answer = simulated.answer(i64::try_from(minute).unwrap());
        if ends(answer) {
            return Some(answer);
        }
    }
    None
}

/// How many times as many services are simulated: `OUTCROP_RUNS`, 1 where it is not set.
fn times() -> u64 {
    std::env::var("OUTCROP_RUNS")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(1)
}

/// The largest number of so many that comes by a chance in more than 1 of 1,000 runs.
fn at_most(of: u64, chance: f64) -> u64 {
    let mean = of as f64 * chance;
    (mean + 3.1 * mean.sqrt()).ceil() as u64
}

#[rstest]
#[case::quiet(QUIET, 240)]
#[case::busy(BUSY, 20)]
#[case::bursty(BURSTY, 60)]
#[case::canary(CANARY, 60)]
#[case::rolling(ROLLING, 60)]
#[case::newborn(NEWBORN, 120)]
#[case::young(YOUNG, 120)]
#[case::young_quiet(YOUNG_QUIET, 240)]
fn a_harmless_deploy_is_flagged_in_fewer_than_one_of_a_hundred(#[case] service: Service, #[case] minutes: u64) {
    let runs = 150 * times();
    let flagged = (0..runs)
        .filter(|seed| {
            first_answer(service, Does::Nothing, minutes, seed * 7 + 1, |answer| {
                answer == Outcome::Flagged
            })
            .is_some()
        })
        .count() as u64;
    eprintln!("harmless: {flagged} flagged of {runs}");
    assert!(flagged <= at_most(runs, 0.01), "{flagged} of {runs}");
}

#[rstest]
#[case::quiet_fails(QUIET, Does::Fails, 600)]
#[case::busy_fails(BUSY, Does::Fails, 60)]
#[case::bursty_fails(BURSTY, Does::Fails, 240)]
#[case::canary_fails(CANARY, Does::Fails, 240)]
#[case::rolling_fails(ROLLING, Does::Fails, 120)]
#[case::busy_slows(BUSY, Does::Slows, 60)]
#[case::bursty_slows(BURSTY, Does::Slows, 240)]
#[case::rolling_slows(ROLLING, Does::Slows, 120)]
#[case::newborn_fails(NEWBORN, Does::Fails, 240)]
#[case::newborn_slows(NEWBORN, Does::Slows, 240)]
#[case::young_fails(YOUNG, Does::Fails, 240)]
#[case::young_slows(YOUNG, Does::Slows, 240)]
#[case::young_quiet_fails(YOUNG_QUIET, Does::Fails, 600)]
fn a_harmful_deploy_is_called_clear_in_fewer_than_one_of_twenty(
    #[case] service: Service,
    #[case] does: Does,
    #[case] minutes: u64,
) {
    let runs = 60 * times();
    let mut outcomes = (0, 0, 0);
    for seed in 0..runs {
        match first_answer(service, does, minutes, seed * 13 + 5, |answer| {
            matches!(answer, Outcome::Flagged | Outcome::Clear)
        }) {
            Some(Outcome::Flagged) => outcomes.0 += 1,
            Some(_) => outcomes.1 += 1,
            None => outcomes.2 += 1,
        }
    }
    let (flagged, clear, early) = outcomes;
    eprintln!("{does:?}: {flagged} flagged, {clear} clear, {early} too early of {runs}");
    assert!(
        clear <= at_most(runs, 0.05),
        "{clear} of {runs} were called clear ({early} too early)"
    );
}

#[rstest]
#[case::busy(BUSY, 30)]
#[case::rolling(ROLLING, 240)]
fn a_harmless_deploy_of_enough_requests_is_called_clear_in_time(#[case] service: Service, #[case] minutes: u64) {
    let clear = (0..60)
        .filter(|seed| {
            first_answer(service, Does::Nothing, minutes, seed * 3 + 2, |answer| {
                answer != Outcome::TooEarly(5) && !matches!(answer, Outcome::TooFew(_))
            }) == Some(Outcome::Clear)
        })
        .count();
    assert!(clear >= 55, "{clear} of 60 are clear within {minutes} minutes");
}

/// A place that is not known for half an hour is never called clear, whatever comes.
#[test]
fn a_deploy_of_a_service_of_ten_minutes_is_called_clear_after_half_an_hour_at_the_earliest() {
    for seed in 0..20 {
        let clear = first_answer(NEWBORN, Does::Nothing, 19, seed, |answer| answer == Outcome::Clear);
        assert_eq!(clear, None, "seed {seed}");
    }
}
