//! Reports of failures, made of what spans and log records say.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::failure::clock::Clock;
use crate::failure::compact::{Compact, CountedOnly};
use crate::failure::found::Found;
use crate::failure::report::{OccurrenceId, Report, ReportFacts, Sent, Source};
use crate::failure::senders::Sender;
use crate::failure::span_facts::{carries_exception, is_exception_event};
use crate::grouping::{Described, template};
use crate::stack::{Exception, Stack, base_name};
use crate::telemetry::names::{EXCEPTION_MESSAGE, EXCEPTION_STACKTRACE, EXCEPTION_TYPE};
use crate::telemetry::{Attributes, LogRecord, Scope, Span, SpanEvent, SpanId, SpanKind, TraceId, Value, facts, names};
use crate::{Digest, Hasher, Timestamp, scrub};

/// Severity of a failure on a span in error, and of one on a span that is fine (OTLP: ERROR and WARN).
const SPAN_SEVERITY: (i16, i16) = (17, 13);
/// OTLP severity number from which a record's body is looked into for a stack.
pub(super) const ERROR: i32 = 17;
/// Under this name stands how many occurrences one counts for beside its requests, where its span
/// says that it was sampled.
pub const ONE_IN: &str = "outcrop.one_in";
/// OTLP severity number from which a record is fatal.
const FATAL: i32 = 21;
/// An exception recorded this shortly before its span ended was recorded by the instrumentation, in milliseconds.
const SPAN_END_MS: i64 = 10;
/// What is said where failures are counted without details.
const COUNTED_ONLY: &str = "exceptions past 128 of a span, or past 32 MiB of a request, are counted without details";

/// Who sent a record, through which scope, and by which clock.
#[derive(Clone, Copy)]
pub(super) struct SentBy<'a> {
    pub sender: &'a Arc<Sender>,
    pub scope: &'a Arc<Scope>,
    pub clock: Clock,
}

/// A span that tells of failures, with what stands around it.
pub(super) struct Failing<'a> {
    pub(super) span: &'a Arc<Span>,
    pub(super) request: Option<&'a Arc<Attributes>>,
    pub(super) touches: Option<&'static str>,
    pub(super) from: SentBy<'a>,
    pub(super) user: u64,
    /// Hashes users that events name themselves.
    pub(super) addresses: &'a scrub::Addresses,
    pub(super) bounds: (Timestamp, Timestamp),
    /// Whether it has more exceptions than are told in full.
    pub(super) is_crowded: bool,
}

