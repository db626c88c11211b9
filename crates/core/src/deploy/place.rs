//! One service in one environment: its deploys, its traffic, its errors, and the rises that are supposed to have begun.

use std::collections::BTreeMap;

use super::course::{Voice, heard};
use super::event::Minute;
use super::group::{Group, Standing};
use super::habits::Nats;
use super::order::VersionOrder;
use super::rise::{Belief, Process, Rise, Usual};
use super::series::{Sums, span};
use super::traffic::{Split, Telling, Traffic};
use crate::deploy::clumps::Clumps;
use crate::deploy::disturbed::{Disturbed, Measured};
use crate::deploy::versions::Versions;

/// Minutes of the past that a rate is learnt from.
pub(super) const PAST: Minute = 3 * 1_440;
/// Minutes of the latest past that tell where a slowly changing rate stands.
const LATEST: Minute = 180;
/// Occurrences due in them from which on they tell.
const TELLING: f64 = 5.0;
/// Occurrences by which the latest past must outweigh the long one: one over the relative variance of slow changes.
const SLOW_WEIGHT: f64 = 120.0;
/// How far slow changes move a rate.
const MOST_SLOW: f64 = 1.3;
/// The share of its usual rate that an error is held against at least, however rarely it occurs of late.
pub(super) const LOWEST: f64 = 0.9;
/// Minutes from the first on in which a place is learnt.
pub(super) const LEARNING: Minute = 1_440;
/// Minutes from the first on in which nothing is called new.
const YOUNG: Minute = 30;
/// Minutes after which it is learnt anew how an error behaves.
pub(super) const LEARNT: Minute = 30;
/// Minutes for which an error must be known, and occurrences a minute from which on it tells how busy its service is.
const HEARD: Minute = 360;
const LEAST_HEARD: f64 = 0.01;
/// Occurrences that must be known of it where requests are reported.
const LEAST_KNOWN: f64 = 10.0;
/// Minutes in which errors tell which versions their occurrences are of, and occurrences of one
/// error that count in them, at most.
const SPLIT_OVER: Minute = 10;
const SPLIT_SAY: f64 = 3.0;
/// Occurrences due without a single one for errors not to be reported: chance leaves so many out
/// once in e^14 times; and those of one error that count, at most.
const TOLD_ENOUGH: f64 = 14.0;
const TOLD_BY_ONE: f64 = 5.0;
/// By how many times more occurrences a minute has than those before it where several are reported
/// at once, how many it has at least, the share of what errors tell that must agree, and minutes in
/// a row that may be so.
const PILE: f64 = 1.4;
const PILE_BEFORE: Minute = 10;
const LEAST_PILE: f64 = 20.0;
const ALIKE: f64 = 0.75;
const MOST_PILED: u32 = 3;
/// How finely the ages of rises that begin anywhere are told apart: so many steps for twice the
/// age; and the highest age.
const AGES: f64 = 1.5;
const LONGEST: Minute = 180;

/// A deploy that may have changed something.
#[derive(Clone, Debug)]
pub(super) struct Deployed {
    pub at: Minute,
    pub versions: Versions,
}

#[derive(Clone, Debug, Default)]
pub(super) struct Place {
    pub order: VersionOrder,
    pub deploys: Vec<Deployed>,
    pub traffic: Traffic,
    pub groups: BTreeMap<String, Group>,
    pub(super) first: Option<Minute>,
    /// Occurrences of all errors by minute.
    pub occurred: Sums,
    /// Since when no error occurred, and whether that is known to be for none being reported.
    pub(super) silence: Option<(Minute, bool)>,
    /// Minutes in a row in which many more occurred than before.
    pub(super) piled: u32,
    /// The relative variance of hours that is usual among its errors, and when that was learnt.
    pub(super) usual_slow: Option<(f64, Minute)>,
}

/// The past that a rise is held against.
pub(super) struct Past {
    pub(super) from: Minute,
    pub(super) exposure: f64,
    pub(super) minutes: f64,
    /// When the last of what is left out of it ended.
    pub(super) left_out_until: Minute,
}

/// A rise as it is said.
#[derive(Clone, Copy, Debug)]
pub(super) struct Told {
    pub since: Minute,
    pub count: f64,
    pub expected: f64,
    pub nats: Nats,
    /// How the error's occurrences come.
    pub clumps: Clumps,
}

impl Told {
    pub fn evidence(&self) -> f64 {
        self.nats.least(self.clumps)
    }
}

impl Place {
    /// Whether it is known long enough that a first occurrence says something, and a rate too.
    pub fn is_learning(&self, minute: Minute) -> bool {
        self.first.is_none_or(|first| minute - first < LEARNING)
    }

    /// Whether it is known so shortly that every error of it occurs for the first time.
    pub fn is_young(&self, minute: Minute) -> bool {
        self.first.is_none_or(|first| minute - first < YOUNG)
    }

