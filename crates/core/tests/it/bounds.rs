//! What a sender can make large stays bounded, and nothing of it is lost from the counts.

use std::sync::Arc;

use outcrop_core::Timestamp;
use outcrop_core::failure::{
    Found, Limits, MAX_EXCEPTIONS, OccurrenceId, PairingEntry, PairingState, TraceNews, TraceState, find_in_logs,
    find_in_metrics, find_in_spans,
};
use outcrop_core::telemetry::{
    Attributes, LogRecord, Reading, Resource, Scope, ScopeRecords, Span, SpanEvent, SpanId, SpanKind, TraceId, Value,
};
use proptest::prelude::*;

use crate::failures;

pub const NOW: Timestamp = Timestamp::from_millis(1_795_000_000_000);
const DAY_MS: i64 = 86_400_000;

pub fn limits() -> Limits<'static> {
    Limits {
        received: NOW,
        oldest: NOW.plus_millis(-30 * DAY_MS),
        scrubbing: &outcrop_core::scrub::BUILT_IN,
        groups: &outcrop_core::telemetry::NO_GROUPS,
    }
}

pub fn resource(service: &str, host: &str) -> Arc<Resource> {
    let text = |text: &str| Value::String(text.to_owned());
    Arc::new(Resource {
        attributes: [("service.name", text(service)), ("host.name", text(host))]
            .into_iter()
            .collect(),
    })
}

pub fn of<T>(resource: Arc<Resource>, records: Vec<T>) -> ScopeRecords<T> {
    ScopeRecords {
        resource,
        scope: Arc::new(Scope::default()),
        records,
    }
}

fn exception(at: Timestamp, message: &str) -> SpanEvent {
    let text = |text: &str| Value::String(text.to_owned());
    let attributes = [
        ("exception.type", text("BerthTaken")),
        ("exception.message", text(message)),
    ]
    .into_iter()
    .collect();
    SpanEvent {
        name: "exception".to_owned(),
        time: Some(at),
        attributes,
    }
}

pub fn span(id: u64, at: Timestamp, events: Vec<SpanEvent>) -> Span {
    Span {
        trace_id: TraceId([7; 16]),
        span_id: SpanId(id),
        parent_id: None,
        name: "settle".to_owned(),
        kind: SpanKind::Internal,
        start: Some(at.plus_millis(-60_000)),
        end: Some(at),
        attributes: Attributes::default(),
        events,
        links: vec![],
        is_error: true,
        status_message: String::new(),
        flags: 0,
        one_in: None,
    }
}

fn counted(found: &Found) -> u64 {
    found.reports.len() as u64 + found.counted_only.iter().map(|counted| counted.count).sum::<u64>()
}

#[test]
fn every_exception_of_a_span_is_counted_and_few_are_told_in_full() {
    let events = (0..20_000)
        .map(|at| exception(NOW.plus_millis(at % 7_000 - 30_000), &format!("berth {at} is taken")))
        .collect();
    let mut failing = span(1, NOW, events);
    failing.attributes = [("skerry.manifest", Value::String("x".repeat(1 << 20)))]
        .into_iter()
        .collect();
    let found = find_in_spans(vec![of(resource("ledger", "pier-3"), vec![failing])], limits());
    assert_eq!((found.reports.len(), counted(&found)), (MAX_EXCEPTIONS, 20_000));
    // They have the same template: each is counted with the first one's cause, by the minute it happened in.
    assert!(
        found
            .counted_only
            .iter()
            .all(|counted| counted.like == Some(found.reports[0].facts.id))
    );
    assert!(found.counted_only.len() <= 2, "{:?}", found.counted_only);
    assert_eq!(found.refused.count, 0);
    assert!(
        found.refused.reason.contains("counted without details"),
        "{}",
        found.refused.reason
    );
}

