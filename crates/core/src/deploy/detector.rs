//! Flags, minute by minute.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::asked::Asked;
use super::event::{Event, FlagKind, FlagLine, Minute};
use super::group::{Episode, Group};
use super::measure::Disturbed;
use super::place::{PAST, Place, Told};
use super::rise::Rise;

/// What an error tells that is flagged already, in nats.
const FLAGGED: f64 = 8.0;
/// Minutes by which the beginnings of rises may lie apart that have one cause.
const NEAR: Minute = 10;
/// Minutes for which what was told is of late.
const LATELY: Minute = 12;
/// Minutes after a deploy for which it is asked what it changed.
const WATCHED: Minute = 180;
/// The smallest rise that is worth a flag, and the fewest occurrences.
const LEAST_RATIO: f64 = 1.3;
const LEAST_ANYWHERE: f64 = 1.4;
const LEAST_COUNT: f64 = 3.0;
/// Nats by which the usual rate must explain the latest minutes better than the raised one for a
/// surge to be over, and the lengths that are looked at.
const OVER: f64 = 8.0;
const LOOKED_AT: [Minute; 5] = [15, 30, 60, 120, 240];
/// The variance of small counts over their mean.
const CLUMP: f64 = 1.1;
/// Minutes after which a raised rate that did not go back is taken for the usual one.
const SETTLED: Minute = 1_440;
/// Minutes after that for which nothing is said: it is learnt first.
const AFTERWARDS: Minute = 180;

/// Says flags from what it is told, in order of time.
#[derive(Clone, Debug, Default)]
pub struct Detector {
    asked: Asked,
    places: BTreeMap<(String, String), Place>,
    /// Errors that people settled: service and error, with the version.
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
            order.is_from_on(number, settled)
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

/// A rise with the version that its deploy brought, and by how much it exceeds what is asked of it.
type Lead = (Told, Option<u32>, f64);

/// How many errors of a service occurred in its past, and how many have strong evidence of late with this one.
fn many(place: &Place, error: &str, minute: Minute, asked: &Asked) -> (usize, usize) {
    let watched = place
        .groups
        .values()
        .filter(|group| group.events.last().is_some_and(|(at, _, _)| minute - at <= PAST))
        .count();
    let is_strong = |(name, group): &(&String, &Group)| {
        *name != error && minute - group.lately.1 <= LATELY && group.lately.0 >= asked.after_deploy
    };
    (watched, 1 + place.groups.iter().filter(is_strong).count())
}

/// Whether a rise of another error may have the cause of one: the same deploy, or about the same beginning.
fn is_alike(rise: &Rise, since: Minute, by_deploy: bool) -> bool {
    if rise.versions.is_some() {
        by_deploy && since == rise.since
    } else {
        (since - rise.since).abs() <= NEAR
    }
}

/// What other errors of the service tell of a rise that began with one, in nats: each what it has
/// above what chance often makes.
fn others(place: &Place, error: &str, rise: &Rise, minute: Minute, asked: &Asked) -> f64 {
    let told = |group: &Group| {
        if group
            .episode
            .as_ref()
            .is_some_and(|episode| is_alike(rise, episode.since, episode.by_deploy))
        {
            return FLAGGED;
        }
        let alike = group.rises.iter().filter(|other| {
            other.versions == rise.versions
                && is_alike(rise, other.since, true)
                && (rise.versions.is_some() || minute - other.until <= LATELY)
        });
        let told = alike.map(|other| {
            let nats = group.nats(other);
            let hurdle = group.habits.hurdle(minute + 1 - other.since, minute, other.clumps);
            nats.least(other.clumps).min(nats.of(other.clumps) - hurdle) - asked.hint
        });
        told.fold(0.0, f64::max)
    };
    place
        .groups
        .iter()
        .filter(|(name, _)| *name != error)
        .map(|(_, group)| told(group))
        .sum()
}

/// The rise that exceeds most what is asked of it, since a deploy or anywhere.
fn strongest(place: &Place, error: &str, group: &Group, minute: Minute, nats: &Asked) -> Option<Lead> {
    let until = minute + 1;
    let mut strongest: Option<Lead> = None;
    for rise in &group.rises {
        let told = place.told(group, rise);
        let length = until - rise.since;
        let (ratio, alone) = match rise.versions {
            Some(_) => (LEAST_RATIO, nats.alone_after_deploy),
            None => (LEAST_ANYWHERE, nats.alone_anywhere),
        };
        if told.expected <= 0.0
            || told.count < LEAST_COUNT
            || told.count <= ratio * told.expected
            || told.evidence() < nats.alone_after_deploy
        {
            continue;
        }
        let (is_by_deploy, is_reported) = (rise.versions.is_some(), place.traffic.reports(minute));
        // Where no requests are reported, errors that rise together speak for more of them.
        let joined = if is_by_deploy || is_reported {
            nats.joined * others(place, error, rise, minute, nats)
        } else {
            0.0
        };
        let asked = nats.of(length, is_by_deploy);
        let asked = asked - joined.min(asked - alone) + nats.besides(length, is_by_deploy, is_reported);
        let hurdle = group.habits.hurdle(length, minute, told.clumps);
        let lead = (told.nats.of(told.clumps) - hurdle).min(told.evidence() - asked);
        if strongest.as_ref().is_none_or(|(_, _, best)| lead > *best) {
            strongest = Some((told, rise.versions.map(|versions| versions.first), lead));
        }
    }
    strongest
}

/// Whether an error surges, by the end of a minute in which it occurred.
fn surge(place: &mut Place, error: &str, minute: Minute, asked: &Asked) -> Option<FlagLine> {
    place.learn(error, minute);
    place.follow(error, minute, WATCHED);
    let group = place.groups.get(error)?;
    let anywhere: Vec<_> = group
        .rises
        .iter()
        .filter(|rise| rise.versions.is_none())
        .map(|rise| group.nats(rise))
        .collect();
    let strongest = strongest(place, error, group, minute, asked);
    let (watched, strong) = many(place, error, minute, asked);
    let running = group.events.last().map(|(_, version, _)| *version).unwrap_or_default();
    let (quiet_until, is_learning) = (group.quiet_until, place.is_learning(minute));
    let group = place.groups.get_mut(error)?;
    if let Some(episode) = &mut group.episode {
        episode.evidence = anywhere
            .iter()
            .map(|nats| nats.by_count)
            .fold(episode.evidence, f64::max);
        return None;
    }
    for nats in anywhere {
        group.habits.record(minute, nats);
    }
    let (told, version, lead) = strongest.filter(|_| minute >= quiet_until && !is_learning)?;
    group.lately = (told.evidence(), minute);
    if lead < asked.of_many(watched, strong) {
        return None;
    }
    group.episode = Some(Episode {
        since: told.since,
        said: minute,
        ratio: told.count / told.expected,
        evidence: told.nats.by_count,
        by_deploy: version.is_some(),
    });
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "counts of some hours"
    )]
    Some(FlagLine {
        flag: FlagKind::Surging,
        service: String::new(),
        environment: String::new(),
        group: String::new(),
        version: place.order.label(version.unwrap_or(running)).to_owned(),
        at: minute,
        since: told.since,
        by_deploy: version.is_some(),
        count: told.count as u64,
        expected: told.expected,
        evidence: told.evidence(),
        requests: Some(place.traffic.exposure.between(told.since, minute + 1) as u64),
    })
}

