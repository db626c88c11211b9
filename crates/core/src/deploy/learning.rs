//! Learning what is usual of an error, and supposing rises.

use crate::deploy::clumps::Clumps;
use crate::deploy::event::Minute;
use crate::deploy::group::Group;
use crate::deploy::nature;
use crate::deploy::nature::Nature;
use crate::deploy::place::{LEARNING, LEARNT, LOWEST, Past, Place, past_of, telling, thin};
use crate::deploy::rise::{Belief, Process, Rise, Usual};
use crate::deploy::series::{Sums, span};
use crate::deploy::versions::Versions;

impl Place {
    /// Where the past of a group begins that a window from `until` on is held against.
    pub(super) fn past_of(&self, group: &Group, until: Minute) -> Minute {
        past_of(group, (self.first.unwrap_or(until), until))
    }

    pub(super) fn past(&self, group: &Group, until: Minute) -> Past {
        let from = self.past_of(group, until);
        let mut past = Past {
            from,
            exposure: self.traffic.exposure.between(from, until),
            minutes: span(from, until),
            left_out_until: from,
        };
        for (start, end) in group.left_out(from, until) {
            past.exposure -= self.traffic.exposure.between(start, end);
            past.minutes -= span(start, end);
            past.left_out_until = past.left_out_until.max(end);
        }
        past
    }

    /// Occurrences or incidents of the past that a rise at its end is held against.
    pub(super) fn known(group: &Group, sums: &Sums, past: &Past, until: Minute) -> f64 {
        let left_out: f64 = group
            .left_out(past.from, until)
            .map(|(start, end)| sums.between(start, end))
            .sum();
        // Half an occurrence more than were seen: a rate is never known to be nothing.
        (sums.between(past.from, until) - left_out).max(0.0) + 0.5
    }

    /// Ends the learning: what the first day told of each error is noted by what the whole day said of it.
    pub fn look_back(&mut self, minute: Minute) {
        let Some(first) = self.first.filter(|first| minute - first == LEARNING) else {
            return;
        };
        let names: Vec<String> = self.groups.keys().cloned().collect();
        let passes = if self.traffic.reports(minute) { 0 } else { 2 };
        // Which errors follow the course is known once it is: those that do tell it better.
        for _ in 0..passes {
            let telling = telling(&self.groups, &self.traffic.exposure, (first, minute));
            self.traffic.exposure = self.traffic.learn_first_day(first, minute, &telling);
            for name in &names {
                self.learn_anew(name, minute);
            }
        }
        for name in &names {
            self.learn_anew(name, minute);
        }
        // What is usual among the errors is known once each was looked at.
        self.usual_slow = None;
        for name in names {
            self.learn_anew(&name, minute);
            let Some(mut group) = self.groups.remove(&name) else {
                continue;
            };
            self.look_back_on(&mut group, minute);
            self.groups.insert(name, group);
        }
    }

    /// Notes anew what the first day told of an error, now that its rate is known.
    pub(super) fn look_back_on(&self, group: &mut Group, until: Minute) {
        group.habits.forget();
        let Some(whole) = self.suppose(group, until, None, |usual, _| usual.belief()) else {
            return;
        };
        let minutes: Vec<Minute> = group.events.iter().map(|(minute, _, _)| *minute).collect();
        let mut rises: Vec<Rise> = vec![];
        for minute in minutes {
            rises.push(Rise {
                since: minute,
                until: minute,
                ..whole.clone()
            });
            for rise in &mut rises {
                group.advance(rise, minute + 1, &self.traffic);
            }
            thin(&mut rises, group, minute);
            for rise in &rises {
                let told = group.nats(rise);
                group.habits.record(minute, told);
            }
        }
    }

    pub(super) fn learn_anew(&mut self, error: &str, minute: Minute) {
        if let Some(group) = self.groups.get_mut(error) {
            group.learnt = Minute::MIN / 2;
        }
        self.learn(error, minute);
    }

    /// The relative variance of hours that is usual among the errors, learnt anew from time to time.
    pub(super) fn usual_slow(&mut self, minute: Minute) -> f64 {
        match self.usual_slow {
            Some((usual, at)) if minute - at < LEARNT => usual,
            _ => {
                let usual = nature::usual_slow(self.groups.values().map(|group| &group.nature));
                self.usual_slow = Some((usual, minute));
                usual
            }
        }
    }

    /// Learns how a group behaves, where that was not done for a while.
    pub fn learn(&mut self, error: &str, minute: Minute) {
        if self
            .groups
            .get(error)
            .is_none_or(|group| minute - group.learnt < LEARNT)
        {
            return;
        }
        let usual_slow = self.usual_slow(minute);
        let Some(group) = self.groups.get(error) else { return };
        let past = (self.past_of(group, minute), minute);
        let nature = Nature::of(
            nature::Past {
                counts: &group.counts,
                traffic: &self.traffic,
                is_left_out: &|from, until| group.is_left_out(from, until),
            },
            past,
            usual_slow,
        );
        let gone = nature::gone(
            &group.counts,
            &self.traffic,
            self.deploys.iter().map(|deploy| deploy.at),
            past,
        );
        if let Some(group) = self.groups.get_mut(error) {
            (group.nature, group.gone, group.learnt, group.standing) = (nature, gone, minute, None);
        }
    }

    /// A rise of an error that is supposed to begin at a minute; none where there is no past to
    /// hold it against. `belief`: where the rate of occurrences stands then, by what is usual and
    /// the past.
    pub(super) fn suppose(
        &self,
        group: &Group,
        since: Minute,
        versions: Option<Versions>,
        belief: impl Fn(&Usual, &Past) -> Belief,
    ) -> Option<Rise> {
        let past = self.past(group, since);
        if past.exposure <= 0.0 || past.minutes <= 0.0 {
            return None;
        }
        let usual = |sums: &Sums, fast: f64| {
            let basis = Self::known(group, sums, &past, since);
            Usual {
                rate: basis / past.exposure,
                basis,
                slow: group.nature.slow,
                fast,
            }
        };
        let clumps = group.clumps(since);
        let of_counts = usual(&group.counts, group.nature.fast);
        let of_incidents = usual(&group.incidents, 0.0);
        Some(Rise {
            since,
            versions,
            clumps,
            until: since,
            by_count: Process::new(of_counts, belief(&of_counts, &past).at_least(LOWEST * of_counts.rate)),
            by_incident: (clumps != Clumps::None).then(|| Process::new(of_incidents, of_incidents.belief())),
            size: group.size(since),
            follows: group.nature.follows,
            mean_exposure: past.exposure / past.minutes,
        })
    }
}