impl Failing<'_> {
    /// Reports the span's failures: its exceptions, those in `surplus` among them, or its status.
    pub(super) fn report(&self, surplus: Vec<SpanEvent>, compact: &mut Compact, found: &mut Found) {
        let events = self
            .span
            .events
            .iter()
            .filter(|event| is_exception_event(event))
            .map(Some);
        let bare = (!self.span.events.iter().any(is_exception_event)).then_some(None);
        let mut seen: HashSet<OccurrenceId> = HashSet::new();
        let mut keys: HashMap<Digest, Digest> = HashMap::new();
        for event in events.chain(bare) {
            if compact.has_room() {
                let report = span_report(self, event);
                seen.insert(report.facts.id);
                compact.keep(&report);
                found.reports.push(report);
            } else {
                self.count(event, &mut seen, &mut keys, compact, found);
            }
        }
        for event in surplus {
            self.count(Some(&event), &mut seen, &mut keys, compact, found);
        }
    }

    /// Counts a failure that is not told in full, unless the same is there already.
    pub(super) fn count(
        &self,
        event: Option<&SpanEvent>,
        seen: &mut HashSet<OccurrenceId>,
        keys: &mut HashMap<Digest, Digest>,
        compact: &mut Compact,
        found: &mut Found,
    ) {
        let parts = self.parts(event);
        let id = self.id(event, &parts);
        if !seen.insert(id) {
            return;
        }
        found.refused.warn(COUNTED_ONLY);
        let texts = Digest::of([&*parts.type_name, &*parts.message, &*parts.stacktrace]);
        let key = *keys.entry(texts).or_insert_with(|| parts.describe().group().key);
        let like = compact.like(&self.from.sender.identity, key);
        if like.is_none() && compact.has_room() {
            let report = span_report(self, event);
            compact.keep(&report);
            found.reports.push(report);
            return;
        }
        compact.count(&CountedOnly {
            identity: self.from.sender.identity.clone(),
            trace_id: self.span.trace_id,
            span: self.span.span_id,
            like,
            minute: id.at().minute(),
            severity: self.severity(),
            count: 1,
        });
    }

    pub(super) fn parts<'e>(&'e self, event: Option<&'e SpanEvent>) -> Parts<'e> {
        event.map_or_else(|| Parts::of_status(self.span), |event| Parts::of(&event.attributes))
    }

    /// When a failure was reported, as sent.
    pub(super) fn sent_at(&self, event: Option<&SpanEvent>) -> Option<Timestamp> {
        event.and_then(|event| event.time).or(self.span.end).or(self.span.start)
    }

    pub(super) fn id(&self, event: Option<&SpanEvent>, parts: &Parts<'_>) -> OccurrenceId {
        let kind = if event.is_some() { "event" } else { "status" };
        let sent_at = self.sent_at(event);
        let place = (Some(self.span.trace_id), Some(self.span.span_id));
        OccurrenceId::new(
            self.from.clock.within(sent_at, self.bounds),
            content_hash(self.from.sender, place, kind, [sent_at, None], parts),
        )
    }

    /// The attributes of a failure: the span's, then its event's, then its request's; an earlier one is not replaced.
    fn attributes(&self, of_event: &Attributes) -> serde_json::Map<String, serde_json::Value> {
        let span = self.span;
        let mut attributes = span.attributes.to_json();
        if matches!(span.kind, SpanKind::Client | SpanKind::Producer) {
            let mut of_call = attributes.clone();
            facts::settle(&mut of_call);
            let of_request = self.request.map(|request| {
                let mut request = request.to_json();
                facts::settle(&mut request);
                request
            });
            facts::note_call(&mut attributes, &of_call, of_request.as_ref());
        }
        if let Some((name, value)) = took(span).filter(|_| names::is_entry(span)) {
            attributes.insert(name, value.to_json());
        }
        let more = of_event.0.iter().filter(|(name, _)| !name.starts_with("exception."));
        let of_request = self.request.into_iter().flat_map(|attributes| attributes.0.iter());
        for (name, value) in more.chain(of_request) {
            attributes.entry(name.clone()).or_insert_with(|| value.to_json());
        }
        if let Some(one_in) = span.one_in.filter(|one_in| *one_in > 1.0) {
            attributes.insert(ONE_IN.to_owned(), one_in.into());
        }
        if let Some(what) = self.touches {
            attributes.insert(names::TOUCHES.to_owned(), what.into());
        }
        attributes
    }

    pub(super) fn severity(&self) -> i16 {
        if self.span.is_error {
            SPAN_SEVERITY.0
        } else {
            SPAN_SEVERITY.1
        }
    }
}

pub(super) fn span_report(failing: &Failing<'_>, event: Option<&SpanEvent>) -> Report {
    let Failing { span, from, bounds, .. } = *failing;
    let sent_at = failing.sent_at(event);
    let none = Attributes::default();
    let of_event = event.map_or(&none, |event| &event.attributes);
    let parts = failing.parts(event);
    let described = parts.describe();
    let own_user = failing.addresses.user_hash(names::user(of_event).as_deref());
    // On a crowded span each exception is a case of its own, as the items of a batch are, however
    // shortly before its end.
    let is_near =
        |(at, end): (Timestamp, Timestamp)| (-SPAN_END_MS..=SPAN_END_MS).contains(&(end.millis() - at.millis()));
    let escaped = of_event.get(names::EXCEPTION_ESCAPED) == Some(&Value::Bool(true));
    let facts = ReportFacts {
        id: failing.id(event, &parts),
        span: Some(span.span_id),
        at: from.clock.within(sent_at, bounds),
        source: if event.is_some() {
            Source::SpanEvent
        } else {
            Source::SpanStatus
        },
        place: 0,
        at_span_end: !failing.is_crowded && sent_at.zip(span.end).is_some_and(is_near),
        is_unsampled: false,
        says_uncaught: escaped && span.parent_id.is_none(),
        severity: failing.severity(),
        user: if own_user == 0 { failing.user } else { own_user },
        ..exception_facts(&described, from.sender.instance)
    };
    let said = Said {
        trace_id: Some(span.trace_id),
        attributes: failing.attributes(of_event),
        sent: Sent::Span(span.clone()),
    };
    report(facts, said, &described, &parts, from)
}

