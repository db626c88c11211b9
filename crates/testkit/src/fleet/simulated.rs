//! A fleet of six services over some days.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::deploy::{Event, FlagKind};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::rates::{Rate, Way, activity, exponential, log_uniform, poisson, to_float};
use super::reports::{Counts, sampled, stretches};
use super::truth::{Change, Difficulty, READER, Silent, evidence};
use super::{At, Condition, DAY, LEARNT, START, reports};

const SERVICES: [&str; 6] = ["fares", "berths", "ledger", "harbour", "gangway", "tides"];
const ENVIRONMENT: &str = "production";
/// Minutes in which a surge is to be found.
pub(super) const WINDOW: At = 60;
/// Minutes between the deploys of a service, at least.
pub(super) const APART: At = 135;
/// By how many times surges rise, give or take a twelfth.
pub(super) const FACTORS: [f64; 4] = [1.5, 2.0, 4.0, 20.0];

/// Some days of six services, and what is true of them.
#[derive(Clone, Debug)]
pub struct Fleet {
    /// What is reported, in order of time: within a minute deploys and states, then requests, then errors.
    pub events: Vec<Event>,
    /// What changed, from the second day on.
    pub changes: Vec<Change>,
    /// The deploys that changed nothing, from the second day on.
    pub silent: Vec<Silent>,
    /// Stretches in which what is reported was disturbed: the service, the first minute, the one
    /// after the last, how strongly.
    pub disturbed: Vec<(String, At, At, f64)>,
    /// The minute from which on flags count.
    pub scored_from: At,
}

impl Fleet {
    /// Simulates one: the same condition and seed give the same fleet.
    #[must_use]
    pub fn new(condition: Condition, seed: u64) -> Self {
        let mut world = World {
            chance: ChaCha8Rng::seed_from_u64(seed ^ ((condition as u64 + 1) << 40)),
            condition,
            minutes: condition.days() * DAY,
            changes: vec![],
            silent: vec![],
            events: vec![],
            disturbed: vec![],
        };
        let mut services: Vec<Service> = SERVICES.iter().map(|name| world.service(name)).collect();
        for service in &mut services {
            world.plan(service);
        }
        if condition == Condition::HarmElsewhere {
            world.harm_elsewhere(&mut services);
        }
        for service in &services {
            world.tell(service);
        }
        world.events.sort_by_key(|event| (event.minute(), rank(event)));
        Self {
            events: world.events,
            changes: world.changes,
            silent: world.silent,
            disturbed: world.disturbed,
            scored_from: START + LEARNT,
        }
    }
}

fn rank(event: &Event) -> u8 {
    match event {
        Event::Deploy { .. } | Event::State { .. } => 0,
        Event::Requests { .. } => 1,
        Event::Errors { .. } => 2,
    }
}

fn time(at: At) -> DateTime<Utc> {
    DateTime::from_timestamp((START + at) * 60, 0).expect("a time of this century")
}

/// How a version is put in.
#[derive(Clone, Copy, Debug)]
pub(super) enum How {
    /// Over so many minutes.
    Rolling(At),
    /// Beside the other for so many minutes, with a share; promoted then, or not.
    Canary(f64, At, bool),
}

#[derive(Clone, Debug)]
pub(super) struct Deploy {
    pub(super) at: At,
    pub(super) how: How,
    pub(super) is_changed: bool,
    /// Whether something is planned for it, or it must stay as it is.
    pub(super) is_used: bool,
    /// Factors of errors that it brings.
    pub(super) sets: Vec<(usize, f64)>,
}

/// A change that is planned: the error, and the deploy it comes with or the minutes it lasts.
#[derive(Clone, Copy, Debug)]
pub(super) struct Planned {
    pub(super) flag: FlagKind,
    pub(super) rate: usize,
    pub(super) deploy: Option<usize>,
    pub(super) from: At,
    pub(super) until: At,
}

pub(super) struct Service {
    pub(super) name: String,
    pub(super) requests: f64,
    pub(super) is_reported: bool,
    pub(super) activity: Vec<f64>,
    pub(super) rates: Vec<Rate>,
    pub(super) deploys: Vec<Deploy>,
    pub(super) planned: Vec<Planned>,
    /// Errors that are settled at a minute in the version of a deploy.
    pub(super) settled: Vec<(At, usize, usize)>,
}

