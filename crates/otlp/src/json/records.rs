//! Records of OTLP/JSON.

use outcrop_core::Timestamp;
use outcrop_core::telemetry::tidy::{CUT_SPAN, MAX_EVENTS, MAX_LINKS};
use outcrop_core::telemetry::{LogRecord, Span, SpanEvent, SpanId, SpanKind, TraceId, names, sampling};
use serde::de::{IgnoredAny, MapAccess, SeqAccess};

use super::read::{Elements, Fields, List, Object, Scalar, Stood};
use super::values::{attributes, value};
use super::{Context, Records};
use crate::bounds::Gathered;
use crate::{INVALID_SPAN, empty_span};

impl Records for Span {
    const BY_RESOURCE: [&'static str; 2] = ["resourceSpans", "resource_spans"];
    const BY_SCOPE: [&'static str; 2] = ["scopeSpans", "scope_spans"];
    const NAMES: [&'static str; 2] = ["spans", "spans"];

    fn read<'de, A: SeqAccess<'de>>(
        list: &mut A,
        records: &mut Vec<Self>,
        context: &mut Context<'_, '_>,
    ) -> Result<bool, A::Error> {
        let mut read = SpanReader {
            context,
            span: empty_span(),
            ids: (None, None),
            attributes: Gathered::default(),
            others: 0,
            is_cut: false,
        };
        let stood = list.next_element_seed(Object(&mut read))?;
        let SpanReader {
            span,
            ids,
            attributes,
            is_cut,
            ..
        } = read;
        if !is_taken::<Self, A>(stood, context)? {
            return Ok(stood.is_some());
        }
        if is_cut {
            context.bounds.refused.warn(CUT_SPAN);
        }
        let attributes = attributes.finish(&mut context.bounds.refused);
        match ids {
            (Some(trace_id), Some(span_id)) => records.push(Self {
                trace_id,
                span_id,
                attributes,
                ..span
            }),
            _ => context.bounds.refused.add(1, || INVALID_SPAN.to_owned()),
        }
        Ok(true)
    }
}

impl Records for LogRecord {
    const BY_RESOURCE: [&'static str; 2] = ["resourceLogs", "resource_logs"];
    const BY_SCOPE: [&'static str; 2] = ["scopeLogs", "scope_logs"];
    const NAMES: [&'static str; 2] = ["logRecords", "log_records"];

    fn read<'de, A: SeqAccess<'de>>(
        list: &mut A,
        records: &mut Vec<Self>,
        context: &mut Context<'_, '_>,
    ) -> Result<bool, A::Error> {
        let mut read = LogReader {
            context,
            record: Self::default(),
            attributes: Gathered::default(),
        };
        let stood = list.next_element_seed(Object(&mut read))?;
        let LogReader { record, attributes, .. } = read;
        if is_taken::<Self, A>(stood, context)? {
            records.push(Self {
                attributes: attributes.finish(&mut context.bounds.refused),
                ..record
            });
        }
        Ok(stood.is_some())
    }
}

/// Whether what was read is a record that is taken. What is none, and what is past the limits, is counted as refused.
pub(super) fn is_taken<'de, T: Records, A: SeqAccess<'de>>(
    stood: Option<Stood>,
    context: &mut Context<'_, '_>,
) -> Result<bool, A::Error> {
    match stood {
        None => Ok(false),
        Some(Stood::There) => context.takes_record(),
        Some(Stood::Null | Stood::Else) => {
            context
                .bounds
                .refused
                .add(1, || format!("an element of {} is no object", T::NAMES[0]));
            Ok(false)
        }
    }
}

struct SpanReader<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    span: Span,
    ids: (Option<TraceId>, Option<SpanId>),
    attributes: Gathered,
    /// Events that are no exceptions.
    others: usize,
    is_cut: bool,
}

impl Fields for SpanReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "traceId" | "trace_id" => self.ids.0 = trace_id(&map.next_value()?),
            "spanId" | "span_id" => self.ids.1 = span_id(&map.next_value()?),
            "parentSpanId" | "parent_span_id" => self.span.parent_id = span_id(&map.next_value()?),
            "traceState" | "trace_state" => {
                self.span.one_in = sampling::one_in(&map.next_value::<Scalar>()?.into_text());
            }
            "name" => self.span.name = self.context.text(map)?,
            "kind" => self.span.kind = kind(&map.next_value()?),
            "startTimeUnixNano" | "start_time_unix_nano" => self.span.start = time(&map.next_value()?),
            "endTimeUnixNano" | "end_time_unix_nano" => self.span.end = time(&map.next_value()?),
            "attributes" => attributes(map, &mut self.attributes, self.context)?,
            "events" => drop(map.next_value_seed(List(&mut Events(self)))?),
            "links" => drop(map.next_value_seed(List(&mut Links(self)))?),
            "status" => drop(map.next_value_seed(Object(&mut Status(self)))?),
            "flags" => self.span.flags = flags(&map.next_value()?),
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

struct Status<'s, 'c, 'r, 'm>(&'s mut SpanReader<'c, 'r, 'm>);

impl Fields for Status<'_, '_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "code" => {
                let code = map.next_value::<Scalar>()?;
                self.0.span.is_error = code.whole() == Some(2) || code == Scalar::Text("STATUS_CODE_ERROR".to_owned());
            }
            "message" => self.0.span.status_message = self.0.context.text(map)?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

struct Events<'s, 'c, 'r, 'm>(&'s mut SpanReader<'c, 'r, 'm>);

impl Elements for Events<'_, '_, '_, '_> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        let mut read = EventReader {
            context: self.0.context,
            event: SpanEvent::default(),
            attributes: Gathered::default(),
        };
        let stood = list.next_element_seed(Object(&mut read))?;
        let EventReader { event, attributes, .. } = read;
        if stood == Some(Stood::There) {
            let is_exception = event.name == names::EXCEPTION_EVENT;
            self.0.others += usize::from(!is_exception);
            if is_exception || self.0.others <= MAX_EVENTS {
                self.0.context.take(size_of::<SpanEvent>())?;
                let attributes = attributes.finish(&mut self.0.context.bounds.refused);
                self.0.span.events.push(SpanEvent { attributes, ..event });
            } else {
                self.0.is_cut = true;
            }
        }
        Ok(stood.is_some())
    }
}

struct EventReader<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    event: SpanEvent,
    attributes: Gathered,
}

impl Fields for EventReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "name" => self.event.name = self.context.text(map)?,
            "timeUnixNano" | "time_unix_nano" => self.event.time = time(&map.next_value()?),
            "attributes" => attributes(map, &mut self.attributes, self.context)?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

struct Links<'s, 'c, 'r, 'm>(&'s mut SpanReader<'c, 'r, 'm>);

impl Elements for Links<'_, '_, '_, '_> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        let mut link = LinkReader(None, None);
        let stood = list.next_element_seed(Object(&mut link))?;
        match link.0.zip(link.1) {
            Some(link) if self.0.span.links.len() < MAX_LINKS => self.0.span.links.push(link),
            Some(_) => self.0.is_cut = true,
            None => {}
        }
        Ok(stood.is_some())
    }
}

