//! What changes in a fleet: surges, new errors, errors that return.

use outcrop_core::deploy::FlagKind;
use rand::Rng as _;

use crate::fleet::rates::{Rate, Way, exponential, log_uniform, to_float};
use crate::fleet::simulated::{APART, Deploy, FACTORS, How, Planned, Service, WINDOW, World};
use crate::fleet::truth::{Difficulty, evidence};
use crate::fleet::{At, Condition, DAY, LEARNT};

impl World {
    /// Three errors that come and go by themselves.
    pub(super) fn flap(&mut self, service: &mut Service) {
        let usable: Vec<usize> = (0..service.rates.len())
            .filter(|at| (0.02..2.0).contains(&service.rates[*at].usual))
            .collect();
        for at in usable.into_iter().take(3) {
            let rate = &mut service.rates[at];
            rate.is_used = true;
            let times = self.chance.random_range(4.0..15.0);
            let mut minute = 0;
            while minute < self.minutes {
                let (off, on) = (self.chance.random_range(30..120), self.chance.random_range(20..60));
                rate.factors.push((minute + off, minute + off + on, times));
                minute += off + on;
            }
        }
    }

    pub(super) fn deploys(&mut self) -> Vec<Deploy> {
        let mut deploys: Vec<Deploy> = vec![];
        let per_day = self.chance.random_range(1.5..4.0);
        let (rolling, canary) = self.condition.deploy_kinds();
        let mut at = LEARNT / 2;
        loop {
            #[expect(clippy::cast_possible_truncation, reason = "minutes of some days")]
            let pause = exponential(&mut self.chance, per_day / to_float(DAY - APART)) as At;
            at += APART + pause;
            if at > self.minutes - 75 {
                return deploys;
            }
            let kind = self.chance.random::<f64>();
            let how = if kind < canary {
                let (share, length) = self.condition.canary(&mut self.chance);
                let length = length.min(self.minutes - at - 5);
                at += length;
                deploys.push(Deploy {
                    at: at - length,
                    how: How::Canary(share, length, self.chance.random_bool(0.6)),
                    is_changed: false,
                    is_used: false,
                    sets: vec![],
                });
                continue;
            } else if kind < canary + rolling {
                How::Rolling(self.chance.random_range(10..30))
            } else {
                How::Rolling(self.chance.random_range(0..3))
            };
            deploys.push(Deploy {
                at,
                how,
                is_changed: false,
                is_used: false,
                sets: vec![],
            });
        }
    }

    /// An unused deploy that counts.
    pub(super) fn free_deploy(&mut self, service: &Service) -> Option<usize> {
        let free: Vec<usize> = (0..service.deploys.len())
            .filter(|at| !service.deploys[*at].is_used && service.deploys[*at].at >= LEARNT)
            .collect();
        (!free.is_empty()).then(|| free[self.chance.random_range(0..free.len())])
    }

    /// A minute that no deploy is near, for an outage of so many minutes.
    pub(super) fn quiet_minute(&mut self, service: &Service, length: At) -> Option<At> {
        (0..60).find_map(|_| {
            let at = self.chance.random_range(LEARNT + 10..self.minutes - length - 60);
            service
                .deploys
                .iter()
                .all(|deploy| !(deploy.at - 100..deploy.at + 130).contains(&at))
                .then_some(at)
        })
    }

    /// The share of the requests that a deploy's version has in each minute of a window.
    pub(super) fn profile(deploy: Option<&Deploy>) -> Vec<f64> {
        (0..WINDOW)
            .map(|minute| match deploy.map(|deploy| deploy.how) {
                None => 1.0,
                Some(How::Rolling(over)) => ((to_float(minute) + 1.0) / (to_float(over) + 1.0)).min(1.0),
                Some(How::Canary(share, length, _)) if minute < length => share,
                Some(How::Canary(_, _, is_promoted)) => f64::from(u8::from(is_promoted)),
            })
            .collect()
    }

