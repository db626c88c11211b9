//! OTLP's answers: success, partial success and failure, in both encodings.

use opentelemetry_proto::tonic::collector::logs::v1 as logs;
use opentelemetry_proto::tonic::collector::metrics::v1 as metrics;
use opentelemetry_proto::tonic::collector::trace::v1 as trace;
use outcrop_core::failure::Refused;
use prost::Message;

use crate::{Encoding, Signal};

/// Codes of `google.rpc.Status` that answers use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StatusCode {
    /// The request is wrong and must not be sent again.
    InvalidArgument = 3,
    /// The sender may not write what it sent.
    PermissionDenied = 7,
    /// Too much; try later.
    ResourceExhausted = 8,
    /// Not now; try later.
    Unavailable = 14,
    /// Who is it?
    Unauthenticated = 16,
}

/// `google.rpc.Status`.
#[derive(Clone, PartialEq, Message)]
struct Status {
    #[prost(int32, tag = "1")]
    code: i32,
    #[prost(string, tag = "2")]
    message: String,
    #[prost(message, repeated, tag = "3")]
    details: Vec<Any>,
}

/// `google.protobuf.Any`.
#[derive(Clone, PartialEq, Message)]
struct Any {
    #[prost(string, tag = "1")]
    type_url: String,
    #[prost(bytes = "vec", tag = "2")]
    value: Vec<u8>,
}

/// The body of a 200 answer: empty success, or `partial_success` where records were refused, or
/// something was cut of records that were taken (a message and no rejected records: a warning, as
/// the specification has it).
#[must_use]
pub fn export_answer(signal: Signal, encoding: Encoding, refused: &Refused) -> Vec<u8> {
    let rejected = i64::try_from(refused.count).unwrap_or(i64::MAX);
    match (encoding, refused.reason.is_empty() && refused.count == 0) {
        (Encoding::Protobuf, true) => Vec::new(),
        (Encoding::Json, true) => b"{}".to_vec(),
        (Encoding::Protobuf, false) => match signal {
            Signal::Traces => trace::ExportTraceServiceResponse {
                partial_success: Some(trace::ExportTracePartialSuccess {
                    rejected_spans: rejected,
                    error_message: refused.reason.clone(),
                }),
            }
            .encode_to_vec(),
            Signal::Logs => logs::ExportLogsServiceResponse {
                partial_success: Some(logs::ExportLogsPartialSuccess {
                    rejected_log_records: rejected,
                    error_message: refused.reason.clone(),
                }),
            }
            .encode_to_vec(),
            Signal::Metrics => metrics::ExportMetricsServiceResponse {
                partial_success: Some(metrics::ExportMetricsPartialSuccess {
                    rejected_data_points: rejected,
                    error_message: refused.reason.clone(),
                }),
            }
            .encode_to_vec(),
        },
        (Encoding::Json, false) => {
            let counted = match signal {
                Signal::Traces => "rejectedSpans",
                Signal::Logs => "rejectedLogRecords",
                Signal::Metrics => "rejectedDataPoints",
            };
            let answer =
                serde_json::json!({"partialSuccess": {counted: rejected.to_string(), "errorMessage": refused.reason}});
            answer.to_string().into_bytes()
        }
    }
}

/// The details of a gRPC status that asks to come back: a `google.rpc.Status` with a `google.rpc.RetryInfo`.
#[must_use]
pub fn retry_details(code: StatusCode, message: &str, seconds: u64) -> Vec<u8> {
    #[derive(Clone, PartialEq, Message)]
    struct Duration {
        #[prost(int64, tag = "1")]
        seconds: i64,
    }
    #[derive(Clone, PartialEq, Message)]
    struct RetryInfo {
        #[prost(message, optional, tag = "1")]
        retry_delay: Option<Duration>,
    }
    let retry = RetryInfo {
        retry_delay: Some(Duration {
            seconds: i64::try_from(seconds).unwrap_or(i64::MAX),
        }),
    };
    let retry = Any {
        type_url: "type.googleapis.com/google.rpc.RetryInfo".to_owned(),
        value: retry.encode_to_vec(),
    };
    Status {
        code: code as i32,
        message: message.to_owned(),
        details: vec![retry],
    }
    .encode_to_vec()
}

