//! Finds failures, spans and requests in what was received.

use crate::failure::span_facts::carries_exception;
use crate::failure::span_facts::is_exception_event;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::chunks::Chunks;
use super::clock::{Clock, Clocks};
use super::compact::{Compact, CountedOnly, MAX_EXCEPTIONS};
use super::found::{Found, SAMPLED_ONE_IN, SeenSpan};
use super::lines::FoundLine;
use super::report::{OccurrenceId, Report, ReportFacts, Sent, Source};
use super::senders::{Sender, Senders};
use super::uses::{Calls, Instances};
use super::{platform, uses};
use crate::failure::endpoint;
use crate::failure::entry::{EntrySpan, Sampled};
use crate::failure::limits::Limits;
use crate::failure::span_facts::{SpanFacts, tells_of_failure};
use crate::grouping::{Described, template};
use crate::stack::{Exception, Stack, base_name};
use crate::telemetry::groups::InstanceGroups;
use crate::telemetry::names::{EXCEPTION_MESSAGE, EXCEPTION_STACKTRACE, EXCEPTION_TYPE};
use crate::telemetry::{
    Attributes, Group, LogRecord, Reading, Resource, Scope, Span, SpanEvent, SpanId, SpanKind, TraceId, Value, facts,
    names, sampling, tidy,
};
use crate::{Digest, Hasher, Timestamp, scrub};

/// An exception recorded this shortly before its span ended was recorded by the instrumentation, in milliseconds.
const SPAN_END_MS: i64 = 10;
/// Severity of a failure on a span in error, and of one on a span that is fine (OTLP: ERROR and WARN).
const SPAN_SEVERITY: (i16, i16) = (17, 13);
/// OTLP severity number from which a record's body is looked into for a stack.
const ERROR: i32 = 17;
/// Under this name stands how many occurrences one counts for beside its requests, where its span
/// says that it was sampled.
pub const ONE_IN: &str = "outcrop.one_in";
/// OTLP severity number from which a record is fatal.
const FATAL: i32 = 21;

fn is_sampled(span: &Span) -> bool {
    let of_ids = [span.trace_id.0.as_slice(), &span.span_id.0.to_be_bytes()].concat();
    Digest::of_bytes(&of_ids).short().is_multiple_of(SAMPLED_ONE_IN.into())
}

/// Finds failures and requests in spans. Secrets are removed from all that is kept.
#[must_use]
pub fn find_in_spans(groups: Vec<Group<Span>>, limits: Limits<'_>) -> Found {
    let mut found = Found::default();
    let mut senders = Senders::default();
    let mut clocks = Clocks::new(limits);
    for group in &groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        clocks.see(
            sender.instance,
            group.records.iter().filter_map(|span| span.end.or(span.start)),
        );
    }
    let entries = entry_attributes(&groups, limits.scrubbing);
    let touched = touched(&groups);
    let mut chunks = Chunks::default();
    let mut compact = Compact::default();
    let (mut calls, mut instances) = (Calls::default(), Instances::default());
    for group in groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        let clock = clocks.of(sender.instance);
        let scrubber = limits.scrubbing.of(&sender.identity.service);
        let scope = clean_scope(&group.scope, scrubber);
        for mut span in group.records {
            let start = clock.time(span.start.or(span.end));
            if start < limits.oldest {
                found
                    .refused
                    .add(1, || "spans older than the retention are not taken".to_owned());
                continue;
            }
            let bounds = (start, clock.time(span.end.or(span.start)).max(start));
            let user = limits
                .scrubbing
                .addresses
                .user_hash(names::user(&span.attributes).as_deref());
            if tidy::span(&mut span) {
                found.refused.warn(tidy::CUT_SPAN);
            }
            scrubber.span(&mut span);
            let surplus = surplus_exceptions(&mut span);
            let entry = names::is_entry(&span).then(|| entry_span(&span, bounds, &sender, limits.groups));
            let trace_id = span.trace_id;
            let facts = SpanFacts {
                id: span.span_id,
                parent: span.parent_id,
                start,
                is_error: span.is_error || entry.as_ref().is_some_and(|entry| entry.failed),
                is_call: matches!(span.kind, SpanKind::Client | SpanKind::Producer),
                user,
                endpoint: None,
            };
            calls.add(&sender.identity, &span, bounds, facts.is_error);
            instances.add(&sender.identity, &sender.resource, start, entry.as_ref());
            if tells_of_failure(&span) {
                chunks.add(&sender, &scope, span.clone(), &facts, entry.as_ref(), (clock, bounds));
                let request = span.parent_id.and_then(|_| entries.get(&(trace_id, span.span_id)));
                let touches = touched.get(&(trace_id, span.span_id)).copied();
                let failing = Failing {
                    span: &Arc::new(span),
                    request,
                    touches,
                    sender: &sender,
                    scope: &scope,
                    user,
                    addresses: &limits.scrubbing.addresses,
                    clock,
                    bounds,
                    is_crowded: !surplus.is_empty(),
                };
                failing.report(surplus, &mut compact, &mut found);
            } else {
                chunks.add(&sender, &scope, span, &facts, entry.as_ref(), (clock, bounds));
            }
            found.spans.push(SeenSpan {
                identity: sender.identity.clone(),
                trace_id,
                facts,
                entry,
            });
        }
    }
    found.clocks_ahead = senders.ahead(&clocks);
    found.counted_only = compact.finish();
    found.chunks = chunks.finish();
    found.calls = calls.finish();
    found.instances = instances.finish();
    found
}

