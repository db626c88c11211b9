//! Events as OTLP log records, sent until they are taken.

use std::collections::BTreeMap;
use std::time::Duration;

use outcrop_core::app_log::Event;
use reqwest::StatusCode;
use reqwest::header::{CONTENT_TYPE, RETRY_AFTER};
use serde_json::{Value, json};

use crate::client::{http, unreachable};
use crate::clock::now;
use crate::commands::collect::Collect;
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
            Fault::Usage(
                "no sender key: set OUTCROP_KEY, or try with --dry-run; `outcrop admin key create NAME` makes one"
                    .to_owned(),
            )
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
            let sent = self
                .http
                .post(&url)
                .bearer_auth(&self.key)
                .header(CONTENT_TYPE, "application/json")
                .body(body.clone())
                .send()
                .await;
            let growing = Duration::from_millis(250 << tries.min(7)).min(LONGEST_WAIT);
            let (wait, why) = match sent {
                Ok(answer) if answer.status().is_success() => return refused(&answer.json().await.unwrap_or_default()),
                Ok(answer) if is_for_later(answer.status()) => {
                    let told = answer
                        .headers()
                        .get(RETRY_AFTER)
                        .and_then(|value| value.to_str().ok()?.parse().ok())
                        .map(Duration::from_secs);
                    (
                        told.unwrap_or(growing),
                        Fault::Refused(format!("{url} answered {}", answer.status())),
                    )
                }
                Ok(answer) => {
                    let status = answer.status();
                    let body: Value = answer.json().await.unwrap_or_default();
                    return Err(Fault::Refused(
                        body["message"]
                            .as_str()
                            .map_or_else(|| format!("{url} answered {status}"), str::to_owned),
                    ));
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
        let mut by_sender: BTreeMap<(String, &str, [String; 3]), Vec<Value>> = BTreeMap::new();
        for event in events {
            let service = self
                .service
                .clone()
                .or_else(|| named(event))
                .unwrap_or_else(|| log.to_owned());
            // What the command line says holds for all lines.
            let fields = &event.fields;
            let of_resource = [
                self.environment.as_ref().unwrap_or(&fields.environment).clone(),
                self.version.as_ref().unwrap_or(&fields.version).clone(),
                fields.host.clone(),
            ];
            by_sender
                .entry((service, &event.process, of_resource))
                .or_default()
                .push(record(event));
        }
        let resources: Vec<Value> = by_sender
            .into_iter()
            .map(|((service, process, of_resource), records)| {
                let mut attributes = vec![text("service.name", &service)];
                let names = ["deployment.environment.name", "service.version", "host.name"];
                attributes.extend(
                    names
                        .iter()
                        .zip(&of_resource)
                        .filter(|(_, value)| !value.is_empty())
                        .map(|(name, value)| text(name, value)),
                );
                attributes.extend((!process.is_empty()).then(|| text("service.instance.id", process)));
                json!({"resource": {"attributes": attributes}, "scopeLogs": [{"scope": {"name": "outcrop \
                    collect"}, "logRecords": records}]})
            })
            .collect();
        json!({"resourceLogs": resources})
    }
}

/// Statuses after which a request is sent again, as OTLP/HTTP names them (1.7, "Retryable Response Codes").
const fn is_for_later(status: StatusCode) -> bool {
    matches!(
        status,
        StatusCode::TOO_MANY_REQUESTS
            | StatusCode::BAD_GATEWAY
            | StatusCode::SERVICE_UNAVAILABLE
            | StatusCode::GATEWAY_TIMEOUT
    )
}

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

/// A value in OTLP's form; whole numbers are texts there, since not every reader of JSON holds 64 bits.
fn typed(value: &Value) -> Value {
    match value {
        Value::Bool(is) => json!({"boolValue": is}),
        Value::Number(number) if number.is_i64() => json!({"intValue": number.to_string()}),
        Value::Number(number) => json!({"doubleValue": number}),
        Value::String(text) => json!({"stringValue": text}),
        other => json!({"stringValue": other.to_string()}),
    }
}

/// The service an event names, or its process without number: `ledger.1`, `fares[7051]`.
fn named(event: &Event) -> Option<String> {
    let of_process = || {
        let name = event.process.split('[').next().unwrap_or_default();
        let bare = name
            .trim_end_matches(|c: char| c.is_ascii_digit())
            .trim_end_matches(['.', '-', '_']);
        (!bare.is_empty() && !matches!(bare, "stdout" | "stderr")).then(|| bare.to_owned())
    };
    Some(event.service.clone())
        .filter(|service| !service.is_empty())
        .or_else(of_process)
}

