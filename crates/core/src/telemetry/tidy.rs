//! Bounds on what one record may hold, and text made storable: hostile senders exist, and so do broken ones.

use super::{Attributes, LogRecord, Resource, Span, Value};

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
/// Events kept per span beside its exceptions, and links: the limits that OpenTelemetry's SDKs have by default
/// (specification, "Span Limits"). Exceptions are failures: all of them are counted.
pub const MAX_EVENTS: usize = 128;
/// Links kept per span.
pub const MAX_LINKS: usize = 128;
/// Bytes that the values of one record's attributes may take together: some thirty times what a large record holds.
pub const MAX_RECORD_BYTES: usize = 262_144;
/// Bytes that the values of a resource's attributes may take together. Every chunk of spans repeats its resource.
pub const MAX_RESOURCE_BYTES: usize = 65_536;
/// What stands for a value that is nested deeper.
pub const TOO_DEEP: &str = "[left out: nested too deep]";
/// What a sender is told of a span of which something was left out.
pub const CUT_SPAN: &str = "events past 128 of a span, other than exceptions, and links past 128 are left out";
/// Under this name stands how many attributes were left out.
pub const LEFT_OUT: &str = "outcrop.attributes_left_out";

/// Tidies a span and its events. Returns whether events or links were left out.
pub fn span(span: &mut Span) -> bool {
    text(&mut span.name);
    text(&mut span.status_message);
    attributes(&mut span.attributes);
    let mut others = 0;
    let (events, links) = (span.events.len(), span.links.len());
    span.events.retain(|event| {
        others += usize::from(event.name != super::names::EXCEPTION_EVENT);
        event.name == super::names::EXCEPTION_EVENT || others <= MAX_EVENTS
    });
    span.links.truncate(MAX_LINKS);
    for event in &mut span.events {
        text(&mut event.name);
        attributes(&mut event.attributes);
    }
    span.events.len() < events || span.links.len() < links
}

/// Tidies a resource: its attributes within [`MAX_RESOURCE_BYTES`].
pub fn resource(resource: &mut Resource) {
    attributes(&mut resource.attributes);
    hold(&mut resource.attributes, MAX_RESOURCE_BYTES);
}

/// Tidies a log record.
pub fn log_record(record: &mut LogRecord) {
    text(&mut record.severity_text);
    text(&mut record.event_name);
    value(&mut record.body, MAX_TEXT_BYTES, 0);
    attributes(&mut record.attributes);
}

/// Whether an attribute tells of the failure or of the sender: it must not be lost behind noise.
#[must_use]
pub fn matters(name: &str) -> bool {
    ["exception.", "service.", "deployment.", "host.", "http.", "user."]
        .iter()
        .any(|prefix| name.starts_with(prefix))
}

/// Tidies attributes: at most [`MAX_ATTRIBUTES`] of them, each within its bounds, all together
/// within [`MAX_RECORD_BYTES`].
pub fn attributes(attributes: &mut Attributes) {
    let counted = attributes.0.iter().position(|(name, _)| name == LEFT_OUT);
    let earlier = counted
        .and_then(|at| attributes.0.remove(at).1.as_int())
        .unwrap_or_default();
    let surplus = attributes.0.len().saturating_sub(MAX_ATTRIBUTES);
    if surplus > 0 {
        attributes.0.sort_by_key(|(name, _)| !matters(name));
        attributes.0.truncate(MAX_ATTRIBUTES);
    }
    let left_out = earlier.saturating_add_unsigned(surplus as u64);
    if left_out > 0 {
        attributes.0.push((LEFT_OUT.to_owned(), Value::Int(left_out)));
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
    hold(attributes, MAX_RECORD_BYTES);
}

/// Replaces what does not fit into `max` bytes by a note; what tells of the failure and of the sender keeps its place.
fn hold(attributes: &mut Attributes, max: usize) {
    let mut room = max;
    let sizes: Vec<usize> = attributes.0.iter().map(|(_, value)| value.weight()).collect();
    if sizes.iter().sum::<usize>() <= max {
        return;
    }
    let order =
        |wanted: bool| move |(at, (name, _)): (usize, &(String, Value))| (matters(name) == wanted).then_some(at);
    let first = attributes.0.iter().enumerate().filter_map(order(true));
    let places: Vec<usize> = first
        .chain(attributes.0.iter().enumerate().filter_map(order(false)))
        .collect();
    for at in places {
        match room.checked_sub(sizes[at]) {
            Some(left) => room = left,
            None => attributes.0[at].1 = Value::String("[left out: the record is too large]".to_owned()),
        }
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
        Value::Array(_) | Value::Map(_) if depth >= MAX_DEPTH => *content = Value::String(TOO_DEEP.to_owned()),
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::telemetry::{SpanEvent, SpanId, SpanKind, TraceId};

    fn many(count: usize, name: &str, bytes: usize) -> Attributes {
        (0..count)
            .map(|at| (format!("{name}{at}"), Value::String("x".repeat(bytes))))
            .collect()
    }

    #[rstest]
    #[case::few(many(10, "skerry.", 100), 10, None)]
    #[case::too_many(many(300, "skerry.", 10), 257, Some(44))]
    fn attributes_past_the_limit_are_counted(
        #[case] mut sent: Attributes,
        #[case] kept: usize,
        #[case] left_out: Option<i64>,
    ) {
        attributes(&mut sent);
        assert_eq!(
            (sent.0.len(), sent.get(LEFT_OUT).and_then(Value::as_int)),
            (kept, left_out)
        );
        // What a reader of the wire left out before is added, and tidying twice changes nothing.
        let once = sent.clone();
        attributes(&mut sent);
        assert_eq!(sent, once);
    }

    #[test]
    fn what_tells_of_the_failure_stays_when_a_record_is_too_large() {
        let mut sent = many(200, "skerry.", MAX_TEXT_BYTES);
        sent.0.push((
            "exception.stacktrace".to_owned(),
            Value::String("at moor".repeat(1_000)),
        ));
        attributes(&mut sent);
        let bytes: usize = sent.0.iter().map(|(_, value)| value.weight()).sum();
        assert!(bytes <= MAX_RECORD_BYTES + 200 * 128, "{bytes}");
        assert_eq!(sent.text(&["exception.stacktrace"]).map(str::len), Some(7_000));
        assert_eq!(sent.text(&["skerry.199"]), Some("[left out: the record is too large]"));
    }

    #[test]
    fn a_span_keeps_all_its_exceptions_and_128_other_events_and_links() {
        let event = |name: &str| SpanEvent {
            name: name.to_owned(),
            ..SpanEvent::default()
        };
        let ids = (TraceId([7; 16]), SpanId(7));
        let mut span = Span {
            trace_id: ids.0,
            span_id: ids.1,
            parent_id: None,
            name: "GET /v1/quotes/{sailing}".to_owned(),
            kind: SpanKind::Server,
            start: None,
            end: None,
            attributes: Attributes::default(),
            events: (0..1_000)
                .map(|at| event(if at % 2 == 0 { "exception" } else { "retry" }))
                .collect(),
            links: vec![ids; 500],
            is_error: true,
            status_message: String::new(),
            flags: 0,
            one_in: None,
        };
        assert!(super::span(&mut span));
        let exceptions = span.events.iter().filter(|event| event.name == "exception").count();
        assert_eq!(
            (exceptions, span.events.len() - exceptions, span.links.len()),
            (500, MAX_EVENTS, MAX_LINKS)
        );
        assert!(!super::span(&mut span), "nothing is left to leave out");
    }
}
