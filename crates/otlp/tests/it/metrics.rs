//! Points of metrics of every form, in both encodings.

use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
use opentelemetry_proto::tonic::metrics::v1::exponential_histogram_data_point::Buckets;
use opentelemetry_proto::tonic::metrics::v1::metric::Data;
use opentelemetry_proto::tonic::metrics::v1::number_data_point::Value::{AsDouble, AsInt};
use opentelemetry_proto::tonic::metrics::v1::{
    ExponentialHistogram, ExponentialHistogramDataPoint, Gauge, Histogram, HistogramDataPoint, Metric, NumberDataPoint,
    ResourceMetrics, ScopeMetrics, Sum, Summary, SummaryDataPoint, number_data_point,
};
use outcrop_core::Timestamp;
use outcrop_core::metric::Kind;
use outcrop_core::telemetry::Reading;
use outcrop_otlp::{Decoded, Encoding, Room};
use prost::Message;
use rstest::rstest;
use serde_json::{Value, json};

fn decode(bytes: &[u8], encoding: Encoding) -> Decoded<Reading> {
    outcrop_otlp::decode_metrics(bytes, encoding, &mut Room::new(&mut |_| true)).unwrap()
}

/// The points of one metric, sent as JSON and as protobuf: both say the same.
fn points(metric: &Value, data: Data) -> Vec<Reading> {
    let sent = json!({"resourceMetrics": [{"scopeMetrics": [{"metrics": [metric]}]}]});
    let message = Metric {
        name: "queue.length".to_owned(),
        unit: "{ship}".to_owned(),
        data: Some(data),
        ..Metric::default()
    };
    let message = ExportMetricsServiceRequest {
        resource_metrics: vec![ResourceMetrics {
            scope_metrics: vec![ScopeMetrics {
                metrics: vec![message],
                ..ScopeMetrics::default()
            }],
            ..ResourceMetrics::default()
        }],
    };
    let of = |bytes: &[u8], encoding| -> Vec<Reading> {
        let groups = decode(bytes, encoding).groups;
        groups.into_iter().flat_map(|group| group.records).collect()
    };
    let (as_json, as_protobuf) = (
        of(sent.to_string().as_bytes(), Encoding::Json),
        of(&message.encode_to_vec(), Encoding::Protobuf),
    );
    assert_eq!(as_json, as_protobuf);
    as_json
}

const TIMES: (u64, u64) = (1_000_000_000, 61_000_000_000);

fn cpu() -> Vec<KeyValue> {
    let value = any_value::Value::StringValue("3".to_owned());
    vec![KeyValue {
        key: "cpu".to_owned(),
        value: Some(AnyValue { value: Some(value) }),
        ..KeyValue::default()
    }]
}

fn number_point(value: number_data_point::Value) -> NumberDataPoint {
    NumberDataPoint {
        attributes: cpu(),
        start_time_unix_nano: TIMES.0,
        time_unix_nano: TIMES.1,
        value: Some(value),
        ..NumberDataPoint::default()
    }
}

fn sum(value: number_data_point::Value, temporality: i32, is_monotonic: bool) -> Data {
    Data::Sum(Sum {
        data_points: vec![number_point(value)],
        aggregation_temporality: temporality,
        is_monotonic,
    })
}

fn histogram(temporality: i32) -> Data {
    Data::Histogram(Histogram {
        data_points: vec![HistogramDataPoint {
            attributes: cpu(),
            start_time_unix_nano: TIMES.0,
            time_unix_nano: TIMES.1,
            count: 4,
            sum: Some(10.0),
            bucket_counts: vec![1, 3],
            explicit_bounds: vec![5.0],
            ..HistogramDataPoint::default()
        }],
        aggregation_temporality: temporality,
    })
}

fn exponential() -> Data {
    Data::ExponentialHistogram(ExponentialHistogram {
        data_points: vec![ExponentialHistogramDataPoint {
            attributes: cpu(),
            start_time_unix_nano: TIMES.0,
            time_unix_nano: TIMES.1,
            count: 4,
            sum: Some(10.0),
            scale: 2,
            positive: Some(Buckets {
                offset: 1,
                bucket_counts: vec![1, 3],
            }),
            negative: Some(Buckets {
                offset: -1,
                bucket_counts: vec![],
            }),
            ..ExponentialHistogramDataPoint::default()
        }],
        aggregation_temporality: 2,
    })
}