fn record(event: &Event) -> Value {
    let is_exception = |name: &str| event.exception.is_some() && name.starts_with("exception.");
    let fields = event.fields.attributes.iter().filter(|(name, _)| !is_exception(name));
    let mut attributes: Vec<Value> = fields
        .map(|(name, value)| json!({"key": name, "value": typed(value)}))
        .collect();
    if let Some(exception) = &event.exception {
        if !exception.type_name.is_empty() {
            attributes.push(text("exception.type", &exception.type_name));
        }
        attributes.push(text("exception.message", &exception.message));
        attributes.push(text("exception.stacktrace", &exception.stacktrace));
    }
    let observed = now().0.to_string();
    let time = event.time.map_or_else(|| observed.clone(), |time| time.0.to_string());
    let severity = if event.severity == 0 && event.exception.is_some() {
        17
    } else {
        event.severity
    };
    let mut record = json!({"timeUnixNano": time, "observedTimeUnixNano": observed, "severityNumber": severity,
        "body": {"stringValue": event.message}, "attributes": attributes});
    if let Some((trace, span)) = &event.trace {
        record["traceId"] = json!(trace);
        record["flags"] = json!(1);
        if !span.is_empty() {
            record["spanId"] = json!(span);
        }
    }
    record
}

fn refused(body: &Value) -> Result<(), Fault> {
    match body["partialSuccess"]["errorMessage"]
        .as_str()
        .filter(|reason| !reason.is_empty())
    {
        // Told, and gone on: the same lines would be refused again.
        Some(reason) => {
            use std::io::Write;
            writeln!(std::io::stderr(), "outcrop: some records were not taken: {reason}").map_err(Fault::from)
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use outcrop_core::app_log::Fields;

    use super::*;

    fn forward(version: Option<&str>) -> Forward {
        Forward {
            http: reqwest::Client::new(),
            url: String::new(),
            key: String::new(),
            service: None,
            environment: None,
            version: version.map(str::to_owned),
            is_patient: false,
        }
    }

    fn event(host: &str) -> Event {
        let fields = Fields {
            version: "2.4.0".to_owned(),
            host: host.to_owned(),
            attributes: vec![
                ("user".to_owned(), json!("u-7")),
                ("order.id".to_owned(), json!(9)),
                ("ok".to_owned(), json!(true)),
            ],
            ..Fields::default()
        };
        Event {
            service: "fares".to_owned(),
            message: "quote failed".to_owned(),
            severity: 17,
            fields,
            ..Event::default()
        }
    }

    #[test]
    fn fields_of_a_line_are_attributes_and_what_a_resource_has_is_the_resource_s() {
        let request = forward(None).request(&[event("pier-3"), event("pier-4"), event("pier-3")], "log");
        let resources = request["resourceLogs"].as_array().unwrap();
        assert_eq!(resources.len(), 2, "one for each host");
        let expected = json!([
            text("service.name", "fares"),
            text("service.version", "2.4.0"),
            text("host.name", "pier-3")
        ]);
        assert_eq!(resources[0]["resource"]["attributes"], expected);
        let records = resources[0]["scopeLogs"][0]["logRecords"].as_array().unwrap();
        let attributes = json!([text("user", "u-7"), {"key": "order.id", "value": {"intValue": "9"}}, {"key": "ok",
            "value": {"boolValue": true}}]);
        assert_eq!((records.len(), &records[0]["attributes"]), (2, &attributes));
    }

    #[test]
    fn what_the_command_line_says_goes_before_what_a_line_says() {
        let request = forward(Some("3.0.0")).request(&[event("")], "log");
        let expected = json!([text("service.name", "fares"), text("service.version", "3.0.0")]);
        assert_eq!(request["resourceLogs"][0]["resource"]["attributes"], expected);
    }

    #[test]
    fn a_trace_without_a_span_is_sent_as_it_is() {
        let trace = "4bf92f3577b34da6a3ce929d0e0e4736".to_owned();
        let sent = record(&Event {
            trace: Some((trace.clone(), String::new())),
            ..Event::default()
        });
        assert_eq!((&sent["traceId"], &sent["spanId"]), (&json!(trace), &Value::Null));
    }
}