/// What is said where failures are counted without details.
const COUNTED_ONLY: &str = "exceptions past 128 of a span, or past 32 MiB of a request, are counted without details";

/// Takes from a span the exceptions that are not told in full.
fn surplus_exceptions(span: &mut Span) -> Vec<SpanEvent> {
    if span.events.len() <= MAX_EXCEPTIONS {
        return vec![];
    }
    let mut exceptions = 0;
    let (kept, surplus) = std::mem::take(&mut span.events).into_iter().partition(|event| {
        let is_exception = is_exception_event(event);
        exceptions += usize::from(is_exception);
        !is_exception || exceptions <= MAX_EXCEPTIONS
    });
    span.events = kept;
    surplus
}

/// A span that tells of failures, with what stands around it.
struct Failing<'a> {
    span: &'a Arc<Span>,
    request: Option<&'a Arc<Attributes>>,
    touches: Option<&'static str>,
    sender: &'a Sender,
    scope: &'a Arc<Scope>,
    user: u64,
    /// Hashes users that events name themselves.
    addresses: &'a scrub::Addresses,
    clock: Clock,
    bounds: (Timestamp, Timestamp),
    /// Whether it has more exceptions than are told in full.
    is_crowded: bool,
}

impl Failing<'_> {
    /// Reports the span's failures: its exceptions, those in `surplus` among them, or its status.
    fn report(&self, surplus: Vec<SpanEvent>, compact: &mut Compact, found: &mut Found) {
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
    fn count(
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
        let like = compact.like(&self.sender.identity, key);
        if like.is_none() && compact.has_room() {
            let report = span_report(self, event);
            compact.keep(&report);
            found.reports.push(report);
            return;
        }
        compact.count(&CountedOnly {
            identity: self.sender.identity.clone(),
            trace_id: self.span.trace_id,
            span: self.span.span_id,
            like,
            minute: id.at().minute(),
            severity: self.severity(),
            count: 1,
        });
    }

    fn parts<'e>(&'e self, event: Option<&'e SpanEvent>) -> Parts<'e> {
        event.map_or_else(|| Parts::of_status(self.span), |event| Parts::of(&event.attributes))
    }

    /// When a failure was reported, as sent.
    fn sent_at(&self, event: Option<&SpanEvent>) -> Option<Timestamp> {
        event.and_then(|event| event.time).or(self.span.end).or(self.span.start)
    }

    fn id(&self, event: Option<&SpanEvent>, parts: &Parts<'_>) -> OccurrenceId {
        let kind = if event.is_some() { "event" } else { "status" };
        let ids = (Some(self.span.trace_id), Some(self.span.span_id));
        let sent_at = self.sent_at(event);
        OccurrenceId::new(
            self.clock.within(sent_at, self.bounds),
            content_hash(self.sender, ids.0, ids.1, kind, [sent_at, None], parts),
        )
    }

    fn severity(&self) -> i16 {
        if self.span.is_error {
            SPAN_SEVERITY.0
        } else {
            SPAN_SEVERITY.1
        }
    }
}

