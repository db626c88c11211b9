//! Deciding whether a step in the request counts is one of the requests, by what the errors say.

use std::collections::BTreeMap;

use crate::deploy::course::Voice;
use crate::deploy::disturbed::{Disturbed, Measured};
use crate::deploy::event::Minute;
use crate::deploy::level::minutes;
use crate::deploy::measure::{
    BRIEF, DECIDED, LEANING, LEAST_COUNTED, LEAST_STEP, Measure, NEARLY_FIRST, PATIENCE, PLAIN_STEP, ROLLOUT, SETTLING,
    SIZED, says,
};
use crate::deploy::series::Sums;

impl Measure {
    /// Lets the errors decide what a step means. `report`: requests by version as reported;
    /// `mixed`: the shares of the versions by what was announced and what the errors say; `heard`:
    /// what each error had since a minute, and what is due of it at an exposure of 1. Returns the
    /// minutes whose requests are known now, with them.
    pub fn decide(
        &mut self,
        (minute, first): (Minute, Minute),
        requests: &Sums,
        report: &BTreeMap<u32, f64>,
        mixed: impl Fn() -> Vec<(u32, f64)>,
        heard: impl Fn(Minute) -> Vec<Voice>,
    ) -> Vec<(Minute, f64)> {
        if report.is_empty() {
            return vec![];
        }
        self.recent.push_back((minute, report.clone()));
        self.recent.retain(|(at, _)| minute - at < SIZED);
        let Some(doubt) = &self.doubt else { return vec![] };
        let (since, until) = (doubt.since, minute + 1);
        if until - since < BRIEF {
            return vec![];
        }
        // The first minute may be a report for several.
        let latest = if doubt.is_sudden { since + 1 } else { until - BRIEF + 1 }.max(until - SIZED);
        let lately = doubt.reported.between(latest, until) / doubt.as_before.between(latest, until).max(1e-9);
        let counted: f64 = self
            .recent
            .iter()
            .filter(|(at, _)| *at >= latest)
            .flat_map(|(_, report)| report.values())
            .sum();
        if counted < LEAST_COUNTED && until - since < SIZED {
            return vec![];
        }
        let (reported, before) = (
            doubt.reported.between(since, until),
            doubt.as_before.between(since, until),
        );
        // After a time in which they were measured in another way, requests are counted again as they were before it.
        if let Some(level) = self.at_first {
            let due: f64 = (latest..until).map(|at| level.due(requests, at, first)).sum();
            let stands = (counted / due.max(1e-9)).ln();
            let stood = (counted / due.max(1e-9) / lately).ln();
            if counted > 0.0 && stands.abs() < NEARLY_FIRST.min(stood.abs() / 2.0) {
                let known = minutes(&doubt.as_before, since, until);
                self.end_times(since);
                self.factors.clear();
                (self.newest, self.at_first, self.doubt) = (1.0, None, None);
                self.stable_since = self.stable_since.max(latest);
                self.plain.replace(&known);
                return known;
            }
        }
        let said: f64 = heard(since).iter().map(|voice| says(voice, reported, before)).sum();
        // Chance makes small steps of some minutes.
        if lately.ln().abs() < PLAIN_STEP && lately.ln().abs() >= LEAST_STEP / 2.0 && until - since < 3 * BRIEF {
            return vec![];
        }
        let is_late = until - since >= PATIENCE;
        let is_back = lately.ln().abs() < LEAST_STEP / 2.0;
        if let Some((decided, times)) = doubt.decided {
            if said >= DECIDED {
                // What followed says otherwise.
                let known = minutes(&doubt.reported, since, until);
                (self.stable_since, self.doubt) = (since, None);
                self.plain.replace(&known);
                return known;
            }
            if is_back || minute >= decided + SETTLING {
                let known = minutes(&doubt.as_before, since, until);
                let before = doubt.before;
                if is_back {
                    self.note(Measured::Times(times), since, until - BRIEF);
                } else {
                    self.measure_anew((latest, since), lately, &mixed());
                    let is_plain = self.recent.back().is_some_and(|(_, report)| self.is_plain(report));
                    self.at_first = if is_plain {
                        None
                    } else {
                        Some(self.at_first.unwrap_or(before))
                    };
                    self.stable_since = self.stable_since.max(latest);
                }
                self.doubt = None;
                self.plain.replace(&known);
                return known;
            }
            return vec![];
        }
        let known = if is_back {
            // It stepped, and stepped back: what it was in between the errors have not decided.
            let is_brief = until - since <= 3 * BRIEF;
            let known = if said > 0.0 && !is_brief {
                minutes(&doubt.reported, since, until)
            } else {
                minutes(&doubt.as_before, since, until)
            };
            if !is_brief && said <= 0.0 {
                self.note(Measured::Unsure(reported / before), since, until - BRIEF);
            }
            known
        } else if said >= DECIDED || (is_late && said >= -LEANING) {
            let known = minutes(&doubt.reported, since, until);
            self.stable_since = since;
            known
        } else if said <= -DECIDED || is_late {
            let known = minutes(&doubt.as_before, since, until);
            if let Some(doubt) = &mut self.doubt {
                doubt.decided = Some((minute, lately));
            }
            return known;
        } else {
            return vec![];
        };
        self.doubt = None;
        self.plain.replace(&known);
        known
    }

