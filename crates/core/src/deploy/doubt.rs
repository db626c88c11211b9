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

/// What a step in the request counts looks like some minutes after it.
struct Look {
    since: Minute,
    until: Minute,
    /// The first of the minutes that tell how many times as many there are now.
    latest: Minute,
    /// How many times as many as before there were of late.
    lately: f64,
    /// Requests reported of late.
    counted: f64,
    /// How many times as many as before there were since.
    times: f64,
    /// By how many nats the errors say that the step is one of the requests.
    said: f64,
}

impl Look {
    /// Whether there are as many as before again.
    fn is_back(&self) -> bool {
        self.lately.ln().abs() < LEAST_STEP / 2.0
    }
}

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
        let Some(look) = self.look(minute, heard) else {
            return vec![];
        };
        if let Some(known) = self.back_at_first(&look, requests, first) {
            return known;
        }
        // Chance makes small steps of some minutes.
        let is_small = look.lately.ln().abs() < PLAIN_STEP && !look.is_back();
        if is_small && look.until - look.since < 3 * BRIEF {
            return vec![];
        }
        match self.doubt.as_ref().and_then(|doubt| doubt.decided) {
            Some(decided) => self.after_decision(&look, decided, mixed),
            None => self.undecided(&look),
        }
    }

    /// What a step looks like now; `None` where too little has come since.
    fn look(&self, minute: Minute, heard: impl Fn(Minute) -> Vec<Voice>) -> Option<Look> {
        let doubt = self.doubt.as_ref()?;
        let (since, until) = (doubt.since, minute + 1);
        if until - since < BRIEF {
            return None;
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
            return None;
        }
        let (reported, before) = (
            doubt.reported.between(since, until),
            doubt.as_before.between(since, until),
        );
        let said = heard(since).iter().map(|voice| says(voice, reported, before)).sum();
        Some(Look {
            since,
            until,
            latest,
            lately,
            counted,
            times: reported / before,
            said,
        })
    }

    /// After a time in which they were measured in another way, requests are counted again as they were before it.
    fn back_at_first(&mut self, look: &Look, requests: &Sums, first: Minute) -> Option<Vec<(Minute, f64)>> {
        let Look {
            since,
            until,
            latest,
            lately,
            counted,
            ..
        } = *look;
        let level = self.at_first?;
        let due: f64 = (latest..until).map(|at| level.due(requests, at, first)).sum();
        let stands = (counted / due.max(1e-9)).ln();
        let stood = (counted / due.max(1e-9) / lately).ln();
        if counted <= 0.0 || stands.abs() >= NEARLY_FIRST.min(stood.abs() / 2.0) {
            return None;
        }
        let known = minutes(&self.doubt.as_ref()?.as_before, since, until);
        self.end_times(since);
        self.factors.clear();
        (self.newest, self.at_first) = (1.0, None);
        self.stable_since = self.stable_since.max(latest);
        Some(self.settled(known))
    }

    /// The step was taken for one of measuring, `times` as many: until it settles, or what follows says otherwise.
    fn after_decision(
        &mut self,
        look: &Look,
        (decided, times): (Minute, f64),
        mixed: impl Fn() -> Vec<(u32, f64)>,
    ) -> Vec<(Minute, f64)> {
        let Look {
            since, until, latest, ..
        } = *look;
        let Some(doubt) = &self.doubt else { return vec![] };
        if look.said >= DECIDED {
            // What followed says otherwise.
            let known = minutes(&doubt.reported, since, until);
            self.stable_since = since;
            return self.settled(known);
        }
        let is_back = look.is_back();
        if !is_back && until - 1 < decided + SETTLING {
            return vec![];
        }
        let known = minutes(&doubt.as_before, since, until);
        let before = doubt.before;
        if is_back {
            self.note(Measured::Times(times), since, until - BRIEF);
        } else {
            self.measure_anew((latest, since), look.lately, &mixed());
            let is_plain = self.recent.back().is_some_and(|(_, report)| self.is_plain(report));
            self.at_first = if is_plain {
                None
            } else {
                Some(self.at_first.unwrap_or(before))
            };
            self.stable_since = self.stable_since.max(latest);
        }
        self.settled(known)
    }

    /// Nothing was decided of the step yet.
    fn undecided(&mut self, look: &Look) -> Vec<(Minute, f64)> {
        let Look { since, until, said, .. } = *look;
        let Some(doubt) = &mut self.doubt else { return vec![] };
        let is_late = until - since >= PATIENCE;
        if look.is_back() {
            // It stepped, and stepped back: what it was in between the errors have not decided.
            let is_brief = until - since <= 3 * BRIEF;
            let is_of_requests = said > 0.0 && !is_brief;
            let known = minutes(
                if is_of_requests {
                    &doubt.reported
                } else {
                    &doubt.as_before
                },
                since,
                until,
            );
            if !is_brief && said <= 0.0 {
                self.note(Measured::Unsure(look.times), since, until - BRIEF);
            }
            self.settled(known)
        } else if said >= DECIDED || (is_late && said >= -LEANING) {
            let known = minutes(&doubt.reported, since, until);
            self.stable_since = since;
            self.settled(known)
        } else if said <= -DECIDED || is_late {
            doubt.decided = Some((until - 1, look.lately));
            minutes(&doubt.as_before, since, until)
        } else {
            vec![]
        }
    }

    /// The doubt is over.
    fn settled(&mut self, known: Vec<(Minute, f64)>) -> Vec<(Minute, f64)> {
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
        let grown = of_deploy.map(|version| {
            let of_version = corrected.get(&version).copied().unwrap_or_default();
            let left = (truly - (all - of_version)).max(0.02 * truly);
            (version, of_version.max(0.5) / left)
        });
        self.rescale(&report, grown, times);
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

    /// Takes the deployed version's reports for so many times as many as it has requests, or all versions' for `times`.
    fn rescale(&mut self, report: &BTreeMap<u32, f64>, of_deploy: Option<(u32, f64)>, times: f64) {
        if let Some((version, grown)) = of_deploy {
            let factor = self.factor(version) * grown;
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