/// Finds failures in log records, and takes down every record. Secrets are removed from all that is kept.
#[must_use]
pub fn find_in_logs(groups: Vec<Group<LogRecord>>, limits: Limits<'_>) -> Found {
    let mut found = Found::default();
    let mut senders = Senders::default();
    let mut clocks = Clocks::new(limits);
    for group in &groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        clocks.see(
            sender.instance,
            group
                .records
                .iter()
                .filter_map(|record| record.time.or(record.observed)),
        );
    }
    let mut instances = Instances::default();
    for group in groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        let clock = clocks.of(sender.instance);
        let scrubber = limits.scrubbing.of(&sender.identity.service);
        let (mut traced, mut unsampled) = (0, 0);
        let mut scope = None;
        for mut record in group.records {
            let at = clock.time(record.time.or(record.observed));
            if at < limits.oldest {
                found
                    .refused
                    .add(1, || "log records older than the retention are not taken".to_owned());
                continue;
            }
            if record.trace_id.is_some() {
                traced += 1;
                unsampled += u64::from(record.flags & 1 == 0);
            }
            let user = limits
                .scrubbing
                .addresses
                .user_hash(names::user(&record.attributes).as_deref());
            tidy::log_record(&mut record);
            scrubber.log_record(&mut record);
            let scope = scope.get_or_insert_with(|| clean_scope(&group.scope, scrubber));
            instances.add(&sender.identity, &sender.resource, at, None);
            found
                .platform_events
                .extend(platform::event(&record, &sender.resource, at).map(|event| (sender.identity.clone(), event)));
            found
                .lines
                .push(FoundLine::new(&record, &sender.identity, &sender.resource, scope, at));
            if !carries_exception(&record.attributes) && (record.severity < ERROR || record.body == Value::Empty) {
                continue;
            }
            let record = Arc::new(record);
            let body = record.body.to_text();
            let (parts, source) = if carries_exception(&record.attributes) {
                (Parts::of(&record.attributes), Source::LogRecord)
            } else if let Some(exception) = in_body(&record.body, &body) {
                (Parts::in_text(exception), Source::LogRecord)
            } else if body.trim().is_empty() {
                continue;
            } else {
                (Parts::message(&body), Source::LogMessage)
            };
            let mut report = log_report(&record, &parts, &sender, scope, user, clock);
            report.facts.source = source;
            found.reports.push(report);
        }
        if traced > 0 {
            found.traced_lines.push((sender.identity.clone(), traced, unsampled));
        }
    }
    found.clocks_ahead = senders.ahead(&clocks);
    found.instances = instances.finish();
    found
}

/// Finds the load of instances in metrics; nothing else of them is kept.
#[must_use]
pub fn find_in_metrics(groups: Vec<Group<Reading>>, limits: Limits<'_>) -> Found {
    let mut senders = Senders::default();
    let of = |resource: &Arc<Resource>| {
        let sender = senders.of(resource, limits.scrubbing);
        (sender.identity.clone(), sender.resource.clone())
    };
    Found {
        instances: uses::readings(groups, of, limits),
        ..Found::default()
    }
}

fn clean_scope(scope: &Arc<Scope>, scrubber: scrub::Scrubber<'_>) -> Arc<Scope> {
    let mut clean = Scope::clone(scope);
    tidy::text(&mut clean.name);
    tidy::text(&mut clean.version);
    tidy::attributes(&mut clean.attributes);
    scrubber.scope(&mut clean);
    Arc::new(clean)
}

/// The exception that a body's text holds; a stack has several lines.
fn in_body(body: &Value, text: &str) -> Option<crate::app_log::Exception> {
    (matches!(body, Value::String(_)) && text.contains('\n'))
        .then(|| crate::app_log::exception_in(text))
        .flatten()
}

