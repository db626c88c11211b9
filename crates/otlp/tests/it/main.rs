//! Decoders take any bytes.

#![expect(clippy::unwrap_used, reason = "helpers of tests fail loudly")]

mod metrics;

use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use outcrop_core::Timestamp;
use outcrop_core::failure::{Limits, find_in_logs, find_in_spans};
use outcrop_core::telemetry::{LogRecord, Span};
use outcrop_otlp::{DecodeError, Encoding, Room};
use outcrop_testkit::recorded;
use proptest::prelude::*;
use proptest::sample::Index;
use prost::Message;

fn limits() -> Limits<'static> {
    Limits {
        received: Timestamp::from_millis(1_900_000_000_000),
        oldest: Timestamp(0),
        scrubbing: &outcrop_core::scrub::BUILT_IN,
        groups: &outcrop_core::telemetry::NO_GROUPS,
    }
}

fn decode_traces(bytes: &[u8], encoding: Encoding) -> Result<outcrop_otlp::Decoded<Span>, DecodeError> {
    outcrop_otlp::decode_traces(bytes, encoding, &mut Room::new(&mut |_| true))
}

fn decode_logs(bytes: &[u8], encoding: Encoding) -> Result<outcrop_otlp::Decoded<LogRecord>, DecodeError> {
    outcrop_otlp::decode_logs(bytes, encoding, &mut Room::new(&mut |_| true))
}

fn take(bytes: &[u8]) {
    for encoding in [Encoding::Protobuf, Encoding::Json] {
        if let Ok(decoded) = decode_traces(bytes, encoding) {
            find_in_spans(decoded.groups, limits())
                .reports
                .iter()
                .for_each(|report| drop(outcrop_otlp::sent_as_json(report)));
        }
        if let Ok(decoded) = decode_logs(bytes, encoding) {
            find_in_logs(decoded.groups, limits())
                .reports
                .iter()
                .for_each(|report| drop(outcrop_otlp::sent_as_json(report)));
        }
    }
}

proptest! {
    #[test]
    fn random_bytes_are_taken_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        take(&bytes);
    }

    #[test]
    fn a_secret_planted_anywhere_is_in_nothing_that_is_kept(
        planted in outcrop_testkit::planted(1_800_000_000_000_000_000),
    ) {
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
    fn damaged_real_bodies_are_taken_or_refused(body in 0usize..4, hits in prop::collection::vec((any::<Index>(),
        any::<u8>()), 1..12), cut in any::<Index>()) {
        let names = ["three-services-1-gangway.traces.json", "nested-span-fares.traces.pb", "nul-fares.traces.pb",
            "handled-sailings-logs.logs.pb"];
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
    let names: Vec<&str> = decoded
        .groups
        .iter()
        .flat_map(|group| &group.records)
        .map(|span| span.name.as_str())
        .collect();
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
        assert!(
            again
                .reports
                .iter()
                .any(|other| other.facts.id == report.facts.id && other.message == report.message)
        );
    }
}

