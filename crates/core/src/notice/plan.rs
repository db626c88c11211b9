//! Which notices come of events: bundled, held to hours, capped, passed on. A function over the events
//! and their times alone, so that a rule can be tried on the past.

mod concern;

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use serde::{Deserialize, Serialize};

use self::concern::{Concern, told};
use super::{Directory, Event, EventKind, Rule};
use crate::{Reference, Timestamp};

/// What happens within a minute of a notice comes together.
const BUNDLE_MS: i64 = 60_000;
/// Notices to one person by one way within an hour, per rule: a flood comes together after that.
const MOST_AN_HOUR: usize = 12;
const HOUR_MS: i64 = 3_600_000;
/// Events named in one notice; of more it is said how many they are.
pub const LISTED: usize = 50;
/// How long it is known who was told of what, for what follows from it.
const FOLLOWED_MS: i64 = 14 * 24 * HOUR_MS;
/// Events of which it is known who was told; past it the oldest are forgotten.
const FOLLOWED: usize = 20_000;
/// Errors that wait to be taken; past it nothing more is passed on.
const UNCLAIMED: usize = 5_000;

/// One way to one recipient, for one rule.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Stream {
    /// The rule's number.
    pub rule: i32,
    /// The way.
    pub way: String,
    /// A member's address; empty of a way that goes to no single person.
    pub to: String,
}

/// Why a notice is sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// The rule says so.
    Rule,
    /// Nobody took an error that others were told of before.
    PassedOn,
}

/// What is to be sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    /// By which rule, which way, to whom.
    pub stream: Stream,
    /// When it is to leave.
    pub at: Timestamp,
    /// Numbers of the events that it tells of, the earliest first.
    pub events: Vec<i64>,
    /// How many more events there were than are told.
    pub more: u32,
    /// Why.
    pub reason: Reason,
}

/// An event that waits in a stream.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Waiting {
    event: i64,
    error: Option<Reference>,
    due: Timestamp,
    reason: Reason,
    of: Concern,
}

/// What a stream has sent lately, and what waits in it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Course {
    /// When it sent, within the last hour or the rule's own time, the earliest first.
    sent: VecDeque<Timestamp>,
    waiting: Vec<Waiting>,
    more: u32,
    /// When it was last said of an error that something happened to it.
    said: BTreeMap<String, Timestamp>,
}

/// An error that somebody was told of and nobody has taken.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Unclaimed {
    rule: i32,
    event: i64,
    error: Reference,
    due: Timestamp,
    /// The event itself, for whom it concerns.
    of: Concern,
}

/// The state of all notices: what waits, what was sent lately, who was told of what.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    #[serde(with = "pairs")]
    streams: BTreeMap<Stream, Course>,
    told: BTreeMap<i64, (Timestamp, BTreeSet<Stream>)>,
    /// When something was last said of an error, for those that follow from it.
    lately: BTreeMap<Reference, Timestamp>,
    unclaimed: Vec<Unclaimed>,
}

/// Whom to tell: a stream, and from when on.
struct Route {
    stream: Stream,
    due: Timestamp,
}

impl Plan {
    /// Goes on to a time: takes in the events that were noticed then, and returns the notices that are
    /// due until then, the earliest first. Events of earlier calls have earlier times.
    pub fn step(&mut self, now: Timestamp, events: &[Event], rules: &[Rule], directory: &Directory) -> Vec<Notice> {
        let mut notices = self.due(now, rules, directory);
        // An error before those that follow from it.
        let mut sorted: Vec<&Event> = events.iter().collect();
        sorted.sort_by_key(|event| (event.origin.is_some(), event.id));
        for event in sorted {
            self.take(now, event, rules, directory);
        }
        if !events.is_empty() {
            notices.extend(self.due(now, rules, directory));
            self.forget(now, rules);
        }
        notices
    }

