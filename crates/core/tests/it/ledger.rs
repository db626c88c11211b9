//! A store in memory: it does with changes what the database does.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::Digest;
use outcrop_core::failure::{
    Changes, Failure, OccurrenceId, PairingEntry, PairingState, ReportFacts, SpanFacts, TraceNews, TraceState,
};

/// What arrives at once for one trace of one service, or without a trace.
#[derive(Clone, Debug)]
pub enum Atom {
    Span(u128, SpanFacts),
    Report(Option<u128>, ReportFacts),
}

#[derive(Default)]
pub struct Ledger {
    traces: HashMap<u128, TraceState>,
    pairs: HashMap<Digest, PairingState>,
    traced: BTreeMap<OccurrenceId, Failure>,
    untraced: BTreeMap<OccurrenceId, bool>,
}

impl Ledger {
    pub fn of<'a>(batches: impl IntoIterator<Item = &'a [Atom]>) -> Self {
        let mut ledger = Self::default();
        for batch in batches {
            ledger.take(batch);
        }
        ledger
    }

    pub fn take(&mut self, batch: &[Atom]) {
        let mut news: BTreeMap<u128, TraceNews> = BTreeMap::new();
        let mut pairs: BTreeMap<Digest, (Vec<PairingEntry>, Vec<OccurrenceId>)> = BTreeMap::new();
        for atom in batch {
            match atom.clone() {
                Atom::Span(trace, span) => news.entry(trace).or_default().spans.push(span),
                Atom::Report(Some(trace), report) => news.entry(trace).or_default().reports.push(report),
                Atom::Report(None, report) => pairs.entry(report.pairing).or_default().0.push(entry(&report, false)),
            }
        }
        for (trace, news) in news {
            let state = self.traces.entry(trace).or_default();
            let changes = state.add(news);
            for failure in changes.counted.iter().chain(&changes.restored) {
                let report = state.report(failure.occurrence).unwrap();
                pairs.entry(report.pairing).or_default().0.push(entry(report, true));
            }
            for (gone, _) in &changes.withdrawn {
                pairs
                    .entry(state.report(*gone).unwrap().pairing)
                    .or_default()
                    .1
                    .push(*gone);
            }
            // What is stored between batches must be readable again.
            *state = TraceState::decode(&state.encode()).unwrap();
            self.apply(changes);
        }
        for (key, (added, removed)) in pairs {
            let state = self.pairs.entry(key).or_default();
            let changes = state.add(added, &removed);
            *state = PairingState::decode(&state.encode()).unwrap();
            for counted in changes.counted.iter().chain(&changes.restored) {
                assert_ne!(self.untraced.insert(*counted, true), Some(true), "counted twice");
            }
            for (gone, _) in changes.withdrawn {
                assert_eq!(
                    self.untraced.insert(gone, false),
                    Some(true),
                    "withdrawn without having been counted"
                );
            }
            for (part, _) in changes.absorbed {
                self.untraced.insert(part, false);
            }
        }
    }

    fn apply(&mut self, changes: Changes) {
        for (gone, _) in changes.withdrawn {
            assert!(
                self.traced.remove(&gone).is_some(),
                "withdrawn without having been counted"
            );
        }
        for failure in changes.counted.into_iter().chain(changes.restored) {
            assert!(
                self.traced.insert(failure.occurrence, failure).is_none(),
                "counted twice"
            );
        }
        for failure in changes.completed {
            assert!(
                self.traced.insert(failure.occurrence, failure).is_some(),
                "completed without having been counted"
            );
        }
    }

    /// All that is counted: occurrence, uncaught, severity, user, endpoint.
    pub fn counted(&self) -> Vec<(OccurrenceId, bool, i16, u64, Option<u32>)> {
        let traced = self
            .traced
            .values()
            .map(|f| (f.occurrence, f.uncaught, f.severity, f.user, f.endpoint));
        let untraced = self
            .untraced
            .iter()
            .filter(|(_, counts)| **counts)
            .map(|(id, _)| (*id, false, 0, 0, None));
        traced.chain(untraced).collect()
    }
}

fn entry(report: &ReportFacts, is_traced: bool) -> PairingEntry {
    PairingEntry {
        occurrence: report.id,
        at: report.at,
        is_traced,
        is_part_of: None,
    }
}