    /// From now on so many times as many requests are reported as are. `latest`: the first of the minutes that tell so.
    pub(super) fn measure_anew(&mut self, (latest, since): (Minute, Minute), times: f64, mixed: &[(u32, f64)]) {
        let mut report: BTreeMap<u32, f64> = BTreeMap::new();
        for (version, count) in self
            .recent
            .iter()
            .filter(|(at, _)| *at >= latest)
            .flat_map(|(_, report)| report)
        {
            *report.entry(*version).or_default() += count;
        }
        let corrected = self.corrected(&report);
        let all: f64 = corrected.values().sum();
        let truly = all / times;
        let of_deploy = self
            .deployed
            .filter(|(at, _)| since - at <= ROLLOUT && since + BRIEF >= *at)
            .map(|(_, version)| version);
        // The others report as before, by their share of what there is: what is left is the deployed version's.
        let of_deploy = of_deploy.filter(|version| {
            let others = all - corrected.get(version).copied().unwrap_or_default();
            let due = truly
                * mixed
                    .iter()
                    .filter(|(of, _)| of != version)
                    .map(|(_, share)| share)
                    .sum::<f64>();
            others > 0.0 && due > 0.02 * truly && (others / due).ln().abs() < (others / due / times).ln().abs()
        });
        if let Some(version) = of_deploy {
            let of_version = corrected.get(&version).copied().unwrap_or_default();
            let left = (truly - (all - of_version)).max(0.02 * truly);
            let factor = self.factor(version) * of_version.max(0.5) / left;
            self.factors.insert(version, factor);
            self.newest = factor;
        } else {
            for version in report.keys() {
                let factor = self.factor(*version) * times;
                self.factors.insert(*version, factor);
            }
            self.newest *= times;
        }
        // What is nearly as at first is as at first.
        let at_first = |factor: f64| {
            if f64::ln(factor).abs() < LEAST_STEP / 2.0 {
                1.0
            } else {
                factor
            }
        };
        for factor in self.factors.values_mut() {
            *factor = at_first(*factor);
        }
        self.newest = at_first(self.newest);
        let counted: f64 = report.values().sum();
        let times = counted / self.corrected(&report).values().sum::<f64>().max(1e-9);
        self.end_times(since);
        if f64::ln(times.max(1e-9)).abs() >= LEAST_STEP / 2.0 {
            self.push(Disturbed {
                measured: Measured::Times(times),
                from: since,
                until: None,
            });
        }
    }

    /// Whether each version of a report is taken as it reports.
    pub(super) fn is_plain(&self, report: &BTreeMap<u32, f64>) -> bool {
        report.keys().all(|version| (self.factor(*version) - 1.0).abs() < 1e-9)
    }

    pub(super) fn end_times(&mut self, minute: Minute) {
        for disturbed in self.disturbed.iter_mut().filter(|disturbed| disturbed.until.is_none()) {
            if matches!(disturbed.measured, Measured::Times(_)) {
                disturbed.until = Some(minute);
            }
        }
    }
}