/// The request of a span that was scrubbed.
fn entry_span(
    span: &Span,
    (start, end): (Timestamp, Timestamp),
    sender: &Sender,
    groups: &InstanceGroups,
) -> EntrySpan {
    let status = names::http_status(&span.attributes);
    let failed = span.is_error || status.is_some_and(|code| code >= 500);
    let sampled = is_sampled(span).then(|| {
        let mut attributes = span.attributes.clone();
        attributes.0.extend(took(span));
        Box::new(Sampled {
            resource: sender.resource.clone(),
            attributes,
        })
    });
    EntrySpan {
        endpoint: endpoint::endpoint(span),
        at: start,
        failed,
        status,
        duration_us: u64::try_from(end.micros() - start.micros()).unwrap_or_default(),
        group: groups.of(&sender.identity.service, &sender.resource.attributes, &span.attributes),
        weight: sampling::weight(span),
        is_weighed: span.one_in.is_some(),
        told: (failed || status.is_some_and(|code| code >= 400)).then(|| {
            let mut told = span.attributes.to_json();
            facts::settle(&mut told);
            Box::new(told)
        }),
        sampled,
    }
}

/// How long a request took, as an attribute.
fn took(span: &Span) -> Option<(String, Value)> {
    Some((
        facts::DURATION.to_owned(),
        Value::Double(span.start?.millis_until(span.end?)?),
    ))
}

type RequestAttributes = HashMap<(TraceId, SpanId), Arc<Attributes>>;

/// For each span with an exception, what its request's entry span says, where both came in one batch.
fn entry_attributes(groups: &[Group<Span>], scrubbing: &scrub::Scrubbing) -> RequestAttributes {
    let mut by_span: RequestAttributes = HashMap::new();
    let has_failure = |span: &Span| span.parent_id.is_some() && span.events.iter().any(is_exception_event);
    if !groups.iter().flat_map(|group| &group.records).any(has_failure) {
        return by_span;
    }
    let spans: HashMap<(TraceId, SpanId), (&Span, &Arc<Resource>)> = groups
        .iter()
        .flat_map(|group| {
            group
                .records
                .iter()
                .map(|span| ((span.trace_id, span.span_id), (span, &group.resource)))
        })
        .collect();
    let mut cleaned: HashMap<(TraceId, SpanId), Arc<Attributes>> = HashMap::new();
    for (key, (span, resource)) in spans.iter().filter(|(_, (span, _))| has_failure(span)) {
        let mut above = span.parent_id;
        for _ in 0..64 {
            let Some((parent, owner)) = above.and_then(|id| spans.get(&(span.trace_id, id))) else {
                break;
            };
            if !Arc::ptr_eq(owner, resource) {
                break;
            }
            if names::is_entry(parent) {
                let attributes = cleaned.entry((parent.trace_id, parent.span_id)).or_insert_with(|| {
                    let mut clean = Span {
                        events: vec![],
                        ..Span::clone(parent)
                    };
                    tidy::span(&mut clean);
                    scrubbing.of(&names::identity(resource).service).span(&mut clean);
                    clean.attributes.0.extend(took(&clean));
                    Arc::new(clean.attributes)
                });
                by_span.insert(*key, attributes.clone());
                break;
            }
            above = parent.parent_id;
        }
    }
    by_span
}

/// Spans that failed in a call to elsewhere: the call itself and, within the batch, the spans of its service above it.
fn touched(groups: &[Group<Span>]) -> HashMap<(TraceId, SpanId), &'static str> {
    let mut touched = HashMap::new();
    let is_failed = |span: &&Span| span.is_error || span.events.iter().any(is_exception_event);
    for group in groups {
        let failed = || group.records.iter().filter(is_failed);
        let calls: Vec<(&Span, &'static str)> = failed()
            .filter_map(|span| Some((span, names::touches(span.kind, &span.attributes)?)))
            .collect();
        if calls.is_empty() {
            continue;
        }
        let parents: HashMap<(TraceId, SpanId), Option<SpanId>> = failed()
            .map(|span| ((span.trace_id, span.span_id), span.parent_id))
            .collect();
        for (call, what) in calls {
            let mut at = Some(call.span_id);
            // Bounded, since a sender may have made a circle of parents.
            for _ in 0..64 {
                let Some(key) = at.map(|id| (call.trace_id, id)).filter(|key| parents.contains_key(key)) else {
                    break;
                };
                touched.entry(key).or_insert(what);
                at = parents[&key];
            }
        }
    }
    touched
}

