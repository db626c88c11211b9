//! Flags, minute by minute.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::asked::Asked;
use super::event::{Event, FlagKind, FlagLine, Minute};
use super::place::Place;
use crate::deploy::disturbed::Disturbed;
use crate::deploy::surge::{SETTLED, end_episodes, surge};

/// Says flags from what it is told, in order of time.
#[derive(Clone, Debug, Default)]
pub struct Detector {
    asked: Asked,
    places: BTreeMap<(String, String), Place>,
    /// Errors that people settled: service and error, with the version; empty where from then on, whatever the version.
    settled: HashMap<(String, String), String>,
    /// Which of them were said to have returned, by environment.
    returned: HashSet<(String, String, String)>,
    minute: Option<Minute>,
    /// Errors that occurred in the minute that is being read.
    touched: Vec<(String, String, String)>,
    flags: Vec<FlagLine>,
    ends: Vec<Ended>,
}

/// A surge that is over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ended {
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The error.
    pub group: String,
    /// The minute that it was said at.
    pub said: Minute,
    /// The minute from which on the usual rate holds again.
    pub at: Minute,
}

impl Detector {
    /// A detector that asks for other evidence than usual.
    #[must_use]
    pub fn asking(asked: Asked) -> Self {
        Self {
            asked,
            ..Self::default()
        }
    }

    /// Makes an error known that occurred before what will be told: it is not new.
    pub fn know(&mut self, service: &str, environment: &str, error: &str) {
        self.place(service, environment)
            .groups
            .entry(error.to_owned())
            .or_default();
    }

    /// Ends the minutes before one; returns the flags that they told of.
    pub fn finish_until(&mut self, minute: Minute) -> Vec<FlagLine> {
        self.reach(minute);
        std::mem::take(&mut self.flags)
    }

    /// Ends the minutes before one, which is the open one from then on.
    fn reach(&mut self, minute: Minute) {
        for passed in self.minute.unwrap_or(minute)..minute {
            self.close(passed);
        }
        self.minute = self.minute.max(Some(minute));
    }

    /// The surges that ended since this was asked last.
    pub fn take_ends(&mut self) -> Vec<Ended> {
        std::mem::take(&mut self.ends)
    }

    /// The times in which what services report could not be taken as it is: service and
    /// environment with each.
    pub fn disturbed(&self) -> impl Iterator<Item = (&str, &str, Disturbed)> {
        self.places.iter().flat_map(|((service, environment), place)| {
            place
                .disturbed()
                .map(move |disturbed| (service.as_str(), environment.as_str(), disturbed))
        })
    }

    /// Takes one event; returns the flags that the minutes before it told of.
    pub fn push(&mut self, event: &Event) -> Vec<FlagLine> {
        let minute = event.minute();
        self.reach(minute);
        self.take(event, minute);
        std::mem::take(&mut self.flags)
    }

    /// Ends the last minute.
    pub fn finish(&mut self) -> Vec<FlagLine> {
        if let Some(minute) = self.minute {
            self.close(minute);
        }
        std::mem::take(&mut self.flags)
    }

    fn place(&mut self, service: &str, environment: &str) -> &mut Place {
        self.places
            .entry((service.to_owned(), environment.to_owned()))
            .or_default()
    }

    fn take(&mut self, event: &Event, minute: Minute) {
        match event {
            Event::Deploy {
                ended_at: Some(_),
                service,
                environment,
                ..
            } => self.place(service, environment).traffic.end_canary(),
            Event::Deploy {
                service,
                environment,
                version,
                share,
                ..
            } => {
                let place = self.place(service, environment);
                let version = place.order.see(version);
                place.deploy(minute, version, *share);
            }
            Event::Requests {
                service,
                environment,
                version,
                count,
                ..
            } => {
                let place = self.place(service, environment);
                let version = place.order.see(version);
                #[expect(clippy::cast_precision_loss, reason = "requests of a minute")]
                place.traffic.request(version, *count as f64);
            }
            Event::Errors {
                service,
                environment,
                version,
                group,
                count,
                ..
            } => {
                self.occur(minute, (service, environment, version, group), *count);
            }
            Event::State {
                service,
                group,
                version,
                state,
                ..
            } => {
                if state == "open" {
                    self.settled.remove(&(service.clone(), group.clone()));
                } else {
                    self.settled.insert((service.clone(), group.clone()), version.clone());
                }
                self.returned.retain(|(of, error, _)| of != service || error != group);
            }
        }
    }

