use std::collections::HashMap;

use outcrop_core::failure::{Found, Limits, find_in_logs, find_in_spans};
use outcrop_core::{Digest, Timestamp};
use outcrop_otlp::{Encoding, Room, decode_logs, decode_traces};
use outcrop_testkit::{Body, newest, recorded};
use proptest::prelude::*;
use proptest::sample::Index;

use crate::ledger::{Atom, Ledger};

const RECORDED: &[&str] = &[
    "three-services-1-gangway.traces.json",
    "three-services-3-fares.traces.pb",
    "three-services-4-gangway-logs.logs.json",
    "three-services-6-fares-logs.logs.pb",
    "nested-span-fares.traces.pb",
    "nested-span-gangway.traces.json",
    "background-task-fares.traces.pb",
    "sql-error-manifest.traces.pb.gz",
    "timeout-sailings.traces.pb",
    "exception-group-fares.traces.pb",
    "connection-refused-gangway.traces.json",
    "user-headers-gangway.traces.json",
    "old-sdk-notices.traces.pb",
    "old-sdk-notices-logs.logs.pb",
    "mixed-batch-gangway.traces.json",
];

fn find(body: &Body) -> Found {
    let encoding = Encoding::of_content_type(body.content_type).unwrap();
    let received = Timestamp::from_otlp(newest(body)).unwrap();
    let limits = Limits {
        received,
        oldest: received.plus_millis(-86_400_000),
        scrubbing: &outcrop_core::scrub::BUILT_IN,
        groups: &outcrop_core::telemetry::NO_GROUPS,
    };
    if body.path == "/v1/traces" {
        find_in_spans(
            decode_traces(&body.bytes, encoding, &mut Room::new(&mut |_| true))
                .unwrap()
                .groups,
            limits,
        )
    } else {
        find_in_logs(
            decode_logs(&body.bytes, encoding, &mut Room::new(&mut |_| true))
                .unwrap()
                .groups,
            limits,
        )
    }
}

/// Each span and each report of the recorded bodies by itself.
fn atoms() -> Vec<Atom> {
    let mut atoms = vec![];
    let mut endpoints: HashMap<String, u32> = HashMap::new();
    for found in RECORDED.iter().map(|name| find(&recorded(name))) {
        let key =
            |service: &str, trace: [u8; 16]| u128::from_be_bytes(trace) ^ u128::from(Digest::of([service]).short());
        for span in found.spans {
            let mut facts = span.facts;
            let next = u32::try_from(endpoints.len()).unwrap();
            facts.endpoint = span.entry.map(|entry| *endpoints.entry(entry.endpoint).or_insert(next));
            atoms.push(Atom::Span(key(&span.identity.service, span.trace_id.0), facts));
        }
        for report in found.reports {
            atoms.push(Atom::Report(
                report.trace_id.map(|trace| key(&report.identity.service, trace.0)),
                report.facts,
            ));
        }
    }
    atoms
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn recorded_reports_end_the_same_in_any_order_and_batching(swaps in prop::collection::vec(any::<Index>(), 400),
        cuts in prop::collection::vec(any::<Index>(), 0..60), again in prop::collection::vec(any::<Index>(), 0..40)) {
        let mut shuffled = atoms();
        let expected = Ledger::of([shuffled.as_slice()]).counted();
        for (at, swap) in swaps.iter().enumerate().take(shuffled.len()) {
            let other = swap.index(shuffled.len());
            shuffled.swap(at, other);
        }
        for index in again {
            let repeated = shuffled[index.index(shuffled.len())].clone();
            shuffled.push(repeated);
        }
        let mut borders: Vec<usize> = cuts.iter().map(|cut| cut.index(shuffled.len())).collect();
        borders.extend([0, shuffled.len()]);
        borders.sort_unstable();
        let ledger = Ledger::of(borders.windows(2).map(|pair| &shuffled[pair[0]..pair[1]]));
        prop_assert_eq!(ledger.counted(), expected);
    }

    #[test]
    fn made_up_reports_end_the_same_one_by_one_and_all_at_once(atoms in crate::failures::made_up(),
        swaps in prop::collection::vec(any::<Index>(), 40)) {
        let expected = Ledger::of([atoms.as_slice()]).counted();
        let mut shuffled = atoms;
        for (at, swap) in swaps.iter().enumerate().take(shuffled.len()) {
            let other = swap.index(shuffled.len());
            shuffled.swap(at, other);
        }
        prop_assert_eq!(Ledger::of(shuffled.chunks(1)).counted(), expected);
    }
}
