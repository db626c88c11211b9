//! The model back into OTLP/JSON, to show exactly what was sent (less what was scrubbed).

use base64::Engine;
use outcrop_core::Timestamp;
use outcrop_core::failure::{Report, Sent};
use outcrop_core::telemetry::{Attributes, LogRecord, Scope, Span, Value};
use serde_json::{Value as Json, json};

/// Writes the record a report was found in as an OTLP/JSON export request with that record alone.
#[must_use]
pub fn sent_as_json(report: &Report) -> Json {
    let resource = json!({"attributes": attributes(&report.resource.attributes)});
    let scope = scope(&report.scope);
    match &report.sent {
        Sent::Span(sent) => {
            json!({"resourceSpans": [{"resource": resource, "scopeSpans": [{"scope": scope, "spans": [span(sent)]}]}]})
        }
        Sent::Log(sent) => {
            json!({"resourceLogs": [{"resource": resource, "scopeLogs": [{"scope": scope,
                "logRecords": [log_record(sent)]}]}]})
        }
    }
}

fn scope(scope: &Scope) -> Json {
    json!({"name": scope.name, "version": scope.version, "attributes": attributes(&scope.attributes)})
}

fn time(at: Option<Timestamp>) -> Json {
    at.map_or(0, |at| at.0).to_string().into()
}

fn span(span: &Span) -> Json {
    let events: Vec<Json> = span
        .events
        .iter()
        .map(|event| {
            json!({"name": event.name, "timeUnixNano": time(event.time),
            "attributes": attributes(&event.attributes)})
        })
        .collect();
    json!({
        "traceId": hex(&span.trace_id.0),
        "spanId": hex(&span.span_id.0.to_be_bytes()),
        "parentSpanId": span.parent_id.map(|id| hex(&id.0.to_be_bytes())).unwrap_or_default(),
        "name": span.name,
        "kind": span.kind.to_otlp(),
        "startTimeUnixNano": time(span.start),
        "endTimeUnixNano": time(span.end),
        "attributes": attributes(&span.attributes),
        "events": events,
        "status": if span.is_error { json!({"code": 2, "message": span.status_message}) } else { json!({}) },
        "flags": span.flags,
    })
}

fn log_record(record: &LogRecord) -> Json {
    json!({
        "timeUnixNano": time(record.time),
        "observedTimeUnixNano": time(record.observed),
        "severityNumber": record.severity,
        "severityText": record.severity_text,
        "body": value(&record.body),
        "attributes": attributes(&record.attributes),
        "traceId": record.trace_id.map(|id| hex(&id.0)).unwrap_or_default(),
        "spanId": record.span_id.map(|id| hex(&id.0.to_be_bytes())).unwrap_or_default(),
        "flags": record.flags,
        "eventName": record.event_name,
    })
}

fn attributes(attributes: &Attributes) -> Json {
    entries(&attributes.0)
}

fn entries(entries: &[(String, Value)]) -> Json {
    entries
        .iter()
        .map(|(key, content)| json!({"key": key, "value": value(content)}))
        .collect()
}

fn value(content: &Value) -> Json {
    match content {
        Value::Empty => json!({}),
        Value::String(text) => json!({"stringValue": text}),
        Value::Bool(flag) => json!({"boolValue": flag}),
        Value::Int(number) => json!({"intValue": number.to_string()}),
        Value::Double(number) if number.is_finite() => json!({"doubleValue": number}),
        Value::Double(number) => json!({"doubleValue": number.to_string()}),
        Value::Bytes(bytes) => json!({"bytesValue": base64::engine::general_purpose::STANDARD.encode(bytes)}),
        Value::Array(items) => json!({"arrayValue": {"values": items.iter().map(value).collect::<Vec<_>>()}}),
        Value::Map(map) => json!({"kvlistValue": {"values": entries(map)}}),
    }
}

/// Lower-case hex.
fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes
        .iter()
        .fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
            write!(text, "{byte:02x}").expect("writing to a string cannot fail");
            text
        })
}