    /// When something is due next, if anything is.
    #[must_use]
    pub fn next(&self) -> Option<Timestamp> {
        let waiting = self.streams.values().filter_map(Course::due);
        waiting
            .chain(self.unclaimed.iter().map(|unclaimed| unclaimed.due))
            .min()
    }

    fn take(&mut self, now: Timestamp, event: &Event, rules: &[Rule], directory: &Directory) {
        if event.kind == EventKind::Handled {
            self.unclaimed.retain(|unclaimed| Some(unclaimed.error) != event.error);
            return;
        }
        if event.kind.follows() {
            self.follow(now, event, rules, directory);
            return;
        }
        if event.is_quiet {
            return;
        }
        if let Some(error) = event.error {
            let is_echo = event
                .origin
                .and_then(|origin| self.lately.get(&origin))
                .is_some_and(|said| now.millis() - said.millis() < HOUR_MS);
            self.lately.insert(error, now);
            if is_echo {
                return;
            }
        }
        let mut best: BTreeMap<(String, String), Route> = BTreeMap::new();
        for rule in rules.iter().filter(|rule| rule.is_about(event)) {
            for route in self.routes(now, event, rule, directory) {
                let key = (route.stream.way.clone(), route.stream.to.clone());
                match best.get(&key) {
                    // Once to each by each way, by the rule that tells first.
                    Some(known) if known.due <= route.due => {}
                    _ => {
                        best.insert(key, route);
                    }
                }
            }
        }
        for route in best.into_values() {
            self.wait(&route, event, Reason::Rule);
        }
    }

    /// Whom a rule tells of an event, by which way, and from when on.
    fn routes(&self, now: Timestamp, event: &Event, rule: &Rule, directory: &Directory) -> Vec<Route> {
        let concern = Concern::of(event);
        let people = told(rule, &rule.tell, &concern, directory);
        let (is_urgent, is_uncaught) = (rule.is_urgent(event), event.is_uncaught());
        self.to(now, rule, &people, directory, (is_urgent, is_uncaught))
    }

    fn to(
        &self,
        now: Timestamp,
        rule: &Rule,
        people: &[String],
        directory: &Directory,
        (is_urgent, is_uncaught): (bool, bool),
    ) -> Vec<Route> {
        let mut routes = vec![];
        for way in &rule.by {
            let recipients: Vec<String> = if goes_to_people(way) {
                people.to_vec()
            } else {
                vec![String::new()]
            };
            for to in recipients {
                let stream = Stream {
                    rule: rule.id,
                    way: way.clone(),
                    to,
                };
                let mut due = self.streams.get(&stream).map_or(now, |course| course.free(now, rule));
                if let Some(quiet) = rule.quiet.as_ref().filter(|_| !is_urgent) {
                    let Some(open) = quiet.hours.next_outside(due) else {
                        continue;
                    };
                    due = open;
                }
                if let Some(member) = directory.members.get(&stream.to)
                    && let Some(hours) = member.wishes.hours
                    && !(is_uncaught && member.wishes.uncaught_at_any_hour)
                {
                    let Some(open) = hours.next_within(due) else { continue };
                    due = open;
                }
                routes.push(Route { stream, due });
            }
        }
        routes
    }

    fn wait(&mut self, route: &Route, event: &Event, reason: Reason) {
        let course = self.streams.entry(route.stream.clone()).or_default();
        let what = event
            .error
            .map_or_else(|| event.title.clone(), |error| error.to_string());
        let repeated = format!("{} {what} {}", event.kind.word(), event.environment);
        let is_repeated = reason == Reason::Rule
            && course
                .said
                .get(&repeated)
                .is_some_and(|said| event.at.millis() - said.millis() < HOUR_MS);
        if is_repeated {
            return;
        }
        course.said.insert(repeated, event.at);
        course.wait(Waiting {
            event: event.id,
            error: event.error,
            due: route.due,
            reason,
            of: Concern::of(event),
        });
    }