/// Spans and log records as OTLP has them, in either encoding: what can be written in both.
fn sent() -> impl Strategy<Value = ExportTraceServiceRequest> {
    use opentelemetry_proto::tonic::common::v1::{
        AnyValue, ArrayValue, InstrumentationScope, KeyValue, KeyValueList, any_value,
    };
    use opentelemetry_proto::tonic::trace::v1::{self as trace, ResourceSpans, ScopeSpans, span::Event, span::Link};
    let leaf = prop_oneof![
        "[a-zé☃\u{0}]{0,12}".prop_map(any_value::Value::StringValue),
        any::<bool>().prop_map(any_value::Value::BoolValue),
        any::<i64>().prop_map(any_value::Value::IntValue),
        any::<i32>().prop_map(|eighths| any_value::Value::DoubleValue(f64::from(eighths) / 8.0)),
        prop::collection::vec(any::<u8>(), 0..9).prop_map(any_value::Value::BytesValue),
    ];
    let value = leaf.prop_recursive(3, 12, 4, |inner| {
        let values = prop::collection::vec(inner.clone().prop_map(|value| AnyValue { value: Some(value) }), 0..4);
        let entry = ("[a-z.]{1,9}", inner);
        let entry = entry.prop_map(|(key, value)| KeyValue {
            key,
            value: Some(AnyValue { value: Some(value) }),
            ..KeyValue::default()
        });
        prop_oneof![
            values.prop_map(|values| any_value::Value::ArrayValue(ArrayValue { values })),
            prop::collection::vec(entry, 0..4)
                .prop_map(|values| any_value::Value::KvlistValue(KeyValueList { values })),
        ]
    });
    let attribute = ("[a-z.]{1,12}", value).prop_map(|(key, value)| KeyValue {
        key,
        value: Some(AnyValue { value: Some(value) }),
        ..KeyValue::default()
    });
    let attributes = prop::collection::vec(attribute, 0..5);
    let id = || prop::collection::vec(1..=255_u8, 16);
    let event =
        (any::<u64>(), "exception|retry|", attributes.clone()).prop_map(|(time_unix_nano, name, attributes)| Event {
            time_unix_nano,
            name,
            attributes,
            dropped_attributes_count: 0,
        });
    let span = (
        id(),
        "[a-z /]{0,9}",
        0..6_i32,
        any::<u64>(),
        attributes.clone(),
        prop::collection::vec(event, 0..4),
        0..3_i32,
    )
        .prop_map(|(trace_id, name, kind, start, attributes, events, code)| trace::Span {
            span_id: trace_id[..8].to_vec(),
            links: vec![Link {
                trace_id: trace_id.clone(),
                span_id: trace_id[..8].to_vec(),
                ..Link::default()
            }],
            trace_id,
            name,
            kind,
            start_time_unix_nano: start,
            attributes,
            events,
            status: Some(trace::Status {
                message: "no berth".to_owned(),
                code,
            }),
            flags: 257,
            trace_state: "ot=th:8".to_owned(),
            ..trace::Span::default()
        });
    (attributes, prop::collection::vec(span, 0..4)).prop_map(|(attributes, spans)| ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans {
            resource: Some(opentelemetry_proto::tonic::resource::v1::Resource {
                attributes,
                ..Default::default()
            }),
            scope_spans: vec![ScopeSpans {
                scope: Some(InstrumentationScope {
                    name: "skerry".to_owned(),
                    version: "1".to_owned(),
                    ..InstrumentationScope::default()
                }),
                spans,
                schema_url: String::new(),
            }],
            schema_url: String::new(),
        }],
    })
}