/// The body of an answer that is no success: a `google.rpc.Status` in the request's encoding.
#[must_use]
pub fn status_body(encoding: Encoding, code: StatusCode, message: &str) -> Vec<u8> {
    match encoding {
        Encoding::Protobuf => Status {
            code: code as i32,
            message: message.to_owned(),
            details: vec![],
        }
        .encode_to_vec(),
        Encoding::Json => serde_json::json!({"code": code as i32, "message": message})
            .to_string()
            .into_bytes(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::{Value, json};

    use super::*;

    fn refused(count: u64, reason: &str) -> Refused {
        Refused {
            count,
            reason: reason.to_owned(),
        }
    }

    #[rstest]
    #[case::traces(Signal::Traces, "rejectedSpans")]
    #[case::logs(Signal::Logs, "rejectedLogRecords")]
    #[case::metrics(Signal::Metrics, "rejectedDataPoints")]
    fn what_was_refused_is_told_in_the_signals_own_field_a_number_as_a_string(
        #[case] signal: Signal,
        #[case] field: &str,
    ) {
        let told = export_answer(signal, Encoding::Json, &refused(3, "too old"));
        let told: Value = serde_json::from_slice(&told).unwrap();
        assert_eq!(told, json!({"partialSuccess": {field: "3", "errorMessage": "too old"}}));
        assert_eq!(export_answer(signal, Encoding::Json, &Refused::default()), b"{}");
        assert_eq!(
            export_answer(signal, Encoding::Protobuf, &Refused::default()),
            b"",
            "an empty message"
        );
    }

    #[test]
    fn in_protobuf_it_reads_as_the_specifications_own_message() {
        let warned = refused(0, "attributes were cut");
        let told = export_answer(Signal::Traces, Encoding::Protobuf, &warned);
        let told = trace::ExportTraceServiceResponse::decode(&*told)
            .unwrap()
            .partial_success
            .unwrap();
        assert_eq!(
            (told.rejected_spans, told.error_message.as_str()),
            (0, "attributes were cut")
        );
        let told = export_answer(Signal::Logs, Encoding::Protobuf, &refused(2, "too old"));
        let told = logs::ExportLogsServiceResponse::decode(&*told)
            .unwrap()
            .partial_success
            .unwrap();
        assert_eq!((told.rejected_log_records, told.error_message.as_str()), (2, "too old"));
        let told = export_answer(Signal::Metrics, Encoding::Protobuf, &refused(u64::MAX, "too many"));
        let told = metrics::ExportMetricsServiceResponse::decode(&*told)
            .unwrap()
            .partial_success
            .unwrap();
        assert_eq!(told.rejected_data_points, i64::MAX, "as many as the field holds");
    }

    #[test]
    fn a_refusal_says_the_same_in_both_encodings() {
        let (code, message) = (
            StatusCode::PermissionDenied,
            "this key may not write for service berths",
        );
        let json: Value = serde_json::from_slice(&status_body(Encoding::Json, code, message)).unwrap();
        assert_eq!(json, json!({"code": 7, "message": message}));
        let status = Status::decode(&*status_body(Encoding::Protobuf, code, message)).unwrap();
        assert_eq!(
            (status.code, status.message.as_str(), status.details.len()),
            (7, message, 0)
        );
    }

    #[test]
    fn whoever_is_told_to_come_again_is_told_when() {
        let told = Status::decode(&*retry_details(StatusCode::Unavailable, "not stored", 30)).unwrap();
        assert_eq!((told.code, told.details.len()), (14, 1));
        assert_eq!(told.details[0].type_url, "type.googleapis.com/google.rpc.RetryInfo");
        // RetryInfo { retry_delay: Duration { seconds: 30 } }, on the wire.
        assert_eq!(told.details[0].value, [0x0a, 0x02, 0x08, 30]);
    }
}