    /// An error that may surge from a minute on, with its factor: as plain as is wished, where one is found.
    pub(super) fn pick(
        &mut self,
        service: &Service,
        from: At,
        deploy: Option<usize>,
        length: At,
    ) -> Option<(usize, f64)> {
        let profile = Self::profile(deploy.map(|at| &service.deploys[at]));
        let wanted = [Difficulty::Easy, Difficulty::Medium, Difficulty::Hard][self.chance.random_range(0..3)];
        let usable: Vec<usize> = (0..service.rates.len())
            .filter(|at| {
                !service.rates[*at].is_used && service.rates[*at].usual > 5e-4 && service.rates[*at].way == Way::Follows
            })
            .collect();
        if usable.is_empty() {
            return None;
        }
        let mut second = None;
        for _ in 0..150 {
            let at = usable[self.chance.random_range(0..usable.len())];
            let factor = FACTORS[self.chance.random_range(0..FACTORS.len())] * self.chance.random_range(0.92..1.08);
            let rate = &service.rates[at];
            let minutes = length.min(WINDOW).min(self.minutes - from);
            let usual: f64 = (from..from + minutes)
                .zip(&profile)
                .map(|(minute, share)| rate.usual_at(minute, service.busy(minute)) * share)
                .sum();
            let difficulty = Difficulty::of(evidence(usual * factor, usual, rate.scatter(usual, minutes)));
            if difficulty == wanted {
                return Some((at, factor));
            }
            if difficulty != Difficulty::Beyond {
                second = second.or(Some((at, factor)));
            }
        }
        second
    }

    /// A surge that comes with a deploy.
    pub(super) fn surge_by_deploy(&mut self, service: &mut Service, deploy: usize) {
        let from = service.deploys[deploy].at;
        let Some((rate, factor)) = self.pick(service, from, Some(deploy), WINDOW) else {
            return;
        };
        service.rates[rate].is_used = true;
        let of = &mut service.deploys[deploy];
        (of.is_used, of.is_changed) = (true, true);
        of.sets.push((rate, factor));
        service.planned.push(Planned {
            flag: FlagKind::Surging,
            rate,
            deploy: Some(deploy),
            from,
            until: self.minutes,
        });
    }

    /// Errors that surge for a time, in every version.
    pub(super) fn surge_for(&mut self, service: &mut Service, from: At, length: At, errors: usize) {
        for _ in 0..errors {
            let Some((rate, factor)) = self.pick(service, from, None, length) else {
                return;
            };
            service.rates[rate].is_used = true;
            service.rates[rate].factors.push((from, from + length, factor));
            service.planned.push(Planned {
                flag: FlagKind::Surging,
                rate,
                deploy: None,
                from,
                until: from + length,
            });
        }
    }

    pub(super) fn new_error(&mut self, service: &mut Service, deploy: usize) {
        let from = service.deploys[deploy].at;
        let group = format!("new{}", service.rates.len());
        let mut rate = Rate::new(&mut self.chance, group);
        let range = if self.chance.random_bool(0.5) {
            (0.03, 0.25)
        } else {
            (0.4, 30.0)
        };
        (rate.usual, rate.way, rate.is_used) = (log_uniform(&mut self.chance, range), Way::Follows, true);
        rate.by_version = vec![0.0];
        service.rates.push(rate);
        let at = service.rates.len() - 1;
        let of = &mut service.deploys[deploy];
        (of.is_used, of.is_changed) = (true, true);
        of.sets.push((at, 1.0));
        service.planned.push(Planned {
            flag: FlagKind::New,
            rate: at,
            deploy: Some(deploy),
            from,
            until: self.minutes,
        });
    }

    /// An error that one deploy settles and a later one brings back.
    pub(super) fn returning(&mut self, service: &mut Service) {
        let free: Vec<usize> = (0..service.deploys.len())
            .filter(|at| {
                let deploy = &service.deploys[*at];
                !deploy.is_used && deploy.at >= LEARNT && matches!(deploy.how, How::Rolling(_))
            })
            .collect();
        let usable = service
            .rates
            .iter()
            .position(|rate| !rate.is_used && rate.usual > 0.01 && rate.way == Way::Follows);
        let ([first, .., last], Some(rate)) = (free.as_slice(), usable) else {
            return;
        };
        service.rates[rate].is_used = true;
        service.deploys[*first].sets.push((rate, 0.0));
        service.deploys[*last].sets.push((rate, 1.0));
        (
            service.deploys[*first].is_used,
            service.deploys[*last].is_used,
            service.deploys[*last].is_changed,
        ) = (true, true, true);
        let (settled, from) = (service.deploys[*first].at + 40, service.deploys[*last].at);
        service.settled.push((settled, rate, *first));
        service.planned.push(Planned {
            flag: FlagKind::Returned,
            rate,
            deploy: Some(*last),
            from,
            until: self.minutes,
        });
    }

