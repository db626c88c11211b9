//! Events as OTLP log records, sent until they are taken.

use std::collections::BTreeMap;
use std::time::Duration;

use outcrop_core::app_log::Event;
use reqwest::StatusCode;
use reqwest::header::{CONTENT_TYPE, RETRY_AFTER};
use serde_json::{Value, json};

use super::now;
use crate::args::Collect;
use crate::client::{http, unreachable};
use crate::fault::Fault;

/// Tries of one request where the log is read to its end; a followed log waits for as long as it takes.
const TRIES: u32 = 8;
/// The longest wait between tries.
const LONGEST_WAIT: Duration = Duration::from_secs(30);

pub struct Forward {
    http: reqwest::Client,
    url: String,
    key: String,
    service: Option<String>,
    environment: Option<String>,
    version: Option<String>,
    is_patient: bool,
}

impl Forward {
    pub fn new(arguments: &Collect) -> Result<Self, Fault> {
        let key = arguments.key.clone().filter(|key| !key.is_empty());
        let key = key.ok_or_else(|| {
            Fault::Usage("no sender key: set OUTCROP_KEY, or try with --dry-run; `outcrop admin key create NAME` makes one".to_owned())
        })?;
        Ok(Self {
            http: http()?,
            url: arguments.url.trim_end_matches('/').to_owned(),
            key,
            service: arguments.service.clone(),
            environment: arguments.environment.clone(),
            version: arguments.in_version.clone(),
            is_patient: arguments.follow,
        })
    }

    /// Sends events; returns once they are stored.
    pub async fn send(&self, events: &[Event], log: &str) -> Result<(), Fault> {
        let body = self.request(events, log).to_string();
        let url = format!("{}/v1/logs", self.url);
        let mut tries = 0;
        loop {
            tries += 1;
            let sent = self.http.post(&url).bearer_auth(&self.key).header(CONTENT_TYPE, "application/json").body(body.clone()).send().await;
            let growing = Duration::from_millis(250 << tries.min(7)).min(LONGEST_WAIT);
            let (wait, why) = match sent {
                Ok(answer) if answer.status().is_success() => return refused(&answer.json().await.unwrap_or_default()),
                Ok(answer) if is_for_later(answer.status()) => {
                    let told =
                        answer.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.parse().ok()).map(Duration::from_secs);
                    (told.unwrap_or(growing), Fault::Refused(format!("{url} answered {}", answer.status())))
                }
                Ok(answer) => {
                    let status = answer.status();
                    let body: Value = answer.json().await.unwrap_or_default();
                    return Err(Fault::Refused(body["message"].as_str().map_or_else(|| format!("{url} answered {status}"), str::to_owned)));
                }
                Err(error) => (growing, unreachable(&self.url, &error)),
            };
            if tries >= TRIES && !self.is_patient {
                return Err(why);
            }
            tokio::time::sleep(wait).await;
        }
    }

    fn request(&self, events: &[Event], log: &str) -> Value {
        let mut by_sender: BTreeMap<(String, &str), Vec<Value>> = BTreeMap::new();
        for event in events {
            let service = self.service.clone().or_else(|| named(event)).unwrap_or_else(|| log.to_owned());
            by_sender.entry((service, &event.process)).or_default().push(record(event));
        }
        let resources: Vec<Value> = by_sender
            .into_iter()
            .map(|((service, process), records)| {
                let mut attributes = vec![text("service.name", &service)];
                attributes.extend(self.environment.as_deref().map(|name| text("deployment.environment.name", name)));
                attributes.extend(self.version.as_deref().map(|version| text("service.version", version)));
                attributes.extend((!process.is_empty()).then(|| text("service.instance.id", process)));
                json!({"resource": {"attributes": attributes}, "scopeLogs": [{"scope": {"name": "outcrop collect"}, "logRecords": records}]})
            })
            .collect();
        json!({"resourceLogs": resources})
    }
}

/// Statuses after which a request is sent again, as OTLP/HTTP names them (1.7, "Retryable Response Codes").
const fn is_for_later(status: StatusCode) -> bool {
    matches!(
        status,
        StatusCode::TOO_MANY_REQUESTS | StatusCode::BAD_GATEWAY | StatusCode::SERVICE_UNAVAILABLE | StatusCode::GATEWAY_TIMEOUT
    )
}

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

/// The service an event names, or its process without number: `ledger.1`, `fares[7051]`.
fn named(event: &Event) -> Option<String> {
    let of_process = || {
        let name = event.process.split('[').next().unwrap_or_default();
        let bare = name.trim_end_matches(|c: char| c.is_ascii_digit()).trim_end_matches(['.', '-', '_']);
        (!bare.is_empty() && !matches!(bare, "stdout" | "stderr")).then(|| bare.to_owned())
    };
    Some(event.service.clone()).filter(|service| !service.is_empty()).or_else(of_process)
}

fn record(event: &Event) -> Value {
    let mut attributes = vec![];
    if let Some(exception) = &event.exception {
        if !exception.type_name.is_empty() {
            attributes.push(text("exception.type", &exception.type_name));
        }
        attributes.push(text("exception.message", &exception.message));
        attributes.push(text("exception.stacktrace", &exception.stacktrace));
    }
    let observed = now().0.to_string();
    let time = event.time.map_or_else(|| observed.clone(), |time| time.0.to_string());
    let severity = if event.severity == 0 && event.exception.is_some() { 17 } else { event.severity };
    let mut record = json!({"timeUnixNano": time, "observedTimeUnixNano": observed, "severityNumber": severity,
        "body": {"stringValue": event.message}, "attributes": attributes});
    if let Some((trace, span)) = event.trace.as_ref().filter(|(trace, span)| trace.len() == 32 && span.len() == 16) {
        record["traceId"] = json!(trace);
        record["spanId"] = json!(span);
        record["flags"] = json!(1);
    }
    record
}

fn refused(body: &Value) -> Result<(), Fault> {
    match body["partialSuccess"]["errorMessage"].as_str().filter(|reason| !reason.is_empty()) {
        // Told, and gone on: the same lines would be refused again.
        Some(reason) => {
            use std::io::Write;
            writeln!(std::io::stderr(), "outcrop: some records were not taken: {reason}").map_err(Fault::from)
        }
        None => Ok(()),
    }
}
