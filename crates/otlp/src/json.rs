//! OTLP/JSON, read leniently: fields in camel or snake case, numbers as numbers or text, `null` for what is not set,
//! unknown fields ignored. A record of the wrong shape is left out; a request of the wrong shape is refused.

use std::sync::Arc;

use base64::Engine;
use outcrop_core::Timestamp;
use outcrop_core::telemetry::{
    Attributes, Group, LogRecord, Reading, Resource, Scope, Span, SpanEvent, SpanId, SpanKind, TraceId, Value, sampling,
};
use serde_json::{Map, Value as Json};

use crate::{DecodeError, Decoded, INVALID_SPAN};

type Object = Map<String, Json>;

pub(crate) fn traces(body: &[u8]) -> Result<Decoded<Span>, DecodeError> {
    read(body, ["resourceSpans", "resource_spans"], ["scopeSpans", "scope_spans"], "spans", span)
}

pub(crate) fn logs(body: &[u8]) -> Result<Decoded<LogRecord>, DecodeError> {
    read(body, ["resourceLogs", "resource_logs"], ["scopeLogs", "scope_logs"], "logRecords", log_record)
}

pub(crate) fn metrics(body: &[u8]) -> Result<Decoded<Reading>, DecodeError> {
    let by_metric = read(body, ["resourceMetrics", "resource_metrics"], ["scopeMetrics", "scope_metrics"], "metrics", readings)?;
    let groups = by_metric.groups.into_iter().map(|group| Group {
        resource: group.resource,
        scope: group.scope,
        records: group.records.into_iter().flatten().collect(),
    });
    Ok(Decoded { groups: groups.collect(), refused: by_metric.refused })
}

/// The points of a gauge or sum; other metrics are let go.
#[expect(clippy::unnecessary_wraps, reason = "the signature of all readers of records")]
fn readings(sent: &Object) -> Result<Vec<Reading>, String> {
    let name = text(sent, ["name", "name"]);
    let data = ["gauge", "sum"].iter().find_map(|kind| sent.get(*kind)?.as_object());
    let points = data.and_then(|data| field(data, ["dataPoints", "data_points"])).and_then(Json::as_array);
    let number = |point: &Object| {
        let sent = field(point, ["asDouble", "as_double"]).or_else(|| field(point, ["asInt", "as_int"]))?;
        sent.as_f64().or_else(|| sent.as_str()?.parse().ok())
    };
    let reading = |point: &Json| {
        let point = point.as_object()?;
        Some(Reading { name: name.clone(), value: number(point)?, at: time(point, ["timeUnixNano", "time_unix_nano"]) })
    };
    Ok(points.into_iter().flatten().filter_map(reading).collect())
}

fn read<T>(
    body: &[u8],
    by_resource: [&str; 2],
    by_scope: [&str; 2],
    records_name: &str,
    record: impl Fn(&Object) -> Result<T, String>,
) -> Result<Decoded<T>, DecodeError> {
    // Invalid UTF-8 is replaced, not refused.
    let text = String::from_utf8_lossy(body);
    let request: Json = serde_json::from_str(text.trim_start_matches('\u{feff}'))?;
    let request = request.as_object().ok_or_else(|| shape("the request is no object"))?;
    let mut decoded = Decoded::default();
    for of_resource in list(request, by_resource)? {
        let of_resource = object(of_resource, by_resource[0])?;
        let resource = Arc::new(Resource { attributes: inner_attributes(of_resource, "resource") });
        for of_scope in list(of_resource, by_scope)? {
            let of_scope = object(of_scope, by_scope[0])?;
            let scope = Arc::new(read_scope(of_scope));
            let mut records = vec![];
            for sent in list(of_scope, [records_name, "log_records"])? {
                match sent.as_object().ok_or_else(|| format!("an element of {records_name} is no object")).and_then(&record) {
                    Ok(record) => records.push(record),
                    Err(reason) => decoded.refused.add(1, || reason),
                }
            }
            decoded.groups.push(Group { resource: resource.clone(), scope, records });
        }
    }
    Ok(decoded)
}

fn shape(reason: impl Into<String>) -> DecodeError {
    DecodeError::Shape(reason.into())
}

fn object<'a>(value: &'a Json, name: &str) -> Result<&'a Object, DecodeError> {
    value.as_object().ok_or_else(|| shape(format!("an element of {name} is no object")))
}

fn list<'a>(object: &'a Object, names: [&str; 2]) -> Result<&'a [Json], DecodeError> {
    match field(object, names) {
        None => Ok(&[]),
        Some(Json::Array(items)) => Ok(items),
        Some(_) => Err(shape(format!("{} is no list", names[0]))),
    }
}