/// Reports what a log record says of a failure.
pub(super) fn log_report(record: &Arc<LogRecord>, parts: &Parts<'_>, from: SentBy<'_>, user: u64) -> Report {
    let at = from.clock.time(record.time.or(record.observed));
    let described = parts.describe();
    let body = kept_body(record);
    let mut attributes = record.attributes.to_json();
    attributes.retain(|name, _| !name.starts_with("exception."));
    if !body.is_empty() && body != described.message {
        let is_text = !carries_exception(&record.attributes);
        attributes.insert(
            "log.body".to_owned(),
            if is_text {
                body.as_ref().into()
            } else {
                record.body.to_json()
            },
        );
    }
    let content = content_hash(
        from.sender,
        (record.trace_id, record.span_id),
        "log",
        [record.time, record.observed],
        parts,
    );
    let facts = ReportFacts {
        id: OccurrenceId::new(at, content),
        span: record.span_id,
        at,
        source: Source::LogRecord,
        place: logged_at(record, from.scope, &body),
        at_span_end: false,
        is_unsampled: record.flags & 1 == 0,
        says_uncaught: record.severity >= FATAL
            || is_crash_event(record, &described)
            || crate::stack::is_crash(&parts.stacktrace),
        severity: i16::try_from(record.severity.clamp(0, 24)).unwrap_or_default(),
        user,
        ..exception_facts(&described, from.sender.instance)
    };
    let said = Said {
        trace_id: record.trace_id,
        attributes,
        sent: Sent::Log(record.clone()),
    };
    report(facts, said, &described, parts, from)
}

/// A record's body as it is kept: one that holds the stack as its first line, since the stack is kept as such.
fn kept_body(record: &LogRecord) -> Cow<'_, str> {
    let whole = record.body.to_text();
    if carries_exception(&record.attributes) {
        return whole;
    }
    Cow::Owned(whole.lines().next().unwrap_or_default().to_owned())
}

/// The hash of the place in the code that wrote a line: its logger, what it always says, its file and line.
fn logged_at(record: &LogRecord, scope: &Scope, body: &str) -> u64 {
    let mut place = Hasher::default();
    place.part(scope.name.as_bytes()).part(template(body).as_bytes());
    for names in [["code.file.path", "code.filepath"], ["code.line.number", "code.lineno"]] {
        place.part(
            record
                .attributes
                .first(&names)
                .map(Value::to_text)
                .unwrap_or_default()
                .as_bytes(),
        );
    }
    place.finish().short()
}

/// An SDK's hook for uncaught exceptions writes an event named like the exception's class, outside any trace.
pub(super) fn is_crash_event(record: &LogRecord, described: &Described<'_>) -> bool {
    let type_name = described.type_name.as_ref();
    let bare = type_name.rsplit('.').next().unwrap_or(type_name);
    record.trace_id.is_none()
        && !record.event_name.is_empty()
        && (record.event_name == bare || record.event_name == type_name)
}

/// What a report says besides the exception.
struct Said {
    trace_id: Option<TraceId>,
    attributes: serde_json::Map<String, serde_json::Value>,
    sent: Sent,
}

fn report(facts: ReportFacts, said: Said, described: &Described<'_>, parts: &Parts<'_>, from: SentBy<'_>) -> Report {
    let Said {
        trace_id,
        mut attributes,
        sent,
    } = said;
    let grouping = described.group();
    if !described.sent_type.is_empty() && described.sent_type != described.type_name {
        // A code sent as the type: whoever groups this again must see it.
        attributes.insert(EXCEPTION_TYPE.to_owned(), described.sent_type.into());
    }
    facts::settle(&mut attributes);
    Report {
        facts,
        identity: from.sender.identity.clone(),
        trace_id,
        type_name: crate::text::prefix(&described.type_name, names::MAX_NAME_BYTES).to_owned(),
        message: described.message.clone().into_owned(),
        grouping,
        stacktrace: parts.stacktrace.clone().into_owned(),
        stack: described.stack.clone().map(|stack| Arc::new(stack.into_owned())),
        attributes,
        resource: from.sender.resource.clone(),
        scope: from.scope.clone(),
        sent,
        clock_ahead_ms: from.clock.ahead_ms,
        dropped_by: None,
    }
}

/// The three texts of an exception.
pub(super) struct Parts<'a> {
    pub(super) type_name: Cow<'a, str>,
    pub(super) message: Cow<'a, str>,
    pub(super) stacktrace: Cow<'a, str>,
}

impl<'a> Parts<'a> {
    pub(super) fn of(attributes: &'a Attributes) -> Self {
        let part = |name| attributes.get(name).map(Value::to_text).unwrap_or_default();
        Self {
            type_name: part(EXCEPTION_TYPE),
            message: part(EXCEPTION_MESSAGE),
            stacktrace: part(EXCEPTION_STACKTRACE),
        }
    }

