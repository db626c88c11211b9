//! OTLP messages, put together.

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::{ResourceSpans, ScopeSpans, Span};
use prost::Message;

use crate::metrics;
use crate::world::Service;

pub fn text(key: &str, value: impl Into<String>) -> KeyValue {
    KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(Value::StringValue(value.into())),
        }),
        ..KeyValue::default()
    }
}

pub fn number(key: &str, value: i64) -> KeyValue {
    KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(Value::IntValue(value)),
        }),
        ..KeyValue::default()
    }
}

pub fn body(content: &str) -> AnyValue {
    AnyValue {
        value: Some(Value::StringValue(content.to_owned())),
    }
}

/// What one running version of a service sends at once.
#[derive(Default)]
pub struct Batch {
    pub spans: Vec<Span>,
    pub logs: Vec<LogRecord>,
}

impl Batch {
    /// The requests to post: path and body.
    pub fn requests(self, service: &Service, version: &str, live: Option<u64>) -> Vec<(&'static str, Vec<u8>)> {
        let scope = Some(InstrumentationScope {
            name: format!("skerry.{}", service.name),
            ..InstrumentationScope::default()
        });
        let resource = Some(Resource {
            attributes: vec![
                text("service.namespace", "skerry-line"),
                text("service.name", service.name),
                text("service.version", version),
                text(
                    "service.instance.id",
                    format!("{}-{version}.{}", service.name, service.host),
                ),
                text("deployment.environment.name", "production"),
                text("host.name", service.host),
                text(
                    "cloud.region",
                    if matches!(service.host, "pier-1" | "pier-2") {
                        "north"
                    } else {
                        "south"
                    },
                ),
                text("telemetry.sdk.language", service.language),
                text("telemetry.sdk.name", service.sdk),
            ],
            ..Resource::default()
        });
        let mut requests = vec![];
        requests.extend(metrics::sent(resource.clone(), &self.spans, live).map(|body| ("/v1/metrics", body)));
        if !self.spans.is_empty() {
            let scope_spans = vec![ScopeSpans {
                scope: scope.clone(),
                spans: self.spans,
                ..ScopeSpans::default()
            }];
            let resource_spans = vec![ResourceSpans {
                resource: resource.clone(),
                scope_spans,
                ..ResourceSpans::default()
            }];
            requests.push((
                "/v1/traces",
                ExportTraceServiceRequest { resource_spans }.encode_to_vec(),
            ));
        }
        if !self.logs.is_empty() {
            let scope_logs = vec![ScopeLogs {
                scope,
                log_records: self.logs,
                ..ScopeLogs::default()
            }];
            let resource_logs = vec![ResourceLogs {
                resource,
                scope_logs,
                ..ResourceLogs::default()
            }];
            requests.push(("/v1/logs", ExportLogsServiceRequest { resource_logs }.encode_to_vec()));
        }
        requests
    }
}