/// A field that is set, under either of its names.
fn field<'a>(object: &'a Object, names: [&str; 2]) -> Option<&'a Json> {
    names.iter().find_map(|name| object.get(*name)).filter(|value| !value.is_null())
}

fn text(object: &Object, names: [&str; 2]) -> String {
    field(object, names).and_then(Json::as_str).unwrap_or_default().to_owned()
}

/// A number, also as text; enums also by their protobuf name.
fn integer(value: &Json) -> Option<i128> {
    match value {
        Json::Number(number) => {
            number.as_i64().map(i128::from).or_else(|| number.as_u64().map(i128::from)).or_else(|| number.as_f64().and_then(whole))
        }
        Json::String(text) => text.trim().parse().ok().or_else(|| text.trim().parse().ok().and_then(whole)),
        _ => None,
    }
}

/// ProtoJSON allows `1000.0` and `1e3` for a whole number.
fn whole(number: f64) -> Option<i128> {
    #[expect(clippy::cast_possible_truncation, reason = "held to what fits first")]
    (number.fract() == 0.0 && number.abs() < 1e19).then_some(number as i128)
}

fn time(object: &Object, names: [&str; 2]) -> Option<Timestamp> {
    field(object, names).and_then(integer).and_then(|nanos| u64::try_from(nanos).ok()).and_then(Timestamp::from_otlp)
}

fn flags(object: &Object) -> u32 {
    object.get("flags").and_then(integer).and_then(|flags| u32::try_from(flags).ok()).unwrap_or_default()
}

fn hex<const N: usize>(object: &Object, names: [&str; 2]) -> Option<[u8; N]> {
    let text = field(object, names)?.as_str()?.as_bytes();
    if text.len() != 2 * N {
        return None;
    }
    let mut bytes = [0; N];
    for (byte, pair) in bytes.iter_mut().zip(text.chunks_exact(2)) {
        let digit = |at: usize| char::from(pair[at]).to_digit(16);
        *byte = u8::try_from(digit(0)? * 16 + digit(1)?).ok()?;
    }
    Some(bytes)
}

fn trace_id(object: &Object) -> Option<TraceId> {
    hex::<16>(object, ["traceId", "trace_id"]).and_then(|id| TraceId::from_bytes(&id))
}

fn span_id(object: &Object, names: [&str; 2]) -> Option<SpanId> {
    hex::<8>(object, names).and_then(|id| SpanId::from_bytes(&id))
}

fn read_scope(of_scope: &Object) -> Scope {
    let Some(scope) = of_scope.get("scope").and_then(Json::as_object) else { return Scope::default() };
    Scope { name: text(scope, ["name", "name"]), version: text(scope, ["version", "version"]), attributes: attributes(scope) }
}

fn span(sent: &Object) -> Result<Span, String> {
    let (Some(trace), Some(id)) = (trace_id(sent), span_id(sent, ["spanId", "span_id"])) else {
        return Err(INVALID_SPAN.to_owned());
    };
    let status = sent.get("status").and_then(Json::as_object);
    let events = field(sent, ["events", "events"]).and_then(Json::as_array).into_iter().flatten().filter_map(Json::as_object);
    Ok(Span {
        trace_id: trace,
        span_id: id,
        parent_id: span_id(sent, ["parentSpanId", "parent_span_id"]),
        name: text(sent, ["name", "name"]),
        kind: sent.get("kind").map_or(SpanKind::Internal, kind),
        start: time(sent, ["startTimeUnixNano", "start_time_unix_nano"]),
        end: time(sent, ["endTimeUnixNano", "end_time_unix_nano"]),
        attributes: attributes(sent),
        events: events
            .map(|event| SpanEvent {
                name: text(event, ["name", "name"]),
                time: time(event, ["timeUnixNano", "time_unix_nano"]),
                attributes: attributes(event),
            })
            .collect(),
        links: field(sent, ["links", "links"])
            .and_then(Json::as_array)
            .into_iter()
            .flatten()
            .filter_map(Json::as_object)
            .filter_map(|link| Some((trace_id(link)?, span_id(link, ["spanId", "span_id"])?)))
            .collect(),
        is_error: status.and_then(|status| status.get("code")).is_some_and(|code| integer(code) == Some(2) || code == "STATUS_CODE_ERROR"),
        status_message: status.map(|status| text(status, ["message", "message"])).unwrap_or_default(),
        flags: flags(sent),
        one_in: sampling::one_in(&text(sent, ["traceState", "trace_state"])),
    })
}

