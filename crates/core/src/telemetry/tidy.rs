//! Bounds on what one record may hold, and text made storable: hostile senders exist, and so do broken ones.

use super::{Attributes, LogRecord, Span, Value};

/// Attributes kept per record, resource or scope; OpenTelemetry's SDKs stop at 128 by default.
pub const MAX_ATTRIBUTES: usize = 256;
/// Longest text kept in an attribute, in bytes: a page of text.
pub const MAX_TEXT_BYTES: usize = 8_192;
/// Longest stack text kept, in bytes: some thousand frames.
pub const MAX_STACK_BYTES: usize = 131_072;
/// Longest exception message kept, in bytes.
pub const MAX_MESSAGE_BYTES: usize = 16_384;
/// Elements kept of a list or map.
pub const MAX_ELEMENTS: usize = 256;
/// Deepest nesting kept in a value; what lies deeper is left out.
pub const MAX_DEPTH: usize = 12;

/// Tidies a span and its events.
pub fn span(span: &mut Span) {
    text(&mut span.name);
    text(&mut span.status_message);
    attributes(&mut span.attributes);
    for event in &mut span.events {
        text(&mut event.name);
        attributes(&mut event.attributes);
    }
}

/// Tidies a log record.
pub fn log_record(record: &mut LogRecord) {
    text(&mut record.severity_text);
    text(&mut record.event_name);
    value(&mut record.body, MAX_TEXT_BYTES, 0);
    attributes(&mut record.attributes);
}

/// Tidies attributes: at most [`MAX_ATTRIBUTES`] of them, each within its bounds.
pub fn attributes(attributes: &mut Attributes) {
    let surplus = attributes.0.len().saturating_sub(MAX_ATTRIBUTES);
    if surplus > 0 {
        // What tells of the failure and of the sender must not be lost behind noise.
        let matters =
            |name: &str| ["exception.", "service.", "deployment.", "host.", "http.", "user."].iter().any(|prefix| name.starts_with(prefix));
        attributes.0.sort_by_key(|(name, _)| !matters(name));
        attributes.0.truncate(MAX_ATTRIBUTES);
        attributes.0.push(("outcrop.attributes_left_out".to_owned(), Value::Int(i64::try_from(surplus).unwrap_or(i64::MAX))));
    }
    for (name, content) in &mut attributes.0 {
        let max = match name.as_str() {
            super::names::EXCEPTION_STACKTRACE => MAX_STACK_BYTES,
            super::names::EXCEPTION_MESSAGE => MAX_MESSAGE_BYTES,
            _ => MAX_TEXT_BYTES,
        };
        value(content, max, 0);
        text(name);
    }
}

/// Tidies one text.
pub fn text(content: &mut String) {
    crate::text::without_nul(content);
    shorten(content, MAX_TEXT_BYTES);
}

fn value(content: &mut Value, max: usize, depth: usize) {
    match content {
        Value::String(content) => {
            crate::text::without_nul(content);
            shorten(content, max);
        }
        Value::Bytes(bytes) => bytes.truncate(max),
        Value::Array(_) | Value::Map(_) if depth >= MAX_DEPTH => *content = Value::String("[left out: nested too deep]".to_owned()),
        Value::Array(items) => {
            items.truncate(MAX_ELEMENTS);
            for item in items {
                value(item, max, depth + 1);
            }
        }
        Value::Map(entries) => {
            entries.truncate(MAX_ELEMENTS);
            for (name, entry) in entries {
                text(name);
                value(entry, max, depth + 1);
            }
        }
        Value::Empty | Value::Bool(_) | Value::Int(_) | Value::Double(_) => {}
    }
}

/// Keeps the beginning and the end: in a stack text, the headline and the innermost frames stand at one of them.
fn shorten(content: &mut String, max: usize) {
    if content.len() <= max {
        return;
    }
    let head = crate::text::prefix(content, max / 2);
    let tail = crate::text::suffix(content, max / 2);
    let left_out = content.len() - head.len() - tail.len();
    *content = format!("{head}\n[left out: {left_out} bytes]\n{tail}");
}