pub(super) struct World {
    pub(super) chance: ChaCha8Rng,
    pub(super) condition: Condition,
    pub(super) minutes: At,
    pub(super) changes: Vec<Change>,
    pub(super) silent: Vec<Silent>,
    pub(super) events: Vec<Event>,
    pub(super) disturbed: Vec<(String, At, At, f64)>,
}

impl World {
    fn service(&mut self, name: &str) -> Service {
        let chance = &mut self.chance;
        let holiday = (self.condition == Condition::Week).then_some(8);
        let mut busy = activity(chance, self.minutes, holiday);
        if self.condition == Condition::TrafficJumps {
            let mut at = 0;
            loop {
                #[expect(clippy::cast_possible_truncation, reason = "minutes of some days")]
                let pause = exponential(chance, 1.0 / to_float(DAY)) as At;
                at += pause + 60;
                let length = chance.random_range(30..300);
                if at + length >= self.minutes {
                    break;
                }
                let times = if chance.random_bool(0.5) {
                    chance.random_range(0.05..0.5)
                } else {
                    chance.random_range(2.0..6.0)
                };
                for minute in at..at + length {
                    busy[usize::try_from(minute).expect("a minute")] *= times;
                }
                at += length;
            }
        }
        let (least, most) = self.condition.errors();
        let number = chance.random_range(least..=most);
        let mut rates: Vec<Rate> = (0..number).map(|at| Rate::new(chance, format!("g{at}"))).collect();
        if self.condition == Condition::Drift {
            for rate in &mut rates {
                let height = chance.random_range(0.1..0.35);
                rate.drift = Some((
                    chance.random_range(1.0..3.0),
                    height,
                    chance.random_range(0.0..std::f64::consts::TAU),
                ));
            }
        }
        let is_reported = !chance.random_bool(self.condition.silent_services());
        let requests = log_uniform(chance, (20.0, 4_000.0));
        let mut service = Service {
            name: name.to_owned(),
            requests,
            is_reported,
            activity: busy,
            rates,
            deploys: vec![],
            planned: vec![],
            settled: vec![],
        };
        let moves = if self.condition == Condition::JobsMove { 180 } else { 0 };
        for job in 0..self.chance.random_range(0..=1) + usize::from(moves > 0) {
            let mut rate = Rate::new(&mut self.chance, format!("job{job}"));
            let size = log_uniform(&mut self.chance, (40.0, 900.0));
            rate.way = Way::Nightly(self.chance.random_range(moves + 20..moves + 240), size, moves);
            rate.is_used = true;
            service.rates.push(rate);
        }
        if self.condition == Condition::Flapping {
            self.flap(&mut service);
        }
        service.deploys = self.deploys();
        service
    }

    /// Simulates what was planned, and tells what is reported of it.
    fn tell(&mut self, service: &Service) {
        let mut rates = service.rates.clone();
        let shares = service.versions(&mut rates, self.minutes);
        let mut errors: Vec<Counts> = vec![];
        for rate in &rates {
            let occurred = rate.occur(&mut self.chance, &service.activity, &shares);
            let mut counts: Counts = occurred
                .into_iter()
                .map(|(minute, version, count)| ((minute, version), count))
                .collect();
            // What is not new was there before: it occurs on the day that is learnt from.
            let is_old = rate.by_version.first().is_none_or(|factor| *factor > 0.0);
            if is_old && !counts.keys().any(|(minute, _)| *minute < LEARNT) {
                let minute = self.chance.random_range(30..LEARNT / 2);
                counts.insert((minute, 0), 1);
            }
            errors.push(counts);
        }
        let mut requests = Counts::new();
        for (minute, versions) in (0..).zip(&shares) {
            for (version, share) in versions {
                let count = poisson(&mut self.chance, service.requests * service.busy(minute) * share);
                if count > 0 {
                    requests.insert((minute, *version), count);
                }
            }
        }
        let stretches = stretches(&mut self.chance, self.condition, self.minutes);
        self.disturbed.extend(
            stretches
                .iter()
                .map(|(from, until, by)| (service.name.clone(), START + from, START + until, *by)),
        );
        // Nobody can tell of errors what was not reported of them.
        let errors: Vec<Counts> = errors
            .iter()
            .map(|counts| reports::errors(self.condition, counts, &stretches, self.minutes))
            .collect();
        self.judge(service, &rates, (&errors, &stretches), &shares);
        self.report(service, &rates, &errors, (requests, &stretches));
    }

