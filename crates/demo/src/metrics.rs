//! Metrics of Skerry Line: how busy an instance is, and how long its requests took.

use std::collections::BTreeMap;

use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceRequest;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue};
use opentelemetry_proto::tonic::metrics::v1::metric::Data;
use opentelemetry_proto::tonic::metrics::v1::number_data_point::Value as Number;
use opentelemetry_proto::tonic::metrics::v1::{
    AggregationTemporality, Gauge, Histogram, HistogramDataPoint, Metric, NumberDataPoint, ResourceMetrics,
    ScopeMetrics, Sum,
};
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::Span;
use opentelemetry_proto::tonic::trace::v1::span::SpanKind;
use prost::Message;

/// How often an exporter of the past sent, in nanoseconds: five minutes.
const EVERY: u64 = 300_000_000_000;
/// Spans of such a time with which an instance is as busy as it gets, and of the three seconds of a live one.
const BUSY: (f64, f64) = (400.0, 50.0);

/// What an instance sends beside these spans; nothing where there are none and it is not live.
pub fn sent(resource: Option<Resource>, spans: &[Span], live: Option<u64>) -> Option<Vec<u8>> {
    let mut times: BTreeMap<u64, Vec<&Span>> = BTreeMap::new();
    for span in spans {
        let at = live.unwrap_or((span.start_time_unix_nano / EVERY + 1) * EVERY);
        times.entry(at).or_default().push(span);
    }
    times.extend(live.filter(|_| spans.is_empty()).map(|now| (now, vec![])));
    if times.is_empty() {
        return None;
    }
    let busy: Vec<(u64, f64)> = times
        .iter()
        .map(|(at, spans)| {
            let all = if live.is_some() { BUSY.1 } else { BUSY.0 };
            let spans = f64::from(u32::try_from(spans.len()).unwrap_or(u32::MAX));
            (*at, (spans / all).min(1.0))
        })
        .collect();
    let gauge = |name: &str, unit: &str, value: fn(f64) -> f64| {
        let points = busy.iter().map(|(at, busy)| NumberDataPoint {
            time_unix_nano: *at,
            value: Some(Number::AsDouble(value(*busy))),
            ..NumberDataPoint::default()
        });
        metric(
            name,
            unit,
            Data::Gauge(Gauge {
                data_points: points.collect(),
            }),
        )
    };
    let collected = busy.iter().map(|(at, busy)| NumberDataPoint {
        start_time_unix_nano: at - EVERY,
        time_unix_nano: *at,
        value: Some(Number::AsDouble((busy * 90.0).round() / 1_000.0)),
        ..NumberDataPoint::default()
    });
    let collected = Sum {
        data_points: collected.collect(),
        aggregation_temporality: AggregationTemporality::Delta.into(),
        is_monotonic: true,
    };
    let metrics = vec![
        gauge("process.cpu.utilization", "1", |busy| 0.08 + 0.5 * busy),
        gauge("process.memory.usage", "By", |busy| 180e6 + 60e6 * busy),
        metric("process.runtime.gc.time", "s", Data::Sum(collected)),
        metric("http.server.request.duration", "s", Data::Histogram(durations(&times))),
    ];
    let resource_metrics = vec![ResourceMetrics {
        resource,
        scope_metrics: vec![ScopeMetrics {
            metrics,
            ..ScopeMetrics::default()
        }],
        ..ResourceMetrics::default()
    }];
    Some(ExportMetricsServiceRequest { resource_metrics }.encode_to_vec())
}

fn metric(name: &str, unit: &str, data: Data) -> Metric {
    Metric {
        name: name.to_owned(),
        unit: unit.to_owned(),
        data: Some(data),
        ..Metric::default()
    }
}

/// Bounds of buckets, in seconds, as OpenTelemetry's conventions advise.
const BOUNDS: [f64; 14] = [
    0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1.0, 2.5, 5.0, 7.5, 10.0,
];

/// How long the requests of each route took, time by time.
fn durations(times: &BTreeMap<u64, Vec<&Span>>) -> Histogram {
    let mut measured: BTreeMap<(u64, &str), (Vec<u64>, f64)> = BTreeMap::new();
    for (at, spans) in times {
        for span in spans {
            let (SpanKind::Server, Some(route)) = (span.kind(), route(span)) else {
                continue;
            };
            let nanos = span.end_time_unix_nano.saturating_sub(span.start_time_unix_nano);
            let seconds = std::time::Duration::from_nanos(nanos).as_secs_f64();
            let (counts, sum) = measured
                .entry((*at, route))
                .or_insert_with(|| (vec![0; BOUNDS.len() + 1], 0.0));
            counts[BOUNDS.partition_point(|bound| *bound < seconds)] += 1;
            *sum += seconds;
        }
    }
    let named = |route: &str| KeyValue {
        key: "http.route".to_owned(),
        value: Some(AnyValue {
            value: Some(Value::StringValue(route.to_owned())),
        }),
        ..KeyValue::default()
    };
    let points = measured
        .into_iter()
        .map(|((at, route), (counts, sum))| HistogramDataPoint {
            attributes: vec![named(route)],
            start_time_unix_nano: at - EVERY,
            time_unix_nano: at,
            count: counts.iter().sum(),
            sum: Some(sum),
            bucket_counts: counts,
            explicit_bounds: BOUNDS.to_vec(),
            ..HistogramDataPoint::default()
        });
    Histogram {
        data_points: points.collect(),
        aggregation_temporality: AggregationTemporality::Delta.into(),
    }
}

fn route(span: &Span) -> Option<&str> {
    let named = span.attributes.iter().find(|attribute| attribute.key == "http.route")?;
    match named.value.as_ref()?.value.as_ref()? {
        Value::StringValue(route) => Some(route),
        _ => None,
    }
}