    /// What a span in error says without an exception.
    pub(super) fn of_status(span: &'a Span) -> Self {
        let (type_name, message) = names::status(span);
        Self {
            type_name: type_name.into(),
            message: message.into(),
            stacktrace: Cow::Borrowed(""),
        }
    }

    /// A line that was logged as an error.
    pub(super) fn message(body: &str) -> Self {
        Self {
            type_name: Cow::Borrowed(""),
            message: body.trim().to_owned().into(),
            stacktrace: Cow::Borrowed(""),
        }
    }

    /// What was found in a logged text.
    pub(super) fn in_text(exception: crate::app_log::Exception) -> Self {
        Self {
            type_name: exception.type_name.into(),
            message: exception.message.into(),
            stacktrace: exception.stacktrace.into(),
        }
    }

    pub(super) fn describe(&self) -> Described<'_> {
        Described::new(&self.type_name, &self.message, &self.stacktrace)
    }
}

/// The hash of a report's content; times as sent, so that it is the same whenever it is sent again.
pub(super) fn content_hash(
    sender: &Sender,
    (trace, span): (Option<TraceId>, Option<SpanId>),
    source: &str,
    times: [Option<Timestamp>; 2],
    parts: &Parts<'_>,
) -> Digest {
    let mut hasher = Hasher::default();
    hasher.part(&sender.instance.0).part(source.as_bytes());
    hasher
        .part(&trace.map_or([0; 16], |trace| trace.0))
        .number(span.map_or(0, |span| span.0));
    for time in times {
        hasher.number(time.map_or(0, |time| time.0.unsigned_abs()));
    }
    hasher
        .part(parts.type_name.as_bytes())
        .part(parts.message.as_bytes())
        .part(parts.stacktrace.as_bytes());
    hasher.finish()
}

/// The part of the facts that the exception itself decides; the rest is left at nothing.
pub(super) fn exception_facts(described: &Described<'_>, instance: Digest) -> ReportFacts {
    let stack = described.stack.as_ref();
    let message = described.stated_message();
    let exception = match stack {
        Some(stack) => exception_hash(stack.top(), message),
        None => exception_hash(&Exception::default(), message),
    };
    let mut holds = vec![];
    for cause in stack.into_iter().flat_map(|stack| stack.exceptions.iter().skip(1)) {
        holds.push(exception_hash(cause, &cause.message));
        holds.extend(message_hash(&cause.message));
    }
    for (at, _) in described.message.match_indices(": ").take(8) {
        holds.extend(described.message.get(at + 2..).and_then(message_hash));
    }
    holds.sort_unstable();
    holds.dedup();
    ReportFacts {
        id: OccurrenceId([0; 16]),
        span: None,
        at: Timestamp(0),
        source: Source::SpanEvent,
        place: 0,
        exception,
        pairing: Hasher::default().part(&instance.0).number(exception).finish(),
        message: message_hash(message).unwrap_or_default(),
        holds,
        frames: u16::try_from(stack.map_or(0, Stack::frame_count)).unwrap_or(u16::MAX),
        has_own_frame: stack.is_some_and(|stack| stack.own_frame().is_some()),
        at_span_end: false,
        is_unsampled: false,
        says_uncaught: false,
        severity: 0,
        user: 0,
    }
}

/// The innermost frame and the message: what all reports of one exception share, however many outer frames each saw.
pub(super) fn exception_hash(exception: &Exception<'_>, message: &str) -> u64 {
    let mut hasher = Hasher::default();
    if let Some(frame) = exception.frames.first() {
        hasher
            .part(frame.function.as_bytes())
            .part(base_name(&frame.file).as_bytes())
            .number(frame.line.unwrap_or(0).into());
    }
    hasher.part(bare_message(message).as_bytes());
    hasher.finish().short()
}

pub(super) fn message_hash(message: &str) -> Option<u64> {
    let message = bare_message(message);
    (message.len() >= 4).then(|| Digest::of([message]).short())
}

/// A `KeyError`'s message is quoted on the span and bare in the log.
pub(super) fn bare_message(message: &str) -> &str {
    message.trim().trim_matches(['\'', '"'])
}

/// How long a request took, as an attribute.
pub(super) fn took(span: &Span) -> Option<(String, Value)> {
    Some((
        facts::DURATION.to_owned(),
        Value::Double(span.start?.millis_until(span.end?)?),
    ))
}