#[test]
fn the_same_exception_event_twice_is_one_failure_past_the_limit_too() {
    let one = |at: i64| exception(NOW.plus_millis(at - 30_000), "berth 7 is taken");
    let events = (0..1_000).map(one).chain((0..1_000).map(one)).collect();
    let found = find_in_spans(
        vec![of(resource("ledger", "pier-3"), vec![span(1, NOW, events)])],
        limits(),
    );
    assert_eq!(counted(&found), 1_000);
}

#[test]
fn an_error_that_occurs_late_on_a_long_span_is_told_in_full_once() {
    let stack = |at: usize| {
        let text = format!(
            "Traceback (most recent call last):\n  File \"/srv/ledger/settle.py\", line 7, in step{}\nKeyError: 'a'",
            at / 500
        );
        let mut event = exception(NOW.plus_millis(i64::try_from(at).unwrap() - 30_000), "'a'");
        event
            .attributes
            .0
            .push(("exception.stacktrace".to_owned(), Value::String(text)));
        event
    };
    let found = find_in_spans(
        vec![of(
            resource("ledger", "pier-3"),
            vec![span(1, NOW, (0..2_000).map(stack).collect())],
        )],
        limits(),
    );
    let keys: std::collections::HashSet<_> = found.reports.iter().map(|report| report.grouping.key).collect();
    assert_eq!(
        (keys.len(), counted(&found)),
        (4, 2_000),
        "each of the four errors has its cause"
    );
}

#[test]
fn full_reports_of_a_request_have_room_and_the_rest_is_counted() {
    let large: Attributes = [("skerry.manifest", Value::String("x".repeat(8_000)))]
        .into_iter()
        .collect();
    let spans = (1..=9_000)
        .map(|id| Span {
            attributes: large.clone(),
            ..span(id, NOW, vec![exception(NOW, "no berth")])
        })
        .collect();
    let found = find_in_spans(vec![of(resource("ledger", "pier-3"), spans)], limits());
    assert_eq!(counted(&found), 9_000);
    assert!((1_000..3_000).contains(&found.reports.len()), "{}", found.reports.len());
}

#[test]
fn an_exception_lies_within_its_span_whatever_its_own_time_says() {
    let days = (1..=1_000)
        .map(|day| exception(NOW.plus_millis(day * DAY_MS), &format!("on day {day}")))
        .collect();
    let found = find_in_spans(
        vec![of(resource("ledger", "pier-3"), vec![span(1, NOW, days)])],
        limits(),
    );
    assert_eq!(counted(&found), 1_000);
    assert!(found.reports.iter().all(|report| report.facts.id.at() == NOW));
    assert!(found.counted_only.iter().all(|counted| counted.minute == NOW.minute()));
}

#[test]
fn a_clock_that_is_ahead_moves_its_own_times_alone() {
    let right = span(1, NOW, vec![exception(NOW.plus_millis(-5), "here")]);
    let ahead = span(
        2,
        NOW.plus_millis(3_600_000),
        vec![exception(NOW.plus_millis(3_600_000), "there")],
    );
    let found = find_in_spans(
        vec![
            of(resource("fares", "pier-3"), vec![right]),
            of(resource("sailings", "pier-4"), vec![ahead]),
        ],
        limits(),
    );
    let times: Vec<(&str, i64, i64)> = found
        .reports
        .iter()
        .map(|report| {
            (
                report.message.as_str(),
                report.facts.at.millis() - NOW.millis(),
                report.clock_ahead_ms,
            )
        })
        .collect();
    assert_eq!(times, [("here", -5, 0), ("there", 0, 3_600_000)]);
    let clocks: Vec<(&str, i64)> = found
        .clocks_ahead
        .iter()
        .map(|(identity, ms)| (identity.service.as_str(), *ms))
        .collect();
    assert_eq!(clocks, [("sailings", 3_600_000)]);
}