fn summary() -> Data {
    Data::Summary(Summary {
        data_points: vec![SummaryDataPoint {
            attributes: cpu(),
            start_time_unix_nano: TIMES.0,
            time_unix_nano: TIMES.1,
            count: 4,
            sum: 10.0,
            ..SummaryDataPoint::default()
        }],
    })
}

fn number(value: &Value) -> Value {
    let mut point = json!({
        "attributes": [{"key": "cpu", "value": {"stringValue": "3"}}],
        "startTimeUnixNano": "1000000000", "timeUnixNano": "61000000000"
    });
    point
        .as_object_mut()
        .unwrap()
        .extend(value.as_object().unwrap().clone());
    point
}

#[rstest]
#[case::gauge(json!({"gauge": {"dataPoints": [number(&json!({"asDouble": 0.5}))]}}),
    Data::Gauge(Gauge { data_points: vec![number_point(AsDouble(0.5))] }), Kind::Level, 0.5, 0)]
#[case::falling_sum(
    json!({"sum": {"dataPoints": [number(&json!({"asInt": "7"}))], "aggregationTemporality": 2, "isMonotonic": false}}),
    sum(AsInt(7), 2, false), Kind::Level, 7.0, 0)]
#[case::rising_sum(
    json!({"sum": {"dataPoints": [number(&json!({"asInt": "-7"}))], "aggregationTemporality": 2, "isMonotonic": true}}),
    sum(AsInt(-7), 2, true), Kind::Cumulative, -7.0, 0)]
#[case::delta(
    json!({"sum": {"dataPoints": [number(&json!({"asDouble": 7.5}))], "aggregationTemporality": 1,
        "isMonotonic": true}}),
    sum(AsDouble(7.5), 1, true), Kind::Delta, 7.5, 0)]
#[case::histogram(
    json!({"histogram": {"dataPoints": [number(&json!({"count": "4", "sum": 10.0, "bucketCounts": ["1", "3"],
        "explicitBounds": [5.0], "exemplars": []}))], "aggregationTemporality": 2}}),
    histogram(2), Kind::CumulativeDistribution, 10.0, 4)]
#[case::delta_histogram(
    json!({"histogram": {"dataPoints": [number(&json!({"count": "4", "sum": 10.0, "bucketCounts": ["1", "3"],
        "explicitBounds": [5.0], "exemplars": []}))], "aggregationTemporality": 1}}),
    histogram(1), Kind::DeltaDistribution, 10.0, 4)]
#[case::exponential(
    json!({"exponentialHistogram": {"dataPoints": [number(&json!({"count": "4", "sum": 10.0, "scale": 2,
        "zeroCount": "0",
        "positive": {"offset": 1, "bucketCounts": ["1", "3"]}, "negative": {"offset": -1, "bucketCounts": []},
        "exemplars": [], "zeroThreshold": 0.0}))], "aggregationTemporality": 2}}),
    exponential(), Kind::CumulativeDistribution, 10.0, 4)]
#[case::summary(
    json!({"summary": {"dataPoints": [number(&json!({"count": "4", "sum": 10.0, "quantileValues": []}))]}}),
    summary(), Kind::CumulativeDistribution, 10.0, 4)]
fn each_form_is_read_alike_in_both_encodings(
    #[case] data: Value,
    #[case] sent: Data,
    #[case] kind: Kind,
    #[case] value: f64,
    #[case] count: u64,
) {
    let mut metric = json!({"name": "queue.length", "unit": "{ship}", "description": "", "metadata": []});
    metric
        .as_object_mut()
        .unwrap()
        .extend(data.as_object().unwrap().clone());
    let found = points(&metric, sent);
    assert_eq!(found.len(), 1);
    let point = &found[0];
    assert_eq!((point.kind, point.value, point.count), (kind, value, count));
    assert_eq!((point.name.as_str(), point.unit.as_str()), ("queue.length", "{ship}"));
    assert_eq!(point.attributes.text(&["cpu"]), Some("3"));
    let times = (
        Some(Timestamp::from_millis(1_000)),
        Some(Timestamp::from_millis(61_000)),
    );
    assert_eq!((point.start, point.at), times);
}

