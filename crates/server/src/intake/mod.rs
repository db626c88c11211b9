//! From a request's bytes to a committed batch: budget, sender key, body, decoding, queue, writers.

mod body;
mod keys;
mod notes;
mod queue;
mod take;

use std::sync::Arc;

use outcrop_core::failure::{Found, Limits, Refused, Report, find_in_logs, find_in_metrics, find_in_spans};
use outcrop_core::grouping::rules::Rules;
use outcrop_core::telemetry::names::Identity;
use outcrop_core::{Timestamp, scrub};
use outcrop_otlp::{DecodeError, Encoding, Signal};
use outcrop_store::intake::Submission;
use outcrop_store::keys::Bounds;
use outcrop_store::upkeep::RETENTION_DAYS;

pub(crate) use body::{BodyError, Budget, Coding, Held, inflate, read};
pub(crate) use keys::Keys;
pub(crate) use notes::{Notes, Origin};
pub use queue::Intake;
pub(crate) use take::{Refusal, Sender, authenticate, note, take};

/// Decodes a body, finds what is in it, leaves out what the key may not write, and groups it as people's rules say.
///
/// # Errors
/// [`DecodeError`] when nothing of the body can be used.
pub fn submission(
    signal: Signal,
    encoding: Encoding,
    body: &[u8],
    bounds: &Bounds,
    received: Timestamp,
    rules: &Rules,
) -> Result<Submission, DecodeError> {
    let limits = Limits {
        received,
        oldest: received.plus_millis(-RETENTION_DAYS * 86_400_000),
        scrubbing: &rules.scrubbing,
        groups: &rules.instance_groups,
    };
    let (mut found, undecoded) = match signal {
        Signal::Traces => {
            let decoded = outcrop_otlp::decode_traces(body, encoding)?;
            (find_in_spans(decoded.groups, limits), decoded.refused)
        }
        Signal::Logs => {
            let decoded = outcrop_otlp::decode_logs(body, encoding)?;
            (find_in_logs(decoded.groups, limits), decoded.refused)
        }
        Signal::Metrics => {
            let decoded = outcrop_otlp::decode_metrics(body, encoding)?;
            (find_in_metrics(decoded.groups, limits), decoded.refused)
        }
    };
    found.refused.add(undecoded.count, || undecoded.reason);
    keep_allowed(&mut found, bounds);
    found.reports.iter_mut().for_each(|report| rules.apply(report));
    Ok(Submission { receipt: Submission::receipt_of(signal.name(), body), received, found: Arc::new(found) })
}

/// A key bound to services or environments refuses the records of others, and says which.
fn keep_allowed(found: &mut Found, bounds: &Bounds) {
    if bounds.services.is_empty() && bounds.environments.is_empty() {
        return;
    }
    let holds = |bound: &[String], name: &str| bound.is_empty() || bound.iter().any(|allowed| allowed == name);
    let why_not = |identity: &Identity| {
        let clean = |name: &str| scrub::text(name).unwrap_or_else(|| name.to_owned());
        if !holds(&bounds.services, &identity.service) {
            return Some(format!("this key may not write for service {}", clean(&identity.service)));
        }
        let is_outside = !holds(&bounds.environments, &identity.environment);
        is_outside.then(|| format!("this key may not write for environment {}", clean(&identity.environment)))
    };
    let mut refused = Refused::default();
    found.spans.retain(|span| {
        let reason = why_not(&span.identity);
        refused.add(u64::from(reason.is_some()), || reason.clone().unwrap_or_default());
        reason.is_none()
    });
    found.chunks.retain(|chunk| why_not(&chunk.identity).is_none());
    // A report's refusal was counted with its span, or is with its line.
    found.reports.retain(|report| why_not(&report.identity).is_none());
    found.lines.retain(|line| {
        let reason = why_not(&line.identity);
        refused.add(u64::from(reason.is_some()), || reason.clone().unwrap_or_default());
        reason.is_none()
    });
    found.calls.retain(|calls| why_not(&calls.identity).is_none());
    found.instances.retain(|instance| why_not(&instance.identity).is_none());
    let Refused { count, reason } = refused;
    found.refused.add(count, || reason);
}

/// Writes down the exact data of a report, for the payload.
#[must_use]
pub fn render(report: &Report) -> String {
    serde_json::json!({"stacktrace": report.stacktrace, "sent": outcrop_otlp::sent_as_json(report)}).to_string()
}