    /// What ends another event goes to whoever was told of that; where it still waits, nobody is told of either.
    fn follow(&mut self, now: Timestamp, event: &Event, rules: &[Rule], directory: &Directory) {
        let Some(of) = event.of else { return };
        self.unclaimed.retain(|unclaimed| unclaimed.event != of);
        for course in self.streams.values_mut() {
            course.waiting.retain(|waiting| waiting.event != of);
        }
        let Some((_, streams)) = self.told.get(&of).cloned() else {
            return;
        };
        for stream in streams {
            let Some(rule) = rules.iter().find(|rule| rule.id == stream.rule) else {
                continue;
            };
            let people = if stream.to.is_empty() {
                vec![]
            } else {
                vec![stream.to.clone()]
            };
            let routes = self.to(now, rule, &people, directory, (false, false));
            for route in routes.into_iter().filter(|route| route.stream == stream) {
                self.wait(&route, event, Reason::Rule);
            }
        }
    }

    /// The notices that are due until a time, the earliest first.
    fn due(&mut self, now: Timestamp, rules: &[Rule], directory: &Directory) -> Vec<Notice> {
        let mut notices = vec![];
        while let Some(at) = self.next().filter(|at| *at <= now) {
            self.pass_on(at, rules, directory);
            let due: Vec<Stream> = (self.streams.iter())
                .filter(|(_, course)| course.due().is_some_and(|due| due <= at))
                .map(|(stream, _)| stream.clone())
                .collect();
            for stream in due {
                notices.extend(self.send(at, &stream, rules));
            }
        }
        notices
    }

    fn send(&mut self, at: Timestamp, stream: &Stream, rules: &[Rule]) -> Option<Notice> {
        let course = self.streams.get_mut(stream)?;
        let waiting = std::mem::take(&mut course.waiting);
        let more = std::mem::take(&mut course.more);
        // A rule that was removed or switched off meanwhile tells nobody any more.
        let rule = rules.iter().find(|rule| rule.id == stream.rule)?;
        course.sent.push_back(at);
        let is_passed_on = waiting.iter().all(|waiting| waiting.reason == Reason::PassedOn);
        for waiting in &waiting {
            let (_, streams) = self.told.entry(waiting.event).or_insert_with(|| (at, BTreeSet::new()));
            streams.insert(stream.clone());
        }
        let notice = Notice {
            stream: stream.clone(),
            at,
            events: waiting.iter().map(|waiting| waiting.event).collect(),
            more,
            reason: if is_passed_on { Reason::PassedOn } else { Reason::Rule },
        };
        if let Some(pass_on) = &rule.pass_on {
            let due = at.plus_millis(i64::from(pass_on.minutes) * 60_000);
            for waiting in waiting.iter().filter(|waiting| waiting.reason == Reason::Rule) {
                self.claim_by(rule.id, waiting, due);
            }
        }
        Some(notice)
    }

    /// Notes that an error is passed on unless somebody takes it.
    fn claim_by(&mut self, rule: i32, waiting: &Waiting, due: Timestamp) {
        let Some(error) = waiting.error else { return };
        let is_known = |known: &Unclaimed| known.rule == rule && known.error == error;
        if self.unclaimed.len() < UNCLAIMED && !self.unclaimed.iter().any(is_known) {
            self.unclaimed.push(Unclaimed {
                rule,
                event: waiting.event,
                error,
                due,
                of: waiting.of.clone(),
            });
        }
    }

    fn pass_on(&mut self, at: Timestamp, rules: &[Rule], directory: &Directory) {
        let (due, rest): (Vec<_>, Vec<_>) = std::mem::take(&mut self.unclaimed)
            .into_iter()
            .partition(|one| one.due <= at);
        self.unclaimed = rest;
        for unclaimed in due {
            let Some(rule) = rules.iter().find(|rule| rule.id == unclaimed.rule) else {
                continue;
            };
            let Some(pass_on) = &rule.pass_on else { continue };
            let people = told(rule, &pass_on.to, &unclaimed.of, directory);
            // Nobody took it: the rule's own hours do not hold it back.
            for route in self.to(at, rule, &people, directory, (true, true)) {
                if self.knows(&route.stream, unclaimed.event) {
                    continue;
                }
                let course = self.streams.entry(route.stream).or_default();
                course.wait(Waiting {
                    event: unclaimed.event,
                    error: Some(unclaimed.error),
                    due: route.due,
                    reason: Reason::PassedOn,
                    of: unclaimed.of.clone(),
                });
            }
        }
    }

