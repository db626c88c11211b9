//! From a request's bytes to a committed batch: budget, sender key, body, decoding, queue, writers.

mod body;
mod keys;
mod queue;
mod take;

use std::sync::Arc;

use outcrop_core::failure::{Found, Limits, Refused, Report, find_in_logs, find_in_spans};
use outcrop_core::grouping::rules::Rules;
use outcrop_core::{Timestamp, scrub};
use outcrop_otlp::{DecodeError, Encoding, Signal};
use outcrop_store::intake::Submission;
use outcrop_store::upkeep::RETENTION_DAYS;

pub(crate) use body::{BodyError, Budget, Coding, Held, inflate, read};
pub(crate) use keys::{KeyCheck, Keys};
pub use queue::Intake;
pub(crate) use take::{RETRY_AFTER_SECS, Refusal, authenticate, take};

/// Decodes a body, finds what is in it, leaves out what the key may not write, and groups it as people's rules say.
///
/// # Errors
/// [`DecodeError`] when nothing of the body can be used.
pub fn submission(
    signal: Signal,
    encoding: Encoding,
    body: &[u8],
    services: &[String],
    received: Timestamp,
    rules: &Rules,
) -> Result<Submission, DecodeError> {
    let limits = Limits { received, oldest: received.plus_millis(-RETENTION_DAYS * 86_400_000) };
    let (mut found, undecoded) = match signal {
        Signal::Traces => {
            let decoded = outcrop_otlp::decode_traces(body, encoding)?;
            (find_in_spans(decoded.groups, limits), decoded.refused)
        }
        Signal::Logs => {
            let decoded = outcrop_otlp::decode_logs(body, encoding)?;
            (find_in_logs(decoded.groups, limits), decoded.refused)
        }
        Signal::Metrics => (Found::default(), outcrop_otlp::check_metrics(body, encoding)?),
    };
    found.refused.add(undecoded.count, || undecoded.reason);
    keep_allowed(&mut found, services);
    found.reports.iter_mut().for_each(|report| rules.apply(report));
    Ok(Submission { receipt: Submission::receipt_of(signal.name(), body), received, found: Arc::new(found) })
}

/// A key bound to services refuses the records of others, and says which.
fn keep_allowed(found: &mut Found, services: &[String]) {
    if services.is_empty() {
        return;
    }
    let mut refused = Refused::default();
    let mut is_allowed = |service: &str| {
        let is_allowed = services.iter().any(|allowed| allowed == service);
        refused.add(u64::from(!is_allowed), || {
            format!("this key may not write for service {}", scrub::text(service).as_deref().unwrap_or(service))
        });
        is_allowed
    };
    found.spans.retain(|span| is_allowed(&span.identity.service));
    let logs: Vec<Report> = std::mem::take(&mut found.reports);
    for report in logs {
        let of_span = matches!(report.sent, outcrop_core::failure::Sent::Span(_));
        // A span's refusal was counted with the span.
        let keep = if of_span { services.contains(&report.identity.service) } else { is_allowed(&report.identity.service) };
        if keep {
            found.reports.push(report);
        }
    }
    let Refused { count, reason } = refused;
    found.refused.add(count, || reason);
}

/// Writes down the exact data of a report, for the payload.
#[must_use]
pub fn render(report: &Report) -> String {
    serde_json::json!({"stacktrace": report.stacktrace, "sent": outcrop_otlp::sent_as_json(report)}).to_string()
}