fn span_report(failing: &Failing<'_>, event: Option<&SpanEvent>) -> Report {
    let Failing {
        span, sender, bounds, ..
    } = *failing;
    let sent_at = failing.sent_at(event);
    let none = Attributes::default();
    let of_event = event.map_or(&none, |event| &event.attributes);
    let parts = failing.parts(event);
    let described = parts.describe();
    let mut attributes = span.attributes.to_json();
    if matches!(span.kind, SpanKind::Client | SpanKind::Producer) {
        let mut of_call = attributes.clone();
        facts::settle(&mut of_call);
        let of_request = failing.request.map(|request| {
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
    let of_request = failing.request.into_iter().flat_map(|attributes| attributes.0.iter());
    for (name, value) in more.chain(of_request) {
        attributes.entry(name.clone()).or_insert_with(|| value.to_json());
    }
    if let Some(one_in) = span.one_in.filter(|one_in| *one_in > 1.0) {
        attributes.insert(ONE_IN.to_owned(), one_in.into());
    }
    let own_user = failing.addresses.user_hash(names::user(of_event).as_deref());
    if let Some(what) = failing.touches {
        attributes.insert(names::TOUCHES.to_owned(), what.into());
    }
    // On a crowded span each exception is a case of its own, as the items of a batch are, however
    // shortly before its end.
    let is_near =
        |(at, end): (Timestamp, Timestamp)| (-SPAN_END_MS..=SPAN_END_MS).contains(&(end.millis() - at.millis()));
    let at_span_end = !failing.is_crowded && sent_at.zip(span.end).is_some_and(is_near);
    let facts = ReportFacts {
        id: failing.id(event, &parts),
        span: Some(span.span_id),
        at: failing.clock.within(sent_at, bounds),
        source: if event.is_some() {
            Source::SpanEvent
        } else {
            Source::SpanStatus
        },
        place: 0,
        at_span_end,
        is_unsampled: false,
        says_uncaught: of_event
            .get(names::EXCEPTION_ESCAPED)
            .is_some_and(|escaped| *escaped == Value::Bool(true))
            && span.parent_id.is_none(),
        severity: failing.severity(),
        user: if own_user == 0 { failing.user } else { own_user },
        ..exception_facts(&described, sender.instance)
    };
    let sent = Sent::Span(span.clone());
    report(
        facts,
        Some(span.trace_id),
        attributes,
        &described,
        &parts,
        sender,
        failing.scope,
        failing.clock,
        sent,
    )
}

fn log_report(
    record: &Arc<LogRecord>,
    parts: &Parts<'_>,
    sender: &Sender,
    scope: &Arc<Scope>,
    user: u64,
    clock: Clock,
) -> Report {
    let at = clock.time(record.time.or(record.observed));
    let described = parts.describe();
    let whole = record.body.to_text();
    // A body that holds the stack is kept as its first line: the stack is kept as such.
    let holds_stack = !carries_exception(&record.attributes);
    let body = if holds_stack {
        Cow::Owned(whole.lines().next().unwrap_or_default().to_owned())
    } else {
        whole
    };
    let mut attributes: serde_json::Map<String, serde_json::Value> = record
        .attributes
        .to_json()
        .into_iter()
        .filter(|(name, _)| !name.starts_with("exception."))
        .collect();
    if !body.is_empty() && body != described.message {
        let kept = if holds_stack {
            body.as_ref().into()
        } else {
            record.body.to_json()
        };
        attributes.insert("log.body".to_owned(), kept);
    }
    let content = content_hash(
        sender,
        record.trace_id,
        record.span_id,
        "log",
        [record.time, record.observed],
        parts,
    );
    let mut place = Hasher::default();
    place.part(scope.name.as_bytes()).part(template(&body).as_bytes());
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
    let facts = ReportFacts {
        id: OccurrenceId::new(at, content),
        span: record.span_id,
        at,
        source: Source::LogRecord,
        place: place.finish().short(),
        at_span_end: false,
        is_unsampled: record.flags & 1 == 0,
        says_uncaught: record.severity >= FATAL
            || is_crash_event(record, &described)
            || crate::stack::is_crash(&parts.stacktrace),
        severity: i16::try_from(record.severity.clamp(0, 24)).unwrap_or_default(),
        user,
        ..exception_facts(&described, sender.instance)
    };
    let trace_id = record.trace_id;
    report(
        facts,
        trace_id,
        attributes,
        &described,
        parts,
        sender,
        scope,
        clock,
        Sent::Log(record.clone()),
    )
}

/// An SDK's hook for uncaught exceptions writes an event named like the exception's class, outside any trace.
fn is_crash_event(record: &LogRecord, described: &Described<'_>) -> bool {
    let type_name = described.type_name.as_ref();
    let bare = type_name.rsplit('.').next().unwrap_or(type_name);
    record.trace_id.is_none()
        && !record.event_name.is_empty()
        && (record.event_name == bare || record.event_name == type_name)
}

#[expect(
    clippy::too_many_arguments,
    reason = "the last step of the two functions above, which differ in each"
)]
fn report(
    facts: ReportFacts,
    trace_id: Option<TraceId>,
    mut attributes: serde_json::Map<String, serde_json::Value>,
    described: &Described<'_>,
    parts: &Parts<'_>,
    sender: &Sender,
    scope: &Arc<Scope>,
    clock: Clock,
    sent: Sent,
) -> Report {
    let grouping = described.group();
    if !described.sent_type.is_empty() && described.sent_type != described.type_name {
        // A code sent as the type: whoever groups this again must see it.
        attributes.insert(EXCEPTION_TYPE.to_owned(), described.sent_type.into());
    }
    facts::settle(&mut attributes);
    Report {
        facts,
        identity: sender.identity.clone(),
        trace_id,
        type_name: crate::text::prefix(&described.type_name, names::MAX_NAME_BYTES).to_owned(),
        message: described.message.clone().into_owned(),
        grouping,
        stacktrace: parts.stacktrace.clone().into_owned(),
        stack: described.stack.clone().map(|stack| Arc::new(stack.into_owned())),
        attributes,
        resource: sender.resource.clone(),
        scope: scope.clone(),
        sent,
        clock_ahead_ms: clock.ahead_ms,
        dropped_by: None,
    }
}

/// The three texts of an exception.
struct Parts<'a> {
    type_name: Cow<'a, str>,
    message: Cow<'a, str>,
    stacktrace: Cow<'a, str>,
}

