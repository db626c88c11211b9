//! Log records as they are stored: scrubbed, bounded, with the template of what they say.

use std::sync::Arc;

use crate::Timestamp;
use crate::grouping::template;
use crate::telemetry::names::Identity;
use crate::telemetry::{LogRecord, Resource, Scope, SpanId, TraceId, Value, facts};

/// Longest text of a line that is stored, in bytes: what a person reads of one line. What holds a
/// stack is kept with its occurrence.
const MAX_LINE_BYTES: usize = 8_192;

/// A log record to be stored.
#[derive(Clone, Debug)]
pub struct FoundLine {
    /// Who sent it.
    pub identity: Arc<Identity>,
    /// The resource, scrubbed.
    pub resource: Arc<Resource>,
    /// When it happened, in event time.
    pub at: Timestamp,
    /// Its trace, if any.
    pub trace_id: Option<TraceId>,
    /// Its span, if any.
    pub span_id: Option<SpanId>,
    /// OTLP severity number; 0 where unknown.
    pub severity: i16,
    /// What it says; never empty.
    pub message: String,
    /// The same with its variable parts replaced: lines of one place in the code have one.
    pub template: String,
    /// Its attributes, without the stack of an exception.
    pub attributes: serde_json::Map<String, serde_json::Value>,
}

impl FoundLine {
    /// Makes it of a scrubbed record.
    pub(super) fn new(
        record: &LogRecord,
        identity: &Arc<Identity>,
        resource: &Arc<Resource>,
        scope: &Scope,
        at: Timestamp,
    ) -> Self {
        let said = record.body.to_text();
        let exception = |name: &str| record.attributes.first(&[name]).map(Value::to_text);
        let mut message = match said.trim() {
            "" => match (exception("exception.type"), exception("exception.message")) {
                (Some(type_name), Some(message)) => format!("{type_name}: {message}"),
                (Some(one), None) | (None, Some(one)) => one.into_owned(),
                (None, None) if record.event_name.is_empty() => "(nothing said)".to_owned(),
                (None, None) => record.event_name.clone(),
            },
            said => said.to_owned(),
        };
        message = without_colours(message);
        crate::text::cut(&mut message, MAX_LINE_BYTES);
        let mut attributes = record.attributes.to_json();
        attributes.retain(|name, _| name != "exception.stacktrace");
        facts::settle(&mut attributes);
        if !scope.name.is_empty() {
            attributes.insert("otel.scope.name".to_owned(), scope.name.clone().into());
        }
        Self {
            identity: identity.clone(),
            resource: resource.clone(),
            at,
            trace_id: record.trace_id,
            span_id: record.span_id,
            severity: severity(record),
            // What follows the first line is data of it: a stack, a document.
            template: template_of(message.lines().next().unwrap_or_default()),
            message,
            attributes,
        }
    }
}

/// A line without what colours it on a terminal (ECMA-48, "Select Graphic Rendition" and its like).
fn without_colours(text: String) -> String {
    if !text.contains('\u{1b}') {
        return text;
    }
    let mut bare = String::with_capacity(text.len());
    let mut rest = text.as_str();
    while let Some((before, after)) = rest.split_once('\u{1b}') {
        bare.push_str(before);
        rest = match after.strip_prefix('[') {
            // Parameters, then one letter.
            Some(sequence) => sequence
                .find(|c: char| c.is_ascii_alphabetic())
                .and_then(|at| sequence.get(at + 1..))
                .unwrap_or_default(),
            None => after,
        };
    }
    bare.push_str(rest);
    bare
}

/// The template of a line; of an access log's line with its status, by which such lines differ.
fn template_of(line: &str) -> String {
    let made = template(line);
    let status = line.split("\" ").nth(1).and_then(|rest| rest.split(' ').next());
    let asks = line.split('"').nth(1).is_some_and(|asked| asked.contains(" HTTP/"));
    match status.filter(|status| asks && status.len() == 3 && status.bytes().all(|b| b.is_ascii_digit())) {
        Some(status) => made.replacen("{text} {n}", &format!("{{text}} {status}"), 1),
        None => made,
    }
}

/// The severity number, read from the sender's word where it sent no number (OpenTelemetry logs data model, "Mapping of
/// `SeverityNumber`").
fn severity(record: &LogRecord) -> i16 {
    if (1..=24).contains(&record.severity) {
        return i16::try_from(record.severity).unwrap_or_default();
    }
    crate::severity::number(&record.severity_text).map_or(0, i16::from)
}
