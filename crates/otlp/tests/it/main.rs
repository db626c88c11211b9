//! Decoders take any bytes.

use outcrop_core::Timestamp;
use outcrop_core::failure::{Limits, find_in_logs, find_in_spans};
use outcrop_otlp::{Encoding, decode_logs, decode_traces};
use outcrop_testkit::recorded;
use proptest::prelude::*;
use proptest::sample::Index;

fn limits() -> Limits<'static> {
    Limits {
        received: Timestamp::from_millis(1_900_000_000_000),
        oldest: Timestamp(0),
        scrubbing: &outcrop_core::scrub::BUILT_IN,
        groups: &outcrop_core::failure::NO_GROUPS,
    }
}

fn take(bytes: &[u8]) {
    for encoding in [Encoding::Protobuf, Encoding::Json] {
        if let Ok(decoded) = decode_traces(bytes, encoding) {
            find_in_spans(decoded.groups, limits()).reports.iter().for_each(|report| drop(outcrop_otlp::sent_as_json(report)));
        }
        if let Ok(decoded) = decode_logs(bytes, encoding) {
            find_in_logs(decoded.groups, limits()).reports.iter().for_each(|report| drop(outcrop_otlp::sent_as_json(report)));
        }
    }
}

proptest! {
    #[test]
    fn random_bytes_are_taken_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        take(&bytes);
    }

    #[test]
    fn a_secret_planted_anywhere_is_in_nothing_that_is_kept(planted in outcrop_testkit::planted(1_800_000_000_000_000_000)) {
        let bytes = planted.body.to_string();
        let found = if planted.path == "/v1/traces" {
            find_in_spans(decode_traces(bytes.as_bytes(), Encoding::Json).unwrap().groups, limits())
        } else {
            find_in_logs(decode_logs(bytes.as_bytes(), Encoding::Json).unwrap().groups, limits())
        };
        prop_assert!(!found.reports.is_empty());
        let mut kept = format!("{found:?}");
        for chunk in &found.chunks {
            kept.push_str(&String::from_utf8_lossy(&chunk.body));
        }
        for report in &found.reports {
            kept.push_str(&outcrop_otlp::sent_as_json(report).to_string());
        }
        prop_assert!(!kept.contains(&planted.secret), "{} is kept of {bytes}", planted.secret);
    }

    #[test]
    fn damaged_real_bodies_are_taken_or_refused(body in 0usize..4, hits in prop::collection::vec((any::<Index>(), any::<u8>()), 1..12), cut in any::<Index>()) {
        let names = ["three-services-1-gangway.traces.json", "nested-span-fares.traces.pb", "nul-fares.traces.pb", "handled-sailings-logs.logs.pb"];
        let mut bytes = recorded(names[body]).bytes;
        for (index, byte) in hits {
            let at = index.index(bytes.len());
            bytes[at] = byte;
        }
        take(&bytes);
        take(&bytes[..cut.index(bytes.len())]);
    }
}

#[test]
fn invalid_utf8_in_a_protobuf_body_is_replaced_and_the_rest_kept() {
    let mut bytes = recorded("three-services-3-fares.traces.pb").bytes;
    let at = bytes.windows(12).position(|window| window == b"tariff.quote").unwrap();
    bytes[at] = 0xff;
    let decoded = decode_traces(&bytes, Encoding::Protobuf).unwrap();
    let names: Vec<&str> = decoded.groups.iter().flat_map(|group| &group.records).map(|span| span.name.as_str()).collect();
    assert!(names.contains(&"\u{fffd}ariff.quote"), "{names:?}");
    assert_eq!(names.len(), 5);
}

#[test]
fn the_same_request_in_both_encodings_reads_the_same() {
    // What is rendered as OTLP/JSON from protobuf reads back as the same record.
    let decoded = decode_traces(&recorded("nested-span-fares.traces.pb").bytes, Encoding::Protobuf).unwrap();
    let found = find_in_spans(decoded.groups, limits());
    for report in &found.reports {
        let json = outcrop_otlp::sent_as_json(report).to_string();
        let again = find_in_spans(decode_traces(json.as_bytes(), Encoding::Json).unwrap().groups, limits());
        assert!(again.reports.iter().any(|other| other.facts.id == report.facts.id && other.message == report.message));
    }
}
