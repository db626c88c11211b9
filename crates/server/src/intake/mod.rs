//! From a request's bytes to a committed batch: budget, sender key, body, decoding, queue, writers.

mod body;
mod body_error;
mod budget;
mod keys;
mod notes;
mod queue;
mod turns;

use std::sync::Arc;

use outcrop_core::failure::{Found, Limits, Report, find_in_logs, find_in_metrics, find_in_spans};
use outcrop_core::grouping::rules::Rules;
use outcrop_core::telemetry::names::Identity;
use outcrop_core::{Timestamp, scrub};
use outcrop_otlp::{DecodeError, Encoding, Room, Signal};
use outcrop_store::people::keys::{Bounds, SenderKey};
use outcrop_store::retention::RETENTION_DAYS;
use outcrop_store::writing::Submission;

pub(crate) use body::{Coding, READ_WITHIN, inflate, read};
pub(crate) use body_error::BodyError;
pub(crate) use budget::{Budget, Held, NoRoom};
pub(crate) use keys::Keys;
pub(crate) use notes::{Notes, Origin};
pub(crate) use queue::Closing;
pub use queue::Intake;

/// How a body is read.
#[derive(Clone, Copy)]
pub(crate) struct Reading<'r> {
    pub signal: Signal,
    pub encoding: Encoding,
    pub received: Timestamp,
    pub rules: &'r Rules,
}

/// Decodes a body, finds what is in it, leaves out what the key may not write, and groups it as people's rules say.
///
/// # Errors
/// [`DecodeError`] when nothing of the body can be used.
pub(crate) fn submission(
    reading: Reading<'_>,
    body: &[u8],
    key: &SenderKey,
    room: &mut Room<'_>,
) -> Result<Submission, DecodeError> {
    let Reading {
        signal,
        encoding,
        received,
        rules,
    } = reading;
    let limits = Limits {
        received,
        oldest: received.plus_millis(-RETENTION_DAYS * 86_400_000),
        scrubbing: &rules.scrubbing,
        groups: &rules.instance_groups,
    };
    let (mut found, undecoded) = match signal {
        Signal::Traces => {
            let decoded = outcrop_otlp::decode_traces(body, encoding, room)?;
            (find_in_spans(decoded.groups, limits), decoded.refused)
        }
        Signal::Logs => {
            let decoded = outcrop_otlp::decode_logs(body, encoding, room)?;
            (find_in_logs(decoded.groups, limits), decoded.refused)
        }
        Signal::Metrics => {
            let decoded = outcrop_otlp::decode_metrics(body, encoding, room)?;
            (find_in_metrics(decoded.groups, limits), decoded.refused)
        }
    };
    found.refused.join(undecoded);
    keep_allowed(&mut found, &key.bounds);
    found.reports.iter_mut().for_each(|report| rules.apply(report));
    Ok(Submission {
        receipt: Submission::receipt_of(key.id, signal.name(), body),
        key: key.id,
        received,
        found: Arc::new(found),
    })
}

/// A key bound to services or environments refuses the records of others, and says which.
fn keep_allowed(found: &mut Found, bounds: &Bounds) {
    if bounds.services.is_empty() && bounds.environments.is_empty() {
        return;
    }
    let holds = |bound: &[String], name: &str| bound.is_empty() || bound.iter().any(|allowed| allowed == name);
    found.refuse(|identity: &Identity| {
        let clean = |name: &str| scrub::text(name).unwrap_or_else(|| name.to_owned());
        if !holds(&bounds.services, &identity.service) {
            return Some(format!(
                "this key may not write for service {}",
                clean(&identity.service)
            ));
        }
        let is_outside = !holds(&bounds.environments, &identity.environment);
        is_outside.then(|| {
            format!(
                "this key may not write for environment {}",
                clean(&identity.environment)
            )
        })
    });
}

/// Writes down the exact data of a report, for the payload.
#[must_use]
pub fn render(report: &Report) -> String {
    serde_json::json!({"stacktrace": report.stacktrace, "sent": outcrop_otlp::sent_as_json(report)}).to_string()
}