/// The request in OTLP/JSON, as the specification writes it.
fn as_json(request: &ExportTraceServiceRequest) -> serde_json::Value {
    use base64::Engine;
    use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value::Value};
    use serde_json::json;
    fn value(sent: &AnyValue) -> serde_json::Value {
        match sent.value.as_ref().unwrap() {
            Value::StringValue(text) => json!({"stringValue": text}),
            Value::BoolValue(flag) => json!({"boolValue": flag}),
            Value::IntValue(number) => json!({"intValue": number.to_string()}),
            Value::DoubleValue(number) => json!({"doubleValue": number}),
            Value::BytesValue(bytes) => json!({"bytesValue": base64::engine::general_purpose::STANDARD.encode(bytes)}),
            Value::ArrayValue(list) => {
                json!({"arrayValue": {"values": list.values.iter().map(value).collect::<Vec<_>>()}})
            }
            Value::KvlistValue(list) => json!({"kvlistValue": {"values": attributes(&list.values)}}),
            Value::StringValueStrindex(_) => serde_json::Value::Null,
        }
    }
    fn attributes(sent: &[KeyValue]) -> Vec<serde_json::Value> {
        sent.iter()
            .map(|entry| json!({"key": entry.key, "value": value(entry.value.as_ref().unwrap())}))
            .collect()
    }
    let hex = |bytes: &[u8]| {
        bytes
            .iter()
            .flat_map(|byte| [byte >> 4, byte & 15])
            .filter_map(|digit| char::from_digit(digit.into(), 16))
            .collect::<String>()
    };
    let of_resource = &request.resource_spans[0];
    let spans = of_resource.scope_spans[0].spans.iter().map(|span| {
        json!({
            "events": span.events.iter().map(|event| json!({"name": event.name,
                "timeUnixNano": event.time_unix_nano.to_string(),
                    "attributes": attributes(&event.attributes)})).collect::<Vec<_>>(),
            "traceId": hex(&span.trace_id), "spanId": hex(&span.span_id), "name": span.name, "kind": span.kind,
                "flags": span.flags,
            "startTimeUnixNano": span.start_time_unix_nano.to_string(), "traceState": span.trace_state,
                "unknown": [{"of": null}],
            "links": [{"traceId": hex(&span.links[0].trace_id), "spanId": hex(&span.links[0].span_id)}],
            "status": {"code": span.status.as_ref().unwrap().code, "message": "no \
             berth"}, "attributes": attributes(&span.attributes),
        })
    });
    // The resource stands last: a reader that goes through once must not need it before.
    json!({"resourceSpans": [{
        "scopeSpans": [{"spans": spans.collect::<Vec<_>>(), "scope": {"name": "skerry", "version": "1"}}],
        "resource": {"attributes": attributes(&of_resource.resource.as_ref().unwrap().attributes)},
    }]})
}

proptest! {
    #[test]
    fn a_request_reads_the_same_in_both_encodings(request in sent()) {
        let of_protobuf = decode_traces(&request.encode_to_vec(), Encoding::Protobuf).unwrap();
        let of_json = decode_traces(as_json(&request).to_string().as_bytes(), Encoding::Json).unwrap();
        prop_assert_eq!(format!("{:?}", of_protobuf.groups), format!("{:?}", of_json.groups));
        prop_assert_eq!(of_protobuf.groups[0].records.len(), request.resource_spans[0].scope_spans[0].spans.len());
    }
}

/// Bodies whose parts are tiny on the wire and large in memory, in both encodings.
fn bombs() -> Vec<(&'static str, Encoding, Vec<u8>)> {
    // Field 1, resource spans, of field 2, scope spans, of field 2, spans.
    let nest = |content: Vec<u8>, tags: &[u8]| {
        tags.iter().fold(content, |content, tag| {
            let mut outer = vec![*tag];
            prost::encoding::encode_varint(content.len() as u64, &mut outer);
            outer.extend(content);
            outer
        })
    };
    let ids = [b"\x0a\x10".as_slice(), &[7; 16], b"\x12\x08", &[7; 8]].concat();
    let exceptions = b"\x5a\x0b\x12\x09exception".repeat(1_000_000);
    let json =
        |spans: String| format!("{{\"resourceSpans\":[{{\"scopeSpans\":[{{\"spans\":[{spans}]}}]}}]}}").into_bytes();
    let span_json = |events: &str| {
        format!(
            "{{\"traceId\":\"{}\",\"spanId\":\"{}\",\"events\":[{events}]}}",
            "07".repeat(16),
            "07".repeat(8)
        )
    };
    vec![
        (
            "records without anything",
            Encoding::Protobuf,
            nest(b"\x12\x00".repeat(4_000_000), b"\x12\x0a"),
        ),
        (
            "events of a span",
            Encoding::Protobuf,
            nest([ids.clone(), exceptions].concat(), b"\x12\x12\x0a"),
        ),
        ("resources", Encoding::Protobuf, b"\x0a\x02\x12\x00".repeat(4_000_000)),
        (
            "events of a span",
            Encoding::Json,
            json(span_json(&["{\"name\":\"exception\"}"; 500_000].join(","))),
        ),
        ("spans", Encoding::Json, json(vec![span_json(""); 120_000].join(","))),
        (
            "an array in an array",
            Encoding::Json,
            json(span_json(&format!(
                "{{\"attributes\":{}{}}}",
                "[".repeat(100),
                "]".repeat(100)
            ))),
        ),
    ]
}