struct LinkReader(Option<TraceId>, Option<SpanId>);

impl Fields for LinkReader {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "traceId" | "trace_id" => self.0 = trace_id(&map.next_value()?),
            "spanId" | "span_id" => self.1 = span_id(&map.next_value()?),
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

struct LogReader<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    record: LogRecord,
    attributes: Gathered,
}

impl Fields for LogReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        let record = &mut self.record;
        match name {
            "timeUnixNano" | "time_unix_nano" => record.time = time(&map.next_value()?),
            "observedTimeUnixNano" | "observed_time_unix_nano" => record.observed = time(&map.next_value()?),
            "severityNumber" | "severity_number" => record.severity = severity_number(&map.next_value()?),
            "severityText" | "severity_text" => record.severity_text = self.context.text(map)?,
            "body" => record.body = value(map, 0, self.context)?,
            "attributes" => attributes(map, &mut self.attributes, self.context)?,
            "traceId" | "trace_id" => record.trace_id = trace_id(&map.next_value()?),
            "spanId" | "span_id" => record.span_id = span_id(&map.next_value()?),
            "flags" => record.flags = flags(&map.next_value()?),
            "eventName" | "event_name" => record.event_name = self.context.text(map)?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

pub(super) fn time(sent: &Scalar) -> Option<Timestamp> {
    sent.whole()
        .and_then(|nanos| u64::try_from(nanos).ok())
        .and_then(Timestamp::from_otlp)
}

pub(super) fn flags(sent: &Scalar) -> u32 {
    sent.whole()
        .and_then(|flags| u32::try_from(flags).ok())
        .unwrap_or_default()
}

fn hex<const N: usize>(sent: &Scalar) -> Option<[u8; N]> {
    let Scalar::Text(text) = sent else { return None };
    if text.len() != 2 * N {
        return None;
    }
    let mut bytes = [0; N];
    for (byte, pair) in bytes.iter_mut().zip(text.as_bytes().chunks_exact(2)) {
        let digit = |at: usize| char::from(pair[at]).to_digit(16);
        *byte = u8::try_from(digit(0)? * 16 + digit(1)?).ok()?;
    }
    Some(bytes)
}

fn trace_id(sent: &Scalar) -> Option<TraceId> {
    hex::<16>(sent).and_then(|id| TraceId::from_bytes(&id))
}

fn span_id(sent: &Scalar) -> Option<SpanId> {
    hex::<8>(sent).and_then(|id| SpanId::from_bytes(&id))
}

/// A number, or a name such as `SPAN_KIND_SERVER`.
fn kind(sent: &Scalar) -> SpanKind {
    let Scalar::Text(name) = sent else {
        return SpanKind::from_otlp(
            sent.whole()
                .and_then(|number| i64::try_from(number).ok())
                .unwrap_or_default(),
        );
    };
    match name.as_str() {
        "SPAN_KIND_SERVER" => SpanKind::Server,
        "SPAN_KIND_CLIENT" => SpanKind::Client,
        "SPAN_KIND_PRODUCER" => SpanKind::Producer,
        "SPAN_KIND_CONSUMER" => SpanKind::Consumer,
        number => SpanKind::from_otlp(number.trim().parse().unwrap_or_default()),
    }
}

/// A number, or a name such as `SEVERITY_NUMBER_ERROR2`.
fn severity_number(sent: &Scalar) -> i32 {
    if let Scalar::Text(name) = sent
        && let Some(name) = name.strip_prefix("SEVERITY_NUMBER_")
    {
        let level = name.trim_end_matches(|c: char| c.is_ascii_digit());
        let step = name
            .strip_prefix(level)
            .and_then(|step| step.parse::<i32>().ok())
            .unwrap_or(1);
        let first: i32 = match level {
            "TRACE" => 1,
            "DEBUG" => 5,
            "INFO" => 9,
            "WARN" => 13,
            "ERROR" => 17,
            "FATAL" => 21,
            _ => return 0,
        };
        return first.saturating_add(step).saturating_sub(1);
    }
    sent.whole()
        .and_then(|number| i32::try_from(number).ok())
        .unwrap_or_default()
}