impl<'a> Parts<'a> {
    fn of(attributes: &'a Attributes) -> Self {
        let part = |name| attributes.get(name).map(Value::to_text).unwrap_or_default();
        Self {
            type_name: part(EXCEPTION_TYPE),
            message: part(EXCEPTION_MESSAGE),
            stacktrace: part(EXCEPTION_STACKTRACE),
        }
    }

    /// What a span in error says without an exception.
    fn of_status(span: &'a Span) -> Self {
        let (type_name, message) = names::status(span);
        Self {
            type_name: type_name.into(),
            message: message.into(),
            stacktrace: Cow::Borrowed(""),
        }
    }

    /// A line that was logged as an error.
    fn message(body: &str) -> Self {
        Self {
            type_name: Cow::Borrowed(""),
            message: body.trim().to_owned().into(),
            stacktrace: Cow::Borrowed(""),
        }
    }

    /// What was found in a logged text.
    fn in_text(exception: crate::app_log::Exception) -> Self {
        Self {
            type_name: exception.type_name.into(),
            message: exception.message.into(),
            stacktrace: exception.stacktrace.into(),
        }
    }

    fn describe(&self) -> Described<'_> {
        Described::new(&self.type_name, &self.message, &self.stacktrace)
    }
}

/// The hash of a report's content; times as sent, so that it is the same whenever it is sent again.
fn content_hash(
    sender: &Sender,
    trace: Option<TraceId>,
    span: Option<SpanId>,
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
fn exception_facts(described: &Described<'_>, instance: Digest) -> ReportFacts {
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
fn exception_hash(exception: &Exception<'_>, message: &str) -> u64 {
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

fn message_hash(message: &str) -> Option<u64> {
    let message = bare_message(message);
    (message.len() >= 4).then(|| Digest::of([message]).short())
}

/// A `KeyError`'s message is quoted on the span and bare in the log.
fn bare_message(message: &str) -> &str {
    message.trim().trim_matches(['\'', '"'])
}
