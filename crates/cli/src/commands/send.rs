//! `outcrop send`: sends one failure.

use std::path::{Path, PathBuf};

use clap::Args;
use outcrop_api::{Report, Reported, Severity};
use outcrop_core::text::printable;
use reqwest::header::RETRY_AFTER;
use serde_json::{Value, json};

use crate::client::{http, unreachable};
use crate::fault::Fault;
use crate::output;

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    outcrop send --service ledger --message 'nightly batch stopped at port 7' --type BatchStopped port=7\n  \
    ./settle.py 2> error.txt || outcrop send --service ledger --message 'settlement failed' --stack error.txt\n  \
    some-job || outcrop send --service some-job --severity fatal --message \"exit code $?\"\n\n\
    The sender key is read from OUTCROP_KEY.")]
pub struct Send {
    /// Where the service takes OTLP/HTTP.
    #[arg(
        long,
        env = "OUTCROP_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:8471"
    )]
    pub url: String,
    /// Sender key; set the variable instead, so that other users of the machine cannot read it.
    #[arg(long, env = "OUTCROP_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// What happened; not needed where the stack says it.
    #[arg(long, value_name = "TEXT", required_unless_present = "stack")]
    pub message: Option<String>,
    /// Type of the exception or kind of failure; the type in the stack wins.
    #[arg(long = "type", value_name = "TYPE")]
    pub type_name: Option<String>,
    /// The stack's text as the runtime printed it: a file, or - for standard input.
    #[arg(long, value_name = "FILE")]
    pub stack: Option<PathBuf>,
    /// How severe it is: trace, debug, info, warn, error or fatal, or by another usual name, such as critical.
    #[arg(long, value_name = "SEVERITY", default_value = "error")]
    pub severity: Severity,
    /// The user it happened to.
    #[arg(long, value_name = "ID")]
    pub user: Option<String>,
    /// It is only a test: an error of test reports alone is deleted a day after the last.
    #[arg(long)]
    pub test: bool,
    /// The service it happened in.
    #[arg(long, env = "OUTCROP_SERVICE", value_name = "S")]
    pub service: String,
    /// The environment it happened in.
    #[arg(long, env = "OUTCROP_ENVIRONMENT", value_name = "E")]
    pub environment: Option<String>,
    /// The version it happened in.
    #[arg(long = "in-version", env = "OUTCROP_VERSION", value_name = "V")]
    pub in_version: Option<String>,
    /// Further attributes.
    #[arg(value_name = "KEY=VALUE")]
    pub attributes: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub json: bool,
}

/// The type of a report that names none.
const REPORT: &str = "Report";

/// Reports a failure by hand.
pub async fn run(arguments: Send) -> Result<(), Fault> {
    let key = arguments.key.clone().filter(|key| !key.is_empty());
    let key = key.ok_or_else(|| {
        Fault::Usage("no sender key: set OUTCROP_KEY; `outcrop admin key create NAME` makes one".to_owned())
    })?;
    let report = report(&arguments)?;
    let url = arguments.url.trim_end_matches('/');
    let sent = http()?
        .post(format!("{url}/api/v1/report"))
        .bearer_auth(key)
        .json(&report)
        .send()
        .await;
    let answer = sent.map_err(|error| unreachable(&arguments.url, &error))?;
    let status = answer.status();
    if !status.is_success() {
        let wait = answer
            .headers()
            .get(RETRY_AFTER)
            .and_then(|value| value.to_str().ok())
            .map(|seconds| format!("; try again in {seconds} s"));
        let body: Value = answer.json().await.unwrap_or_default();
        let reason = body["detail"]
            .as_str()
            .map_or_else(|| format!("{url} answered {status}"), str::to_owned);
        return Err(Fault::Refused(reason + wait.as_deref().unwrap_or_default()));
    }
    let reported: Reported = answer
        .json()
        .await
        .map_err(|error| unreachable(&arguments.url, &error))?;
    if arguments.json {
        let Reported {
            service,
            reference,
            link,
        } = reported;
        return output::json(
            &json!({"accepted": true, "service": service, "ref": reference, "link": link.map(|link| whole(url,
                &link))}),
        );
    }
    match (reported.reference, reported.link) {
        (Some(reference), Some(link)) => {
            output::line(format!("Stored as {reference}: {}", printable(&whole(url, &link))))?;
            output::line(format!("See it: outcrop show {reference}"))
        }
        _ => output::line(format!(
            "Taken, and dropped by a rule. See which: outcrop drops ({})",
            printable(&reported.service)
        )),
    }
}

/// A link as it is opened from here.
fn whole(url: &str, link: &str) -> String {
    if link.starts_with('/') {
        format!("{url}{link}")
    } else {
        link.to_owned()
    }
}

/// Reads a stack's text.
fn stack(file: &Path) -> Result<String, Fault> {
    let read = if file.as_os_str() == "-" {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(file)
    };
    read.map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
}

fn report(arguments: &Send) -> Result<Report, Fault> {
    let stacktrace = arguments.stack.as_deref().map(stack).transpose()?;
    let mut report = Report {
        service: arguments.service.clone(),
        environment: arguments.environment.clone(),
        version: arguments.in_version.clone(),
        type_name: arguments.type_name.clone().unwrap_or_else(|| {
            if stacktrace.is_some() {
                String::new()
            } else {
                REPORT.to_owned()
            }
        }),
        message: arguments.message.clone().unwrap_or_default(),
        stacktrace: stacktrace.unwrap_or_default(),
        severity: Some(arguments.severity),
        user: arguments.user.clone(),
        test: arguments.test,
        ..Report::default()
    };
    for pair in &arguments.attributes {
        let (key, value) = pair
            .split_once('=')
            .filter(|(key, _)| !key.is_empty())
            .ok_or_else(|| Fault::Usage(format!("`{pair}` is no attribute; write it as key=value")))?;
        report.data.insert(key.to_owned(), value.into());
    }
    Ok(report)
}