/// From when on the usual rate of an error explains what it does better than the raised one.
fn over_since(place: &Place, group: &Group, episode: &Episode, minute: Minute) -> Option<Minute> {
    let until = minute + 1;
    let exposure = |from, until| (place.traffic.exposure.between(from, until), 1.0);
    let is_over = |from: &Minute| {
        // What was seen while it was raised tells how much it was: when it was flagged it looked higher than it is.
        let before = place.expected(
            group,
            episode.since,
            from - episode.since,
            exposure(episode.since, *from),
        );
        let ratio = (group.counts.between(episode.since, *from) / before)
            .min(episode.ratio)
            .max(LEAST_RATIO);
        let usual = place.expected(group, episode.since, until - from, exposure(*from, until));
        // The likelihood ratio of two Poisson rates, less what scatter explains (quasi-likelihood, Wedderburn 1974).
        let lead = (ratio - 1.0) * usual - group.counts.between(*from, until) * ratio.ln();
        lead / (CLUMP + usual * group.nature.over(until - from)) > OVER
    };
    LOOKED_AT
        .into_iter()
        .map(|length| until - length)
        .take_while(|from| *from > episode.said)
        .find(is_over)
}

/// Ends raised rates that went back to what was usual, and takes those for usual that did not within a day.
fn end_episodes(place: &mut Place, minute: Minute) -> Vec<(String, Minute, Minute)> {
    let mut ended = vec![];
    if minute % 5 != 0 {
        return ended;
    }
    let open: Vec<String> = place
        .groups
        .iter()
        .filter(|(_, group)| group.episode.is_some())
        .map(|(name, _)| name.clone())
        .collect();
    for name in open {
        let Some((group, episode)) = place
            .groups
            .get(&name)
            .and_then(|group| Some((group, group.episode.as_ref()?)))
        else {
            continue;
        };
        let said = episode.said;
        let over = if minute - said >= SETTLED {
            None
        } else {
            over_since(place, group, episode, minute)
        };
        let Some(group) = place.groups.get_mut(&name) else {
            continue;
        };
        if minute - said >= SETTLED {
            group.settle_down(minute + AFTERWARDS);
            ended.push((name, said, minute));
        } else if let Some(from) = over {
            group.end(from);
            ended.push((name, said, from));
        }
    }
    ended
}