#[rstest]
#[case::nothing_recorded(json!({"asDouble": 0.5, "flags": 1}))]
#[case::no_number(json!({}))]
fn a_point_that_says_nothing_is_none(#[case] value: Value) {
    let metric = json!({"name": "queue.length", "unit": "", "description": "", "metadata": [],
        "gauge": {"dataPoints": [number(&value), number(&json!({"asDouble": 2.0}))]}});
    let sent = json!({"resourceMetrics": [{"scopeMetrics": [{"metrics": [metric]}]}]});
    let found = decode(sent.to_string().as_bytes(), Encoding::Json);
    assert_eq!(found.groups[0].records.len(), 1);
}

#[test]
fn buckets_are_read_and_those_that_are_none_are_left_out() {
    let read = |name: &str, point: Value| {
        let metric = json!({"name": "a", name: {"dataPoints": [point]}});
        let sent = json!({"resourceMetrics": [{"scopeMetrics": [{"metrics": [metric]}]}]});
        let found = decode(sent.to_string().as_bytes(), Encoding::Json);
        found.groups[0].records[0].buckets.clone()
    };
    let explicit = |counts: Value, bounds: Value| {
        read(
            "histogram",
            json!({"count": 4, "bucketCounts": counts, "explicitBounds": bounds}),
        )
    };
    let there = explicit(json!(["1", 3]), json!([5])).unwrap();
    assert_eq!(there.each().map(|(.., count)| count).collect::<Vec<_>>(), [1, 3]);
    assert_eq!(explicit(json!([]), json!([])), None);
    assert_eq!(
        explicit(json!([1, 2, 3]), json!([5])),
        None,
        "too many for their bounds"
    );
    assert_eq!(explicit(json!([1, 2, 3]), json!([5, 4])), None, "bounds that fall");
    assert_eq!(
        explicit(json!(vec![1; 5_000]), json!((1..5_000).collect::<Vec<_>>())),
        None,
        "too many"
    );
    let exponential = |scale: Value| {
        read(
            "exponentialHistogram",
            json!({"count": 4, "scale": scale, "positive": {"offset": 1, "bucketCounts": [1, 3]}}),
        )
    };
    let there: Vec<_> = exponential(json!(0))
        .unwrap()
        .each()
        .filter(|(.., count)| *count > 0)
        .collect();
    assert_eq!(there, [(2.0, 4.0, 1), (4.0, 8.0, 3)]);
    assert_eq!(exponential(json!(77)), None, "a scale that is none");
}

#[test]
fn what_stands_before_its_points_or_behind_them_says_the_same_and_names_may_be_words() {
    let sum = |order: &str| {
        format!(
            r#"{{"resourceMetrics":[{{"scopeMetrics":[{{"metrics":[{{"name":"queue.length","sum":{{{order}}}}}]}}]}}]}}"#
        )
    };
    let points = r#""dataPoints":[{"asInt":"7","timeUnixNano":"61000000000"}]"#;
    let said = r#""aggregationTemporality":"AGGREGATION_TEMPORALITY_DELTA","isMonotonic":true"#;
    for order in [format!("{points},{said}"), format!("{said},{points}")] {
        let found = decode(sum(&order).as_bytes(), Encoding::Json);
        assert_eq!(found.groups[0].records[0].kind, Kind::Delta);
    }
}

#[test]
fn points_past_the_limit_of_a_request_are_counted_not_built() {
    let points: Vec<Value> = (0..outcrop_otlp::MAX_RECORDS + 9)
        .map(|_| json!({"asInt": "1"}))
        .collect();
    let metric = json!({"name": "queue.length", "gauge": {"dataPoints": points}});
    let sent = json!({"resourceMetrics": [{"scopeMetrics": [{"metrics": [metric]}]}]});
    let found = decode(sent.to_string().as_bytes(), Encoding::Json);
    assert_eq!(found.refused.count, 9);
    assert!(found.groups[0].records.len() <= outcrop_otlp::MAX_RECORDS);
}