    /// What is true of a service.
    fn judge(
        &mut self,
        service: &Service,
        rates: &[Rate],
        (errors, stretches): (&[Counts], &[(At, At, f64)]),
        shares: &[Vec<(usize, f64)>],
    ) {
        let mut unseen = vec![];
        for planned in &service.planned {
            let rate = &rates[planned.rate];
            let set = planned
                .deploy
                .and_then(|deploy| rate.by_version.get(deploy + 1).copied());
            let has = |version: usize| {
                planned
                    .deploy
                    .is_none_or(|deploy| version > deploy && rate.by_version.get(version).copied() == set)
            };
            let after = errors[planned.rate]
                .range((planned.from, 0)..)
                .filter(|((_, version), _)| has(*version));
            let mut by_minute: BTreeMap<At, u64> = BTreeMap::new();
            for ((minute, _), count) in after {
                *by_minute.entry(*minute).or_default() += count;
            }
            let began = if planned.flag == FlagKind::Surging {
                Some(planned.from)
            } else {
                by_minute.keys().next().copied()
            };
            let Some(began) = began.filter(|began| *began < self.minutes - 2) else {
                unseen.extend(planned.deploy);
                continue;
            };
            let length = WINDOW.min(planned.until - began).min(self.minutes - began);
            let (mut usual, mut seen, mut due, mut reader) = (0.0, 0.0, 0.0, None);
            for minute in began..began + length {
                let at = usize::try_from(minute).expect("a minute");
                let share: f64 = shares[at]
                    .iter()
                    .filter(|(version, _)| has(*version))
                    .map(|(_, share)| share)
                    .sum();
                let usually = rate.usual_at(minute, service.busy(minute)) * share;
                let factor: f64 = rate
                    .factors
                    .iter()
                    .filter(|(from, until, _)| (*from..*until).contains(&minute))
                    .map(|(_, _, factor)| factor)
                    .product();
                usual += usually;
                due += usually * factor * set.unwrap_or(1.0);
                #[expect(clippy::cast_precision_loss, reason = "occurrences of a minute")]
                let count = by_minute.get(&minute).copied().unwrap_or_default() as f64;
                seen += count;
                if reader.is_none() && evidence(seen, usual, rate.scatter(usual, minute + 1 - began)) >= READER {
                    reader = Some(minute - began);
                }
            }
            let is_unseen = self.condition == Condition::ErrorsMissing
                && stretches
                    .iter()
                    .any(|(from, until, _)| *from < began + length && began < *until);
            let difficulty = match planned.flag {
                _ if is_unseen => Difficulty::Beyond,
                FlagKind::Surging => Difficulty::of(evidence(due, usual, rate.scatter(usual, length))),
                _ if due * 30.0 / to_float(length) >= 5.0 => Difficulty::Easy,
                _ if due * 30.0 / to_float(length) > 1.0 => Difficulty::Medium,
                _ => Difficulty::Hard,
            };
            self.changes.push(Change {
                flag: planned.flag,
                service: service.name.clone(),
                group: rate.group.clone(),
                began: START + began,
                ended: (planned.until < self.minutes).then_some(START + planned.until),
                difficulty,
                reader: if planned.flag == FlagKind::Surging {
                    reader
                } else {
                    Some(0)
                },
            });
        }
        for (at, deploy) in service
            .deploys
            .iter()
            .enumerate()
            .filter(|(_, deploy)| deploy.at >= LEARNT)
        {
            if !deploy.is_changed || (unseen.contains(&at) && deploy.sets.len() == 1) {
                let until = service.deploys.get(at + 1).map_or(self.minutes, |next| next.at);
                self.silent.push(Silent {
                    service: service.name.clone(),
                    from: START + deploy.at,
                    until: START + until,
                });
            }
        }
    }