    fn occur(&mut self, minute: Minute, (service, environment, version, error): (&str, &str, &str, &str), count: u64) {
        let number = self.place(service, environment).order.see(version);
        let flag = self.at_once(minute, (service, environment, version, error), count);
        let place = self.place(service, environment);
        #[expect(clippy::cast_precision_loss, reason = "occurrences of a minute")]
        let occurred = count as f64;
        place.traffic.occur(number, occurred);
        place.occurred.add(minute, occurred);
        let is_learning = place.is_learning(minute);
        let group = place.groups.entry(error.to_owned()).or_default();
        group.add(minute, number, occurred);
        if let Some(flag) = flag {
            if !is_learning {
                // What is new or back has no past to surge against: its rate of the next day becomes that.
                group.begin(minute, minute + SETTLED);
            }
            if flag.flag == FlagKind::Returned {
                self.returned
                    .insert((service.to_owned(), error.to_owned(), environment.to_owned()));
            }
            self.flags.push(flag);
        }
        self.touched
            .push((service.to_owned(), environment.to_owned(), error.to_owned()));
    }

    /// What one occurrence says by itself: that an error is new, or back.
    fn at_once(
        &self,
        minute: Minute,
        (service, environment, version, error): (&str, &str, &str, &str),
        count: u64,
    ) -> Option<FlagLine> {
        let place = self.places.get(&(service.to_owned(), environment.to_owned()))?;
        let settled = self.settled.get(&(service.to_owned(), error.to_owned()));
        let was_back = self
            .returned
            .contains(&(service.to_owned(), error.to_owned(), environment.to_owned()));
        let is_back = settled.is_some_and(|settled| {
            let mut order = place.order.clone();
            let number = order.see(version);
            settled.is_empty() || order.is_from_on(number, settled)
        });
        let flag = if is_back && !was_back {
            FlagKind::Returned
        } else if !place.groups.contains_key(error) && settled.is_none() && !place.is_young(minute) {
            FlagKind::New
        } else {
            return None;
        };
        Some(FlagLine {
            flag,
            service: service.to_owned(),
            environment: environment.to_owned(),
            group: error.to_owned(),
            version: version.to_owned(),
            at: minute,
            since: minute,
            by_deploy: false,
            count,
            expected: 0.0,
            evidence: 0.0,
            requests: None,
        })
    }

    /// What an event says before its minute is over: that an error is new, or back. Nothing is
    /// learnt from it, and the same is said again when the minute is told.
    #[must_use]
    pub fn foretell(&self, event: &Event) -> Option<FlagLine> {
        let Event::Errors {
            service,
            environment,
            version,
            group,
            count,
            ..
        } = event
        else {
            return None;
        };
        self.at_once(event.minute(), (service, environment, version, group), *count)
    }

    fn close(&mut self, minute: Minute) {
        for place in self.places.values_mut() {
            place.close(minute);
            place.look_back(minute);
        }
        let mut touched = std::mem::take(&mut self.touched);
        touched.sort_unstable();
        touched.dedup();
        for (service, environment, error) in touched {
            if let Some(place) = self.places.get_mut(&(service.clone(), environment.clone()))
                && let Some(flag) = surge(place, &error, minute, &self.asked)
            {
                self.flags.push(FlagLine {
                    service,
                    environment,
                    group: error,
                    ..flag
                });
            }
        }
        for ((service, environment), place) in &mut self.places {
            let ended = end_episodes(place, minute).into_iter();
            self.ends.extend(ended.map(|(group, said, at)| Ended {
                service: service.clone(),
                environment: environment.clone(),
                group,
                said,
                at,
            }));
        }
    }
}