    /// A version is put in; as a canary, with a share of the traffic beside the one that runs.
    pub fn deploy(&mut self, at: Minute, version: u32, share: Option<f64>) {
        let later = self.deploys.iter().all(|deploy| deploy.versions.first <= version);
        self.deploys.push(Deployed {
            at,
            versions: Versions { first: version, later },
        });
        self.traffic.deploy(at, version, share);
    }

    /// Ends a minute: its exposure is what was reported, else what the past or the errors say of it.
    pub fn close(&mut self, minute: Minute) {
        let first = *self.first.get_or_insert(minute);
        let report = self.traffic.report(minute);
        if self.traffic.reports(minute + 1) {
            let groups = &self.groups;
            let voices = |exposure: &Sums, since| voices(groups, exposure, (first, since), minute + 1);
            self.traffic.close((minute, first), &report, voices, |version| {
                split(groups, version, minute)
            });
            self.hear(minute, first);
            return;
        }
        let estimate = if self.is_learning(minute) {
            1.0
        } else {
            let telling = telling(&self.groups, &self.traffic.exposure, (first, minute));
            self.traffic.activity(minute, first, &telling)
        };
        self.traffic.close_by(minute, estimate);
    }

    /// The times in which what is reported could not be taken as it is, the newest last.
    pub fn disturbed(&self) -> impl Iterator<Item = Disturbed> {
        let silent = self.silence.filter(|(_, is_known)| *is_known);
        let silent = silent.map(|(from, _)| Disturbed {
            measured: Measured::NoErrors,
            from,
            until: None,
        });
        let measure = &self.traffic.measure;
        measure.disturbed.iter().copied().chain(measure.now()).chain(silent)
    }

    /// Whether errors are reported as they occur: a minute without one where many were due tells
    /// nothing of them, and one in which each occurred so many times as often is one of several
    /// that are reported at once.
    fn hear(&mut self, minute: Minute, first: Minute) {
        let until = minute + 1;
        let occurred = self.occurred.between(minute, until);
        if occurred > 0.0 {
            if let Some((since, true)) = self.silence {
                let measured = Measured::NoErrors;
                self.traffic.measure.push(Disturbed {
                    measured,
                    from: since,
                    until: Some(minute),
                });
            }
            self.silence = None;
            let before = self.occurred.between(minute - PILE_BEFORE, minute) / span(0, PILE_BEFORE);
            let is_pile = occurred >= LEAST_PILE && occurred > PILE * before;
            self.piled = if is_pile { self.piled + 1 } else { 0 };
            if is_pile && self.piled <= MOST_PILED {
                let exposed = self.traffic.most.between(minute, until);
                let mut voices: Vec<Voice> = voices(&self.groups, &self.traffic.exposure, (first, minute), until)
                    .into_iter()
                    .map(|voice| Voice {
                        due: voice.due * exposed,
                        ..voice
                    })
                    .collect();
                let all = told_by(&voices);
                let times = heard(&mut voices);
                if told_by(&voices) >= ALIKE * all && all >= TOLD_ENOUGH && times > 1.0 {
                    self.traffic.pile_up(minute, times);
                }
            }
            return;
        }
        let (since, is_known) = *self.silence.get_or_insert((minute, false));
        if is_known {
            self.traffic.unhear(minute, until);
        } else if minute - since < 3 || minute % 5 == 0 {
            let exposed = self.traffic.exposure.between(since, until);
            let due: Vec<Voice> = voices(&self.groups, &self.traffic.exposure, (first, since), until)
                .into_iter()
                .map(|voice| Voice {
                    due: voice.due * exposed,
                    ..voice
                })
                .collect();
            if told_by(&due) >= TOLD_ENOUGH {
                self.silence = Some((since, true));
                self.traffic.unhear(since, until);
                for group in self.groups.values_mut() {
                    group.forget_rises();
                }
            }
        }
    }

    /// How many occurrences of a group are due over a window of a length, by its past before
    /// `since`: at an exposure, which is so large a share of all that the window had.
    pub fn expected(&self, group: &Group, since: Minute, length: Minute, (exposure, share): (f64, f64)) -> f64 {
        let past = self.past(group, since);
        let known = Self::known(group, &group.counts, &past, since);
        let latest = |usual: f64| {
            if group.gone.last().is_some_and(|(_, end)| *end > since - LATEST) {
                return 1.0;
            }
            let lately = group.counts.between(since - LATEST, since);
            ((lately + SLOW_WEIGHT) / (usual + SLOW_WEIGHT)).clamp(1.0 / MOST_SLOW, MOST_SLOW)
        };
        let (by_exposure, by_minute) = (known / past.exposure.max(1e-9), known / past.minutes.max(1.0));
        let following =
            by_exposure * exposure * latest(by_exposure * self.traffic.exposure.between(since - LATEST, since));
        let steady = by_minute * span(0, length) * share * latest(by_minute * span(0, LATEST));
        group.nature.follows * following + (1.0 - group.nature.follows) * steady
    }