    /// What happens to a service.
    pub(super) fn plan(&mut self, service: &mut Service) {
        if self.condition == Condition::DeploysInOutages {
            self.deploys_in_outages(service);
        }
        if self.condition == Condition::Hundreds && self.chance.random_bool(0.5) {
            self.rise_together(service);
        }
        let surges = 2 * usize::try_from(self.condition.days() - 1).expect("days");
        for _ in 0..surges {
            match self.chance.random_range(0..10) {
                0 => {
                    if let Some(deploy) = self.free_deploy(service) {
                        self.new_error(service, deploy);
                    }
                }
                1 => self.returning(service),
                2..=4 => {
                    let length = self.chance.random_range(15..90);
                    let errors = self.chance.random_range(1..=3);
                    if let Some(from) = self.quiet_minute(service, length) {
                        self.surge_for(service, from, length, errors);
                    }
                }
                // A third of the deploys bring harm, no more.
                _ => {
                    let used = service.deploys.iter().filter(|deploy| deploy.is_used).count();
                    if let Some(deploy) = self.free_deploy(service).filter(|_| used * 3 < service.deploys.len()) {
                        self.surge_by_deploy(service, deploy);
                    }
                }
            }
        }
    }

    /// Deploys that change nothing while a dependency is out, and some a few minutes apart.
    pub(super) fn deploys_in_outages(&mut self, service: &mut Service) {
        for _ in 0..self.condition.days() - 1 {
            let length = self.chance.random_range(30..90);
            let Some(from) = self.quiet_minute(service, length) else {
                continue;
            };
            let errors = self.chance.random_range(1..=4);
            self.surge_for(service, from, length, errors);
            service.deploys.push(Deploy {
                at: from + self.chance.random_range(3..length),
                how: How::Rolling(1),
                is_changed: false,
                is_used: true,
                sets: vec![],
            });
            service.deploys.sort_by_key(|deploy| deploy.at);
            // The deploys that were planned for know their places by number: none was planned for yet.
        }
        let Some(first) = self.free_deploy(service).map(|at| service.deploys[at].at) else {
            return;
        };
        for further in 1..=3 {
            let at = first + further * self.chance.random_range(5..11);
            service.deploys.push(Deploy {
                at,
                how: How::Rolling(0),
                is_changed: false,
                is_used: false,
                sets: vec![],
            });
        }
        service.deploys.sort_by_key(|deploy| deploy.at);
        service.deploys.dedup_by_key(|deploy| deploy.at);
    }

    /// A hundred errors of a service rise at once, each by its own factor.
    pub(super) fn rise_together(&mut self, service: &mut Service) {
        let length = self.chance.random_range(30..120);
        let Some(from) = self.quiet_minute(service, length) else {
            return;
        };
        let usable: Vec<usize> = (0..service.rates.len())
            .filter(|at| service.rates[*at].way == Way::Follows)
            .collect();
        for rate in usable.into_iter().filter(|at| at % 3 != 0) {
            let factor = log_uniform(&mut self.chance, (1.5, 10.0));
            service.rates[rate].is_used = true;
            service.rates[rate].factors.push((from, from + length, factor));
            service.planned.push(Planned {
                flag: FlagKind::Surging,
                rate,
                deploy: None,
                from,
                until: from + length,
            });
        }
    }

    /// Deploys of one service make errors of another rise for an hour or two.
    pub(super) fn harm_elsewhere(&mut self, services: &mut [Service]) {
        for at in 0..services.len() {
            let Some(deploy) = self.free_deploy(&services[at]) else {
                continue;
            };
            let of = &mut services[at].deploys[deploy];
            (of.is_used, of.is_changed) = (true, true);
            let (from, length) = (of.at, self.chance.random_range(40..120));
            let other = (at + 1) % services.len();
            if from + length < self.minutes - 60 {
                let errors = self.chance.random_range(1..=3);
                self.surge_for(&mut services[other], from, length, errors);
            }
        }
    }
}
