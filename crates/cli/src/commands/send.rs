use std::path::Path;

use outcrop_core::text::printable;
use reqwest::header::CONTENT_TYPE;
use serde_json::{Value, json};

use crate::args::{Send, SeverityArg};
use crate::client::{http, unreachable};
use crate::fault::Fault;
use crate::output;

/// Reports a failure as an OTLP log record, like any other sender.
pub async fn run(arguments: Send) -> Result<(), Fault> {
    let key = arguments.key.clone().filter(|key| !key.is_empty());
    let key = key.ok_or_else(|| Fault::Usage("no sender key: set OUTCROP_KEY; `outcrop admin key create NAME` makes one".to_owned()))?;
    let request = request(&arguments)?;
    let url = format!("{}/v1/logs", arguments.url.trim_end_matches('/'));
    let sent = http()?.post(&url).bearer_auth(key).header(CONTENT_TYPE, "application/json").body(request.to_string()).send().await;
    let answer = sent.map_err(|error| unreachable(&arguments.url, &error))?;
    let status = answer.status();
    let body: Value = answer.json().await.unwrap_or_default();
    if !status.is_success() {
        let reason = body["message"].as_str().map_or_else(|| format!("{url} answered {status}"), str::to_owned);
        return Err(Fault::Refused(reason));
    }
    if let Some(reason) = body["partialSuccess"]["errorMessage"].as_str() {
        return Err(Fault::Refused(format!("not taken: {reason}")));
    }
    if arguments.json {
        return output::json(&json!({"accepted": true, "service": arguments.service}));
    }
    output::line(format!("Stored. See it: outcrop errors --service {}", printable(&arguments.service)))
}

/// Reads a stack's text.
fn stack(file: &Path) -> Result<String, Fault> {
    let read = if file.as_os_str() == "-" { std::io::read_to_string(std::io::stdin()) } else { std::fs::read_to_string(file) };
    read.map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
}

fn request(arguments: &Send) -> Result<Value, Fault> {
    let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
    let mut resource = vec![text("service.name", &arguments.service)];
    resource.extend(arguments.environment.as_deref().map(|name| text("deployment.environment.name", name)));
    resource.extend(arguments.in_version.as_deref().map(|version| text("service.version", version)));
    let mut attributes = vec![text("exception.type", &arguments.type_name), text("exception.message", &arguments.message)];
    if let Some(file) = &arguments.stack {
        attributes.push(text("exception.stacktrace", &stack(file)?));
    }
    attributes.extend(arguments.user.as_deref().map(|user| text("user.id", user)));
    for pair in &arguments.attributes {
        let (key, value) = pair
            .split_once('=')
            .filter(|(key, _)| !key.is_empty())
            .ok_or_else(|| Fault::Usage(format!("`{pair}` is no attribute; write it as key=value")))?;
        attributes.push(text(key, value));
    }
    let (number, word) = match arguments.severity {
        SeverityArg::Trace => (1, "TRACE"),
        SeverityArg::Debug => (5, "DEBUG"),
        SeverityArg::Info => (9, "INFO"),
        SeverityArg::Warn => (13, "WARN"),
        SeverityArg::Error => (17, "ERROR"),
        SeverityArg::Fatal => (21, "FATAL"),
    };
    let now = chrono::Utc::now().timestamp_nanos_opt().unwrap_or_default().to_string();
    Ok(json!({"resourceLogs": [{
        "resource": {"attributes": resource},
        "scopeLogs": [{"scope": {"name": "outcrop send"}, "logRecords": [{
            "timeUnixNano": now, "observedTimeUnixNano": now, "severityNumber": number, "severityText": word,
            "body": {"stringValue": arguments.message}, "attributes": attributes,
        }]}],
    }]}))
}