    /// Where a rate stands at the end of its past: where it moves slowly, the latest hours tell.
    fn stands(&self, group: &Group, usual: &Usual, past: &Past, until: Minute) -> Belief {
        let mut belief = usual.belief();
        let from = past.left_out_until.max(until - LATEST);
        let mean_exposure = past.exposure / past.minutes;
        if usual.rate * mean_exposure * span(from, until) >= TELLING {
            for minute in from..until {
                belief.follow(
                    group.counts.between(minute, minute + 1),
                    self.exposed(group, mean_exposure, minute),
                    usual,
                );
            }
        }
        belief
    }

    /// What an error is exposed to in a minute.
    fn exposed(&self, group: &Group, mean_exposure: f64, minute: Minute) -> f64 {
        let follows = group.nature.follows;
        follows * self.traffic.most.between(minute, minute + 1) + (1.0 - follows) * mean_exposure
    }

    /// Where the rate of an error stands before a minute, by where it stood before.
    fn stand(&self, group: &Group, minute: Minute) -> Option<Standing> {
        let mut standing = group.standing.filter(|standing| standing.until > minute - LATEST)?;
        for at in standing.until..minute {
            let exposed = self.exposed(group, standing.mean_exposure, at);
            standing
                .belief
                .follow(group.counts.between(at, at + 1), exposed, &standing.usual);
        }
        standing.until = minute;
        Some(standing)
    }

    /// Lets all rises of an error see the minutes up to one in which it occurred, and supposes one
    /// that begins with it. `watched`: minutes for which a rise since a deploy is looked at.
    pub fn follow(&mut self, error: &str, minute: Minute, watched: Minute) {
        let Some(mut group) = self.groups.remove(error) else {
            return;
        };
        let calm = group.calm_since();
        let mut rises = std::mem::take(&mut group.rises);
        for deploy in self
            .deploys
            .iter()
            .rev()
            .take_while(|deploy| minute - deploy.at <= watched && deploy.at >= calm)
        {
            if !rises
                .iter()
                .any(|rise| rise.versions == Some(deploy.versions) && rise.since == deploy.at)
            {
                rises.extend(self.suppose(&group, deploy.at, Some(deploy.versions), |usual, past| {
                    self.stands(&group, usual, past, deploy.at)
                }));
            }
        }
        rises.retain(|rise| rise.since >= calm && minute - rise.since <= watched);
        group.standing = self.stand(&group, minute);
        let rise = self.suppose(&group, minute, None, |usual, past| match group.standing {
            Some(standing) => standing.belief,
            None => self.stands(&group, usual, past, minute),
        });
        let rise = rise.map(|rise| match group.standing {
            Some(Standing { usual, belief, .. }) => Rise {
                by_count: Process::new(usual, belief.at_least(LOWEST * usual.rate)),
                ..rise
            },
            None => rise,
        });
        if let Some(rise) = rise.as_ref().filter(|_| group.standing.is_none()) {
            let (usual, belief) = rise.by_count.stands();
            group.standing = Some(Standing {
                usual,
                belief,
                until: minute,
                mean_exposure: rise.mean_exposure,
            });
        }
        rises.extend(rise);
        for rise in &mut rises {
            group.advance(rise, minute + 1, &self.traffic);
        }
        thin(&mut rises, &group, minute);
        group.rises = rises;
        self.groups.insert(error.to_owned(), group);
    }

    /// A rise as it is said: its count and what was due.
    pub fn told(&self, group: &Group, rise: &Rise) -> Told {
        let (from, until) = (rise.since, rise.until);
        let all = self.traffic.most.between(from, until);
        let share =
            |versions| self.traffic.of(versions, from, until) / self.traffic.exposure.between(from, until).max(1e-9);
        let of_versions = rise.versions.map(|versions| (versions, share(versions) * all));
        let (count, exposure) = match of_versions {
            // A version beside another is held against its own share.
            Some((versions, exposure)) if exposure < 0.5 * all => (group.of_versions(versions, from, until), exposure),
            _ => (group.counts.between(from, until), all),
        };
        let share = if all > 0.0 { exposure / all } else { 1.0 };
        let expected = self.expected(group, from, until - from, (exposure, share));
        Told {
            since: from,
            count,
            expected,
            nats: group.nats(rise),
            clumps: rise.clumps,
        }
    }
}

pub(super) fn past_of(group: &Group, (first, until): (Minute, Minute)) -> Minute {
    group.since.max(until - PAST).max(first)
}