#[test]
fn readings_older_than_the_retention_are_no_instances() {
    let reading = |at: Timestamp| Reading {
        name: "process.memory.usage".to_owned(),
        value: 7.0,
        at: Some(at),
        ..Reading::default()
    };
    let found = find_in_metrics(
        vec![of(
            resource("fares", "pier-3"),
            vec![reading(NOW.plus_millis(-40 * DAY_MS))],
        )],
        limits(),
    );
    assert!(found.instances.is_empty() && found.points.is_empty());
    assert_eq!(
        find_in_metrics(vec![of(resource("fares", "pier-3"), vec![reading(NOW)])], limits())
            .instances
            .len(),
        1
    );
}

/// A request of either signal: two services, in or out of the accepted window, in a trace or not.
fn request() -> impl Strategy<Value = Found> {
    let record = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>());
    (any::<bool>(), proptest::collection::vec(record, 1..6)).prop_map(|(is_log, records)| {
        let of_service = |is_fares: bool| resource(if is_fares { "fares" } else { "ledger" }, "pier-3");
        if is_log {
            let groups = records.into_iter().map(|(is_fares, is_old, is_traced, is_event)| {
                let record = LogRecord {
                    time: Some(NOW.plus_millis(if is_old { -40 * DAY_MS } else { -5 })),
                    severity: 17,
                    body: Value::String("no berth".to_owned()),
                    trace_id: is_traced.then_some(TraceId([7; 16])),
                    attributes: if is_event {
                        let text = |text: &str| Value::String(text.to_owned());
                        [
                            ("k8s.event.reason", text("OOMKilling")),
                            ("k8s.pod.name", text("fares-7")),
                        ]
                        .into_iter()
                        .collect()
                    } else {
                        Attributes::default()
                    },
                    ..LogRecord::default()
                };
                of(of_service(is_fares), vec![record])
            });
            return find_in_logs(groups.collect(), limits());
        }
        let groups = records
            .into_iter()
            .enumerate()
            .map(|(id, (is_fares, is_old, is_failing, is_call))| {
                let at = NOW.plus_millis(if is_old { -40 * DAY_MS } else { 0 });
                let events = if is_failing {
                    vec![exception(at, "no berth")]
                } else {
                    vec![]
                };
                let mut span = span(id as u64 + 1, at, events);
                if is_call {
                    span.kind = SpanKind::Client;
                    span.attributes = [("db.system.name", Value::String("postgresql".to_owned()))]
                        .into_iter()
                        .collect();
                }
                of(of_service(is_fares), vec![span])
            });
        find_in_spans(groups.collect(), limits())
    })
}

proptest! {
    #[test]
    fn nothing_is_left_of_a_sender_whose_records_are_all_refused(mut found in request()) {
        let records = (found.spans.len() + found.lines.len()) as u64 + found.refused.count;
        found.refuse(|identity| (identity.service == "ledger").then(|| "not yours".to_owned()));
        prop_assert!(found.identities().all(|identity| identity.service == "fares"));
        prop_assert_eq!((found.spans.len() + found.lines.len()) as u64 + found.refused.count, records);
        // What is too old leaves nothing either: no identity without a record of its own.
        let of_lines = found.lines.iter().map(|line| &line.identity);
        let taken: Vec<_> = found.spans.iter().map(|span| &span.identity).chain(of_lines).collect();
        prop_assert!(found.identities().all(|identity| taken.contains(&identity)));
        let earliest = limits().oldest;
        prop_assert!(found.reports.iter().all(|report| report.facts.id.at() >= earliest));
    }
}

/// Failures of one trace, each on a span of its own.
fn failing(from: u64, to: u64) -> TraceNews {
    let atoms = (from..to).map(|id| (failures::span(id + 2, 1, 1), failures::event(id + 2, 5, id)));
    let (spans, reports) = atoms.unzip();
    TraceNews { spans, reports }
}