fn kind(sent: &Json) -> SpanKind {
    match sent.as_str() {
        Some("SPAN_KIND_SERVER") => SpanKind::Server,
        Some("SPAN_KIND_CLIENT") => SpanKind::Client,
        Some("SPAN_KIND_PRODUCER") => SpanKind::Producer,
        Some("SPAN_KIND_CONSUMER") => SpanKind::Consumer,
        _ => SpanKind::from_otlp(integer(sent).and_then(|number| i64::try_from(number).ok()).unwrap_or_default()),
    }
}

#[expect(clippy::unnecessary_wraps, reason = "the shape that `read` asks of both signals")]
fn log_record(sent: &Object) -> Result<LogRecord, String> {
    let severity = field(sent, ["severityNumber", "severity_number"]);
    Ok(LogRecord {
        time: time(sent, ["timeUnixNano", "time_unix_nano"]),
        observed: time(sent, ["observedTimeUnixNano", "observed_time_unix_nano"]),
        severity: severity.map(severity_number).unwrap_or_default(),
        severity_text: text(sent, ["severityText", "severity_text"]),
        body: sent.get("body").map(value).unwrap_or_default(),
        attributes: attributes(sent),
        trace_id: trace_id(sent),
        span_id: span_id(sent, ["spanId", "span_id"]),
        flags: flags(sent),
        event_name: text(sent, ["eventName", "event_name"]),
    })
}

/// A number, or a name such as `SEVERITY_NUMBER_ERROR2`.
fn severity_number(sent: &Json) -> i32 {
    if let Some(name) = sent.as_str().and_then(|name| name.strip_prefix("SEVERITY_NUMBER_")) {
        let level = name.trim_end_matches(|c: char| c.is_ascii_digit());
        let step = name.strip_prefix(level).and_then(|step| step.parse::<i32>().ok()).unwrap_or(1);
        let first = match level {
            "TRACE" => 1,
            "DEBUG" => 5,
            "INFO" => 9,
            "WARN" => 13,
            "ERROR" => 17,
            "FATAL" => 21,
            _ => return 0,
        };
        return first + step - 1;
    }
    integer(sent).and_then(|number| i32::try_from(number).ok()).unwrap_or_default()
}

fn inner_attributes(object: &Object, name: &str) -> Attributes {
    object.get(name).and_then(Json::as_object).map(attributes).unwrap_or_default()
}

fn attributes(object: &Object) -> Attributes {
    Attributes(object.get("attributes").map(entries).unwrap_or_default())
}

fn entries(sent: &Json) -> Vec<(String, Value)> {
    let items = sent.as_array().into_iter().flatten().filter_map(Json::as_object);
    items.map(|entry| (text(entry, ["key", "key"]), entry.get("value").map(value).unwrap_or_default())).collect()
}

/// An `AnyValue`. What is no value of its declared type is kept as the text it is.
fn value(sent: &Json) -> Value {
    let Some(sent) = sent.as_object() else {
        return match sent {
            Json::String(text) => Value::String(text.clone()),
            _ => Value::Empty,
        };
    };
    let set = |names: [&str; 2]| field(sent, names);
    if let Some(text) = set(["stringValue", "string_value"]) {
        Value::String(text.as_str().map_or_else(|| text.to_string(), str::to_owned))
    } else if let Some(flag) = set(["boolValue", "bool_value"]) {
        Value::Bool(flag == &Json::Bool(true) || flag == "true")
    } else if let Some(number) = set(["intValue", "int_value"]) {
        integer(number).and_then(|number| i64::try_from(number).ok()).map_or_else(|| Value::String(as_text(number)), Value::Int)
    } else if let Some(number) = set(["doubleValue", "double_value"]) {
        let parsed = number.as_f64().or_else(|| number.as_str().and_then(|text| text.trim().parse().ok()));
        parsed.map_or_else(|| Value::String(as_text(number)), Value::Double)
    } else if let Some(list) = set(["arrayValue", "array_value"]) {
        Value::Array(list.get("values").and_then(Json::as_array).into_iter().flatten().map(value).collect())
    } else if let Some(map) = set(["kvlistValue", "kvlist_value"]) {
        Value::Map(map.get("values").map(entries).unwrap_or_default())
    } else if let Some(bytes) = set(["bytesValue", "bytes_value"]).and_then(Json::as_str) {
        let decoded = base64::engine::general_purpose::STANDARD.decode(bytes);
        decoded.map_or_else(|_not_base64| Value::String(bytes.to_owned()), Value::Bytes)
    } else {
        Value::Empty
    }
}

fn as_text(value: &Json) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}