    /// What is reported of a service.
    fn report(
        &mut self,
        service: &Service,
        rates: &[Rate],
        errors: &[Counts],
        (mut requests, stretches): (Counts, &[(At, At, f64)]),
    ) {
        let (name, environment) = (service.name.clone(), ENVIRONMENT.to_owned());
        for (at, deploy) in service.deploys.iter().enumerate() {
            let of = |minute: At, share: Option<f64>, ended: Option<At>| Event::Deploy {
                at: time(minute),
                service: name.clone(),
                environment: environment.clone(),
                version: version(at + 1),
                share,
                ended_at: ended.map(time),
            };
            match deploy.how {
                How::Canary(share, length, is_promoted) => {
                    self.events.push(of(deploy.at, Some(share), None));
                    let end = deploy.at + length;
                    self.events.push(if is_promoted {
                        of(end, None, None)
                    } else {
                        of(deploy.at, Some(share), Some(end))
                    });
                }
                How::Rolling(_) => self.events.push(of(deploy.at, None, None)),
            }
            if self.condition == Condition::AnnouncedTwice && matches!(deploy.how, How::Rolling(_)) {
                self.events
                    .push(of(deploy.at + self.chance.random_range(0..10), None, None));
            }
        }
        for (minute, rate, deploy) in &service.settled {
            self.events.push(Event::State {
                at: time(*minute),
                service: name.clone(),
                group: rates[*rate].group.clone(),
                state: "fixed".to_owned(),
                version: version(deploy + 1),
            });
        }
        if service.is_reported {
            if self.condition == Condition::SamplingAtDeploy {
                let mut share = 1.0;
                let shares: Vec<f64> = (0..=service.deploys.len())
                    .map(|_| {
                        if self.chance.random_bool(0.35) {
                            share = [1.0, 0.5, 0.25, 0.1][self.chance.random_range(0..4)];
                        }
                        share
                    })
                    .collect();
                sampled(&mut self.chance, &mut requests, &shares);
            }
            let reported = reports::requests(&mut self.chance, self.condition, &requests, stretches, self.minutes);
            for ((minute, at), count) in reported {
                self.events.push(Event::Requests {
                    minute: time(minute),
                    service: name.clone(),
                    environment: environment.clone(),
                    version: version(at),
                    count,
                });
            }
        }
        for (rate, counts) in rates.iter().zip(errors) {
            for ((minute, at), count) in counts {
                self.events.push(Event::Errors {
                    minute: time(*minute),
                    service: name.clone(),
                    environment: environment.clone(),
                    version: version(*at),
                    group: rate.group.clone(),
                    count: *count,
                });
            }
        }
    }
}

fn version(number: usize) -> String {
    format!("3.{number}.0")
}

impl Service {
    pub(super) fn busy(&self, minute: At) -> f64 {
        usize::try_from(minute)
            .ok()
            .and_then(|at| self.activity.get(at))
            .copied()
            .unwrap_or(1.0)
    }

    /// The shares of the versions in each minute; the factors of each version are noted at the
    /// rates. Version 0 runs first, each deploy brings the next one.
    fn versions(&self, rates: &mut [Rate], minutes: At) -> Vec<Vec<(usize, f64)>> {
        let mut shares: Vec<Vec<(usize, f64)>> = vec![vec![(0, 1.0)]; usize::try_from(minutes).expect("minutes")];
        for rate in rates.iter_mut() {
            let first = rate.by_version.first().copied().unwrap_or(1.0);
            rate.by_version = vec![first; self.deploys.len() + 1];
        }
        let mut main = 0;
        for (at, deploy) in self.deploys.iter().enumerate() {
            let brought = at + 1;
            for (number, rate) in rates.iter_mut().enumerate() {
                let set = deploy
                    .sets
                    .iter()
                    .find(|(of, _)| *of == number)
                    .map(|(_, factor)| *factor);
                rate.by_version[brought] = set.unwrap_or(rate.by_version[main]);
            }
            let other = main;
            for minute in deploy.at..minutes {
                let since = minute - deploy.at;
                let share = match deploy.how {
                    How::Rolling(over) => ((to_float(since) + 1.0) / (to_float(over) + 1.0)).min(1.0),
                    How::Canary(share, length, _) if since < length => share,
                    How::Canary(_, _, is_promoted) => f64::from(u8::from(is_promoted)),
                };
                let of = [(other, 1.0 - share), (brought, share)];
                shares[usize::try_from(minute).expect("a minute")] =
                    of.into_iter().filter(|(_, share)| *share > 0.0).collect();
            }
            if !matches!(deploy.how, How::Canary(_, _, false)) {
                main = brought;
            }
        }
        shares
    }
}
