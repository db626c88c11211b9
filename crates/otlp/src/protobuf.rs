use std::sync::Arc;

use opentelemetry_proto::tonic::collector::{
    logs::v1::ExportLogsServiceRequest, metrics::v1::ExportMetricsServiceRequest, trace::v1::ExportTraceServiceRequest,
};
use opentelemetry_proto::tonic::{
    common::v1 as common, logs::v1 as logs, metrics::v1 as metrics, resource::v1 as resource, trace::v1 as trace,
};
use outcrop_core::Timestamp;
use outcrop_core::telemetry::{
    Attributes, Group, LogRecord, Reading, Resource, Scope, Span, SpanEvent, SpanId, SpanKind, TraceId, Value, sampling,
};
use prost::Message;

use crate::{DecodeError, Decoded, INVALID_SPAN, repair};

pub(crate) fn traces(body: &[u8]) -> Result<Decoded<Span>, DecodeError> {
    let request: ExportTraceServiceRequest = message(body, &repair::TRACES)?;
    let mut decoded = Decoded::default();
    for of_resource in request.resource_spans {
        let owner = Arc::new(read_resource(of_resource.resource));
        for of_scope in of_resource.scope_spans {
            let scope = Arc::new(read_scope(of_scope.scope));
            let sent = of_scope.spans.len();
            let records: Vec<Span> = of_scope.spans.into_iter().filter_map(span).collect();
            decoded.refused.add((sent - records.len()) as u64, || INVALID_SPAN.to_owned());
            decoded.groups.push(Group { resource: owner.clone(), scope, records });
        }
    }
    Ok(decoded)
}

pub(crate) fn logs(body: &[u8]) -> Result<Decoded<LogRecord>, DecodeError> {
    let request: ExportLogsServiceRequest = message(body, &repair::LOGS)?;
    let mut decoded = Decoded::default();
    for of_resource in request.resource_logs {
        let owner = Arc::new(read_resource(of_resource.resource));
        for of_scope in of_resource.scope_logs {
            let scope = Arc::new(read_scope(of_scope.scope));
            let records = of_scope.log_records.into_iter().map(log_record).collect();
            decoded.groups.push(Group { resource: owner.clone(), scope, records });
        }
    }
    Ok(decoded)
}

pub(crate) fn metrics(body: &[u8]) -> Result<Decoded<Reading>, DecodeError> {
    let request = ExportMetricsServiceRequest::decode(body)?;
    let mut decoded = Decoded::default();
    for of_resource in request.resource_metrics {
        let owner = Arc::new(read_resource(of_resource.resource));
        for of_scope in of_resource.scope_metrics {
            let scope = Arc::new(read_scope(of_scope.scope));
            let records = of_scope.metrics.into_iter().flat_map(readings).collect();
            decoded.groups.push(Group { resource: owner.clone(), scope, records });
        }
    }
    Ok(decoded)
}

/// The points of a gauge or sum; other metrics are let go.
fn readings(sent: metrics::Metric) -> Vec<Reading> {
    use metrics::metric::Data;
    use metrics::number_data_point::Value as Number;
    let points = match sent.data {
        Some(Data::Gauge(gauge)) => gauge.data_points,
        Some(Data::Sum(sum)) => sum.data_points,
        _ => vec![],
    };
    let value = |number: Number| match number {
        Number::AsDouble(value) => value,
        #[expect(clippy::cast_precision_loss, reason = "a load needs no more than 53 bits")]
        Number::AsInt(value) => value as f64,
    };
    let reading = |point: metrics::NumberDataPoint| {
        Some(Reading { name: sent.name.clone(), value: value(point.value?), at: Timestamp::from_otlp(point.time_unix_nano) })
    };
    points.into_iter().filter_map(reading).collect()
}

/// Decodes; where that fails, once more with invalid UTF-8 replaced, which some SDKs send and protobuf forbids.
fn message<M: Message + Default>(body: &[u8], shape: &repair::Shape) -> Result<M, DecodeError> {
    match M::decode(body) {
        Ok(message) => Ok(message),
        Err(error) => match repair::invalid_utf8(body, shape) {
            Some(repaired) => Ok(M::decode(repaired.as_slice())?),
            None => Err(error.into()),
        },
    }
}

fn read_resource(sent: Option<resource::Resource>) -> Resource {
    Resource { attributes: attributes(sent.unwrap_or_default().attributes) }
}

fn read_scope(sent: Option<common::InstrumentationScope>) -> Scope {
    let sent = sent.unwrap_or_default();
    Scope { name: sent.name, version: sent.version, attributes: attributes(sent.attributes) }
}

fn span(sent: trace::Span) -> Option<Span> {
    let status = sent.status.unwrap_or_default();
    Some(Span {
        trace_id: TraceId::from_bytes(&sent.trace_id)?,
        span_id: SpanId::from_bytes(&sent.span_id)?,
        parent_id: SpanId::from_bytes(&sent.parent_span_id),
        name: sent.name,
        kind: SpanKind::from_otlp(sent.kind.into()),
        start: Timestamp::from_otlp(sent.start_time_unix_nano),
        end: Timestamp::from_otlp(sent.end_time_unix_nano),
        attributes: attributes(sent.attributes),
        events: sent
            .events
            .into_iter()
            .map(|event| SpanEvent {
                name: event.name,
                time: Timestamp::from_otlp(event.time_unix_nano),
                attributes: attributes(event.attributes),
            })
            .collect(),
        links: sent
            .links
            .into_iter()
            .filter_map(|link| Some((TraceId::from_bytes(&link.trace_id)?, SpanId::from_bytes(&link.span_id)?)))
            .collect(),
        is_error: status.code == trace::status::StatusCode::Error as i32,
        status_message: status.message,
        flags: sent.flags,
        one_in: sampling::one_in(&sent.trace_state),
    })
}

fn log_record(sent: logs::LogRecord) -> LogRecord {
    LogRecord {
        time: Timestamp::from_otlp(sent.time_unix_nano),
        observed: Timestamp::from_otlp(sent.observed_time_unix_nano),
        severity: sent.severity_number,
        severity_text: sent.severity_text,
        body: sent.body.map_or(Value::Empty, value),
        attributes: attributes(sent.attributes),
        trace_id: TraceId::from_bytes(&sent.trace_id),
        span_id: SpanId::from_bytes(&sent.span_id),
        flags: sent.flags,
        event_name: sent.event_name,
    }
}

fn attributes(sent: Vec<common::KeyValue>) -> Attributes {
    Attributes(entries(sent))
}

fn entries(sent: Vec<common::KeyValue>) -> Vec<(String, Value)> {
    sent.into_iter().map(|entry| (entry.key, entry.value.map_or(Value::Empty, value))).collect()
}

fn value(sent: common::AnyValue) -> Value {
    use common::any_value::Value as Sent;
    match sent.value {
        Some(Sent::StringValue(text)) => Value::String(text),
        Some(Sent::BoolValue(flag)) => Value::Bool(flag),
        Some(Sent::IntValue(number)) => Value::Int(number),
        Some(Sent::DoubleValue(number)) => Value::Double(number),
        Some(Sent::BytesValue(bytes)) => Value::Bytes(bytes),
        Some(Sent::ArrayValue(list)) => Value::Array(list.values.into_iter().map(value).collect()),
        Some(Sent::KvlistValue(list)) => Value::Map(entries(list.values)),
        // Nothing set, or an index into the profiles signal's string table, which means nothing here.
        None | Some(_) => Value::Empty,
    }
}