#[test]
fn the_state_of_a_trace_stays_flat_and_every_failure_is_counted() {
    let mut state = TraceState::default();
    let (mut counted, mut bytes) = (0, vec![]);
    for request in 0..40 {
        let changes = state.add(failing(request * 500, request * 500 + 500));
        counted += changes.counted.len() + changes.surplus.len();
        assert!(changes.withdrawn.is_empty() && changes.absorbed.is_empty());
        state = TraceState::decode(&state.encode()).unwrap();
        bytes.push(state.encode().len());
    }
    assert_eq!(counted, 20_000);
    assert!(bytes[39] == bytes[20] && bytes[39] < 500_000, "{bytes:?}");
    // What is remembered changes nothing when it comes again; what is not is left to what is stored.
    let again = state.add(failing(0, 2_000));
    assert_eq!(
        (again.counted.len(), again.restored.len(), again.surplus.len()),
        (0, 0, 1_000)
    );
}

#[test]
fn what_pairing_has_forgotten_is_never_taken_for_new() {
    let entry = |at: i64| {
        let at = NOW.plus_millis(at * 10);
        let occurrence = OccurrenceId::new(at, outcrop_core::Digest::of([at.0.to_string().as_str()]));
        PairingEntry {
            occurrence,
            at,
            is_traced: false,
            is_part_of: None,
        }
    };
    let mut state = PairingState::default();
    let first = state.add((0..2_000).map(entry).collect(), &[]);
    assert_eq!((first.counted.len(), first.uncertain.len()), (2_000, 0));
    let again = state.add((0..2_100).map(entry).collect(), &[]);
    assert_eq!(again.counted.len(), 100, "the newest were not seen before");
    assert_eq!(
        again.uncertain.len(),
        2_000 - 512,
        "these were forgotten: what is stored must tell"
    );
}

#[test]
fn a_large_resource_is_not_repeated_in_every_trace_without_end() {
    let mut large = Resource::clone(&resource("fares", "pier-3"));
    large
        .attributes
        .0
        .extend((0..40).map(|n| (format!("skerry.{n}"), Value::String("x".repeat(8_000)))));
    let large = Arc::new(large);
    let spans = (1..=20_000_u64)
        .map(|id| Span {
            trace_id: TraceId(u128::from(id).to_be_bytes()),
            ..span(id, NOW, vec![])
        })
        .collect();
    let found = find_in_spans(vec![of(large, spans)], limits());
    let bytes: usize = found.chunks.iter().map(|chunk| chunk.body.len()).sum();
    assert_eq!(found.chunks.len(), 20_000);
    assert!(bytes < 48 << 20, "{bytes}");
    let last = outcrop_core::trace::Chunk::decode(&found.chunks[19_999].body).unwrap();
    assert_eq!(
        last.resource.text(&["host.name"]),
        Some("pier-3"),
        "who sent it is never left out"
    );
}

#[test]
fn a_sampled_request_keeps_what_can_be_compared() {
    let mut entry = span(7, NOW, vec![]);
    entry.is_error = false;
    entry.attributes = [
        ("http.route", Value::String("/v1/quotes".to_owned())),
        ("skerry.body", Value::String("x".repeat(5_000))),
    ]
    .into_iter()
    .collect();
    let spans = (1..=64)
        .map(|id| Span {
            span_id: SpanId(id),
            ..entry.clone()
        })
        .collect();
    let found = find_in_spans(vec![of(resource("fares", "pier-3"), spans)], limits());
    let sampled: Vec<_> = found
        .spans
        .iter()
        .filter_map(|span| span.entry.as_ref()?.sampled.as_ref())
        .collect();
    assert!(
        (4..40).contains(&sampled.len()),
        "one in four, by the hash of the ids: {}",
        sampled.len()
    );
    let told = sampled[0].to_json();
    assert_eq!(
        (
            told["http.route"].as_str(),
            told["host.name"].as_str(),
            told.get("skerry.body")
        ),
        (Some("/v1/quotes"), Some("pier-3"), None)
    );
}