    /// Whether an event went, or is about to go, to a recipient by a way, by whichever rule.
    fn knows(&self, to: &Stream, event: i64) -> bool {
        let is_theirs = |stream: &Stream| (&stream.way, &stream.to) == (&to.way, &to.to);
        let was_told = self
            .told
            .get(&event)
            .is_some_and(|(_, streams)| streams.iter().any(is_theirs));
        let waits = |course: &Course| course.waiting.iter().any(|waiting| waiting.event == event);
        was_told
            || self
                .streams
                .iter()
                .any(|(stream, course)| is_theirs(stream) && waits(course))
    }

    /// Forgets what nothing can follow from any more.
    fn forget(&mut self, now: Timestamp, rules: &[Rule]) {
        let is_kept = |at: Timestamp, ms: i64| now.millis() - at.millis() < ms;
        self.told.retain(|_, (at, _)| is_kept(*at, FOLLOWED_MS));
        while self.told.len() > FOLLOWED {
            self.told.pop_first();
        }
        self.lately.retain(|_, at| is_kept(*at, HOUR_MS));
        for (stream, course) in &mut self.streams {
            let gap = rules.iter().find(|rule| rule.id == stream.rule).map_or(0, gap);
            course.said.retain(|_, at| is_kept(*at, HOUR_MS));
            while course.sent.front().is_some_and(|at| !is_kept(*at, gap.max(HOUR_MS))) {
                course.sent.pop_front();
            }
        }
        self.streams.retain(|_, course| *course != Course::default());
    }
}

impl Course {
    /// When what waits is due.
    fn due(&self) -> Option<Timestamp> {
        self.waiting.iter().map(|waiting| waiting.due).min()
    }

    /// From when on it may send again: after the rule's own time, and not too often within an hour.
    fn free(&self, now: Timestamp, rule: &Rule) -> Timestamp {
        let after = |sent: Option<&Timestamp>, ms: i64| sent.map_or(now, |sent| sent.plus_millis(ms).max(now));
        let crowded = self
            .sent
            .len()
            .checked_sub(MOST_AN_HOUR)
            .and_then(|place| self.sent.get(place));
        after(self.sent.back(), gap(rule)).max(after(crowded, HOUR_MS))
    }

    fn wait(&mut self, waiting: Waiting) {
        if self.waiting.len() < LISTED {
            self.waiting.push(waiting);
        } else {
            self.more += 1;
        }
    }
}

/// Milliseconds between two notices of a stream at least.
fn gap(rule: &Rule) -> i64 {
    rule.at_most
        .map_or(0, |minutes| i64::from(minutes) * 60_000)
        .max(BUNDLE_MS)
}

/// Whether a way goes to members, each by themselves.
fn goes_to_people(way: &str) -> bool {
    matches!(way, "mail" | "browser")
}

/// A map whose keys are no texts, as a list of pairs.
mod pairs {
    use std::collections::BTreeMap;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(super) fn serialize<K: Serialize, V: Serialize, S: Serializer>(
        map: &BTreeMap<K, V>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(map)
    }

    pub(super) fn deserialize<'d, K, V, D>(deserializer: D) -> Result<BTreeMap<K, V>, D::Error>
    where
        K: Deserialize<'d> + Ord,
        V: Deserialize<'d>,
        D: Deserializer<'d>,
    {
        let pairs: Vec<(K, V)> = Vec::deserialize(deserializer)?;
        Ok(pairs.into_iter().collect())
    }
}

#[cfg(test)]
mod tests;
