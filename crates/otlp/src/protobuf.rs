//! OTLP's protobuf messages (opentelemetry-proto 1.9), read straight into the model.

use std::sync::Arc;

use outcrop_core::Timestamp;
use outcrop_core::telemetry::tidy::{CUT_SPAN, MAX_DEPTH, MAX_ELEMENTS, MAX_EVENTS, MAX_LINKS, TOO_DEEP};
use outcrop_core::telemetry::{
    Attributes, LogRecord, Resource, Scope, ScopeRecords, Span, SpanEvent, SpanId, SpanKind, TraceId, Value, names,
    sampling,
};

use crate::bounds::{ATTRIBUTE_BYTES, Bounds, Gathered, RECORD_BYTES, Room};
use crate::wire::{Fields, Wire};
use crate::{DecodeError, Decoded, INVALID_SPAN, empty_span};

pub(crate) fn traces(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<Span>, DecodeError> {
    read(body, room, |message, bounds, records| {
        if !bounds.takes_record()? {
            return Ok(());
        }
        match span(message, bounds)? {
            Some(span) => records.push(span),
            None => bounds.refused.add(1, || INVALID_SPAN.to_owned()),
        }
        Ok(())
    })
}

pub(crate) fn logs(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<LogRecord>, DecodeError> {
    read(body, room, |message, bounds, records| {
        if bounds.takes_record()? {
            records.push(log_record(message, bounds)?);
        }
        Ok(())
    })
}

/// Reads a request: all three signals have the same shape down to their records.
pub(crate) fn read<T>(
    body: &[u8],
    room: &mut Room<'_>,
    record: impl Fn(&[u8], &mut Bounds<'_, '_>, &mut Vec<T>) -> Result<(), DecodeError>,
) -> Result<Decoded<T>, DecodeError> {
    let mut bounds = Bounds::new(room);
    let mut groups = vec![];
    for field in Fields(body) {
        let (1, of_resource) = field? else { continue };
        let of_resource = of_resource.bytes()?;
        let takes_resource = bounds.takes_resource()?;
        // The resource may stand behind its records.
        let mut resource = Resource::default();
        for field in Fields(of_resource) {
            let (1, sent) = field? else { continue };
            if takes_resource {
                resource.attributes = attributes_of(sent.bytes()?, 1, &mut bounds)?;
            }
        }
        let resource = Arc::new(resource);
        for field in Fields(of_resource) {
            let (2, of_scope) = field? else { continue };
            let of_scope = of_scope.bytes()?;
            bounds.take(RECORD_BYTES)?;
            let mut scope = Scope::default();
            let mut records = vec![];
            for field in Fields(of_scope) {
                match field? {
                    (1, sent) if takes_resource => scope = read_scope(sent.bytes()?, &mut bounds)?,
                    (2, sent) => {
                        record(sent.bytes()?, &mut bounds, &mut records)?;
                    }
                    _ => {}
                }
            }
            if takes_resource {
                groups.push(ScopeRecords {
                    resource: resource.clone(),
                    scope: Arc::new(scope),
                    records,
                });
            }
        }
    }
    Ok(Decoded {
        groups,
        refused: bounds.refused,
    })
}

fn read_scope(message: &[u8], bounds: &mut Bounds<'_, '_>) -> Result<Scope, DecodeError> {
    let mut scope = Scope {
        attributes: attributes_of(message, 3, bounds)?,
        ..Scope::default()
    };
    for field in Fields(message) {
        match field? {
            (1, name) => scope.name = text(name, bounds)?,
            (2, version) => scope.version = text(version, bounds)?,
            _ => {}
        }
    }
    Ok(scope)
}

/// `None` for a span without valid ids.
fn span(message: &[u8], bounds: &mut Bounds<'_, '_>) -> Result<Option<Span>, DecodeError> {
    let (mut trace_id, mut span_id) = (None, None);
    let mut span = empty_span();
    let mut attributes = Gathered::default();
    let (mut others, mut is_cut) = (0, false);
    for field in Fields(message) {
        match field? {
            (1, id) => trace_id = TraceId::from_bytes(id.bytes()?),
            (2, id) => span_id = SpanId::from_bytes(id.bytes()?),
            (3, state) => span.one_in = sampling::one_in(&state.text()?),
            (4, id) => span.parent_id = SpanId::from_bytes(id.bytes()?),
            (5, name) => span.name = text(name, bounds)?,
            (6, kind) => span.kind = SpanKind::from_otlp(kind.varint()?.cast_signed()),
            (7, time) => span.start = Timestamp::from_otlp(time.fixed64()?),
            (8, time) => span.end = Timestamp::from_otlp(time.fixed64()?),
            (9, sent) => attribute(sent.bytes()?, &mut attributes, bounds)?,
            (11, sent) => {
                let message = sent.bytes()?;
                let is_exception = event_name(message)? == names::EXCEPTION_EVENT;
                others += usize::from(!is_exception);
                if is_exception || others <= MAX_EVENTS {
                    span.events.push(event(message, bounds)?);
                } else {
                    is_cut = true;
                }
            }
            (13, sent) => match link(sent.bytes()?)? {
                Some(link) if span.links.len() < MAX_LINKS => span.links.push(link),
                Some(_) => is_cut = true,
                None => {}
            },
            (15, sent) => {
                for field in Fields(sent.bytes()?) {
                    match field? {
                        (2, said) => span.status_message = text(said, bounds)?,
                        (3, code) => span.is_error = code.varint()? == 2,
                        _ => {}
                    }
                }
            }
            (16, flags) => span.flags = flags.fixed32()?,
            _ => {}
        }
    }
    if is_cut {
        bounds.refused.warn(CUT_SPAN);
    }
    span.attributes = attributes.finish(&mut bounds.refused);
    let (Some(trace_id), Some(span_id)) = (trace_id, span_id) else {
        return Ok(None);
    };
    Ok(Some(Span {
        trace_id,
        span_id,
        ..span
    }))
}

fn event_name(message: &[u8]) -> Result<std::borrow::Cow<'_, str>, DecodeError> {
    let mut name = "".into();
    for field in Fields(message) {
        if let (2, sent) = field? {
            name = sent.text()?;
        }
    }
    Ok(name)
}

fn event(message: &[u8], bounds: &mut Bounds<'_, '_>) -> Result<SpanEvent, DecodeError> {
    bounds.take(size_of::<SpanEvent>())?;
    let mut event = SpanEvent {
        attributes: attributes_of(message, 3, bounds)?,
        ..SpanEvent::default()
    };
    for field in Fields(message) {
        match field? {
            (1, time) => event.time = Timestamp::from_otlp(time.fixed64()?),
            (2, name) => event.name = text(name, bounds)?,
            _ => {}
        }
    }
    Ok(event)
}

fn link(message: &[u8]) -> Result<Option<(TraceId, SpanId)>, DecodeError> {
    let (mut trace, mut span) = (None, None);
    for field in Fields(message) {
        match field? {
            (1, id) => trace = TraceId::from_bytes(id.bytes()?),
            (2, id) => span = SpanId::from_bytes(id.bytes()?),
            _ => {}
        }
    }
    Ok(trace.zip(span))
}

fn log_record(message: &[u8], bounds: &mut Bounds<'_, '_>) -> Result<LogRecord, DecodeError> {
    let mut record = LogRecord {
        attributes: attributes_of(message, 6, bounds)?,
        ..LogRecord::default()
    };
    for field in Fields(message) {
        match field? {
            (1, time) => record.time = Timestamp::from_otlp(time.fixed64()?),
            (2, severity) => record.severity = i32::try_from(severity.varint()?.cast_signed()).unwrap_or_default(),
            (3, word) => record.severity_text = text(word, bounds)?,
            (5, body) => record.body = value(body.bytes()?, 0, bounds)?,
            (8, flags) => record.flags = flags.fixed32()?,
            (9, id) => record.trace_id = TraceId::from_bytes(id.bytes()?),
            (10, id) => record.span_id = SpanId::from_bytes(id.bytes()?),
            (11, time) => record.observed = Timestamp::from_otlp(time.fixed64()?),
            (12, name) => record.event_name = text(name, bounds)?,
            _ => {}
        }
    }
    Ok(record)
}

/// The attributes that stand under a number in a message.
pub(crate) fn attributes_of(
    message: &[u8],
    number: u32,
    bounds: &mut Bounds<'_, '_>,
) -> Result<Attributes, DecodeError> {
    let mut attributes = Gathered::default();
    for field in Fields(message) {
        match field? {
            (at, sent) if at == number => attribute(sent.bytes()?, &mut attributes, bounds)?,
            _ => {}
        }
    }
    Ok(attributes.finish(&mut bounds.refused))
}

fn attribute(message: &[u8], attributes: &mut Gathered, bounds: &mut Bounds<'_, '_>) -> Result<(), DecodeError> {
    let (name, sent) = entry(message)?;
    if attributes.wants(&name) {
        bounds.take(ATTRIBUTE_BYTES + name.len())?;
        let value = sent.map_or(Ok(Value::Empty), |sent| value(sent, 0, bounds))?;
        attributes.push(name.into_owned(), value);
    }
    Ok(())
}

/// A name and the message of its value.
fn entry(message: &[u8]) -> Result<(std::borrow::Cow<'_, str>, Option<&[u8]>), DecodeError> {
    let (mut name, mut value) = ("".into(), None);
    for field in Fields(message) {
        match field? {
            (1, sent) => name = sent.text()?,
            (2, sent) => value = Some(sent.bytes()?),
            _ => {}
        }
    }
    Ok((name, value))
}

fn value(message: &[u8], depth: usize, bounds: &mut Bounds<'_, '_>) -> Result<Value, DecodeError> {
    let mut value = Value::Empty;
    for field in Fields(message) {
        value = match field? {
            (1, sent) => Value::String(text(sent, bounds)?),
            (2, flag) => Value::Bool(flag.varint()? != 0),
            (3, number) => Value::Int(number.varint()?.cast_signed()),
            (4, number) => Value::Double(f64::from_bits(number.fixed64()?)),
            (5 | 6, _) if depth >= MAX_DEPTH => Value::String(TOO_DEEP.to_owned()),
            (5, list) => Value::Array(array(list.bytes()?, depth, bounds)?),
            (6, map) => Value::Map(entries(map.bytes()?, depth, bounds)?),
            (7, sent) => {
                let bytes = sent.bytes()?;
                bounds.take(bytes.len())?;
                Value::Bytes(bytes.to_vec())
            }
            // Nothing known, or an index into the profiles signal's string table, which means nothing here.
            _ => value,
        };
    }
    Ok(value)
}

fn array(message: &[u8], depth: usize, bounds: &mut Bounds<'_, '_>) -> Result<Vec<Value>, DecodeError> {
    let mut items = vec![];
    for field in Fields(message) {
        let (1, sent) = field? else { continue };
        let sent = sent.bytes()?;
        if items.len() < MAX_ELEMENTS {
            bounds.take(ATTRIBUTE_BYTES)?;
            items.push(value(sent, depth + 1, bounds)?);
        }
    }
    Ok(items)
}

fn entries(message: &[u8], depth: usize, bounds: &mut Bounds<'_, '_>) -> Result<Vec<(String, Value)>, DecodeError> {
    let mut entries = vec![];
    for field in Fields(message) {
        let (1, sent) = field? else { continue };
        let (name, sent) = entry(sent.bytes()?)?;
        if entries.len() < MAX_ELEMENTS {
            bounds.take(ATTRIBUTE_BYTES + name.len())?;
            let value = sent.map_or(Ok(Value::Empty), |sent| value(sent, depth + 1, bounds))?;
            entries.push((name.into_owned(), value));
        }
    }
    Ok(entries)
}

pub(crate) fn text(sent: Wire<'_>, bounds: &mut Bounds<'_, '_>) -> Result<String, DecodeError> {
    let text = sent.text()?;
    bounds.take(text.len())?;
    Ok(text.into_owned())
}