/// The errors that tell how busy a service is, with what is usual of each.
pub(super) fn telling<'a>(
    groups: &'a BTreeMap<String, Group>,
    exposure: &Sums,
    (first, known): (Minute, Minute),
) -> Vec<Telling<'a>> {
    let telling = groups.values().filter_map(|group| {
        let counts = match group.clumps(known) {
            Clumps::None => &group.counts,
            Clumps::Incidents => &group.incidents,
            Clumps::Bursts => return None,
        };
        let since = past_of(group, (first, known));
        let usual = counts.between(since, known) / exposure.between(since, known).max(1e-9);
        let telling = Telling {
            counts,
            usual,
            weight: group.nature.weight(usual),
        };
        (usual > LEAST_HEARD && known - since >= HEARD).then_some((group.episode.is_none(), telling))
    });
    let (calm, raised): (Vec<_>, Vec<_>) = telling.partition(|(is_calm, _)| *is_calm);
    let due = |of: &[(bool, Telling<'_>)]| {
        of.iter()
            .map(|(_, telling)| telling.usual * telling.weight)
            .sum::<f64>()
    };
    // Where most are raised it is rather the service that is busier.
    let raised = if due(&calm) < due(&raised) { raised } else { vec![] };
    calm.into_iter().chain(raised).map(|(_, telling)| telling).collect()
}

/// What each error that follows the requests had from a minute to another, and what is due of it at an exposure of 1.
fn voices(
    groups: &BTreeMap<String, Group>,
    exposure: &Sums,
    (first, since): (Minute, Minute),
    until: Minute,
) -> Vec<Voice> {
    let voice = |group: &Group| {
        let counts = match group.clumps(since) {
            Clumps::None => &group.counts,
            Clumps::Incidents => &group.incidents,
            Clumps::Bursts => return None,
        };
        let from = past_of(group, (first, since));
        let (known, exposed) = (counts.between(from, since), exposure.between(from, since));
        let tells = known >= LEAST_KNOWN && exposed > 0.0 && since - from >= HEARD && group.nature.follows > 0.5;
        tells.then(|| {
            (
                group.episode.is_none(),
                Voice {
                    seen: counts.between(since, until),
                    due: known / exposed,
                    follows: group.nature.follows,
                },
            )
        })
    };
    let (calm, raised): (Vec<_>, Vec<_>) = groups.values().filter_map(voice).partition(|(is_calm, _)| *is_calm);
    // Where most are raised it is rather the service that is busier.
    let raised = if calm.len() < raised.len() { raised } else { vec![] };
    calm.into_iter().chain(raised).map(|(_, voice)| voice).collect()
}

/// How much errors tell together of whether they are reported: occurrences that are due, of each no more than some.
fn told_by(voices: &[Voice]) -> f64 {
    voices
        .iter()
        .map(|voice| (voice.due * voice.follows).min(TOLD_BY_ONE))
        .sum()
}

/// Of how many of the latest occurrences a version's are, by all errors but one, none of which has
/// more to say than another.
fn split(groups: &BTreeMap<String, Group>, version: u32, minute: Minute) -> Split {
    let mut splits: Vec<Split> = groups
        .values()
        .filter_map(|group| {
            let all = group.counts.between(minute + 1 - SPLIT_OVER, minute + 1);
            (all > 0.0).then(|| {
                let versions = Versions {
                    first: version,
                    later: false,
                };
                let of_version = group.of_versions(versions, minute + 1 - SPLIT_OVER, minute + 1);
                let say = all.min(SPLIT_SAY) / all;
                Split {
                    of_version: of_version * say,
                    all: all * say,
                }
            })
        })
        .collect();
    splits.sort_by(|a, b| b.of_version.total_cmp(&a.of_version));
    let others = splits.iter().skip(1);
    others.fold(Split::default(), |sum, split| Split {
        of_version: sum.of_version + split.of_version,
        all: sum.all + split.all,
    })
}

/// Keeps of rises that begin anywhere the strongest of about each age.
pub(super) fn thin(rises: &mut Vec<Rise>, group: &Group, minute: Minute) {
    let age = |rise: &Rise| -> i64 {
        #[expect(clippy::cast_possible_truncation, reason = "an age in steps")]
        let age = (span(rise.since, minute + 1).log2() * AGES) as i64;
        age
    };
    let mut best: BTreeMap<i64, (f64, Minute)> = BTreeMap::new();
    for rise in rises.iter().filter(|rise| rise.versions.is_none()) {
        let nats = group.nats(rise).least(rise.clumps);
        let kept = best.entry(age(rise)).or_insert((nats, rise.since));
        if nats > kept.0 {
            *kept = (nats, rise.since);
        }
    }
    let is_best = |rise: &Rise| best.get(&age(rise)).is_some_and(|(_, since)| *since == rise.since);
    rises.retain(|rise| rise.versions.is_some() || (minute - rise.since < LONGEST && is_best(rise)));
}