#[test]
fn what_is_built_of_a_body_never_takes_more_than_the_room_there_is() {
    const ROOM: usize = 32 << 20;
    for (name, encoding, body) in bombs() {
        let mut taken = 0;
        let mut more = |bytes: usize| {
            taken += bytes;
            taken <= ROOM
        };
        let decoded = outcrop_otlp::decode_traces(&body, encoding, &mut Room::new(&mut more));
        let built: usize = decoded
            .iter()
            .flat_map(|decoded| &decoded.groups)
            .flat_map(|group| &group.records)
            .map(weight)
            .sum();
        assert!(built <= ROOM, "{name}: {built}");
        assert!(
            decoded.is_ok() || matches!(decoded, Err(DecodeError::NoRoom)),
            "{name}: {decoded:?}"
        );
    }
}

fn weight(span: &Span) -> usize {
    let events: usize = span
        .events
        .iter()
        .map(|event| size_of_val(event) + event.name.len() + event.attributes.weight())
        .sum();
    size_of_val(span) + span.name.len() + span.attributes.weight() + events
}

#[test]
fn what_is_cut_or_past_a_limit_is_said() {
    let span = |extra: &str| {
        format!(
            "{{\"traceId\":\"{}\",\"spanId\":\"{}\",{extra}}}",
            "07".repeat(16),
            "07".repeat(8)
        )
    };
    let of = |spans: &[String]| {
        format!(
            "{{\"resourceSpans\":[{{\"scopeSpans\":[{{\"spans\":[{}]}}]}}]}}",
            spans.join(",")
        )
    };
    let link = format!(
        "{{\"traceId\":\"{}\",\"spanId\":\"{}\"}}",
        "07".repeat(16),
        "07".repeat(8)
    );
    let attribute = |at: usize| format!("{{\"key\":\"skerry.{at}\",\"value\":{{\"intValue\":{at}}}}}");
    let attributes: Vec<String> = (0..300)
        .map(attribute)
        .chain(["{\"key\":\"http.route\"}".to_owned()])
        .collect();
    for (body, refused, said) in [
        (
            of(&[span(&format!(
                "\"events\":[{}]",
                vec!["{\"name\":\"retry\"}"; 300].join(",")
            ))]),
            0,
            "events past 128",
        ),
        (
            of(&[span(&format!("\"links\":[{}]", vec![link.as_str(); 200].join(",")))]),
            0,
            "links past 128",
        ),
        (
            of(&[span(&format!("\"attributes\":[{}]", attributes.join(",")))]),
            0,
            "attributes past 256",
        ),
        (of(&vec![span("\"name\":\"moor\""); 100_007]), 7, "records past 100000"),
    ] {
        let decoded = decode_traces(body.as_bytes(), Encoding::Json).unwrap();
        assert_eq!(decoded.refused.count, refused, "{said}");
        assert!(decoded.refused.reason.contains(said), "{}", decoded.refused.reason);
        let answer = outcrop_otlp::export_answer(outcrop_otlp::Signal::Traces, Encoding::Json, &decoded.refused);
        let answer: serde_json::Value = serde_json::from_slice(&answer).unwrap();
        assert_eq!(answer["partialSuccess"]["rejectedSpans"], refused.to_string());
        assert_eq!(answer["partialSuccess"]["errorMessage"], decoded.refused.reason);
        if said.starts_with("attributes") {
            let span = &decoded.groups[0].records[0];
            assert!(
                span.attributes.get("http.route").is_some(),
                "what tells of the request is not lost behind noise"
            );
        }
    }
}
