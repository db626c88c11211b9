//! Finds failures, spans and requests in what was received.

use std::collections::HashMap;
use std::sync::Arc;

use super::chunks::Chunks;
use super::clock::Clocks;
use super::compact::{Compact, MAX_EXCEPTIONS};
use super::found::{Found, SAMPLED_ONE_IN, SeenSpan};
use super::lines::FoundLine;
use super::report::{Report, Source};
use super::senders::{Sender, Senders};
use super::uses::{Calls, Instances};
use super::{platform, uses};
use crate::failure::endpoint;
use crate::failure::entry::{EntrySpan, Sampled};
use crate::failure::limits::Limits;
use crate::failure::reports::{ERROR, Failing, Parts, SentBy, log_report, took};
use crate::failure::span_facts::{SpanFacts, carries_exception, is_exception_event, tells_of_failure};
use crate::telemetry::groups::InstanceGroups;
use crate::telemetry::{
    Attributes, LogRecord, Reading, Resource, Scope, ScopeRecords, Span, SpanEvent, SpanId, SpanKind, TraceId, Value,
    facts, names, sampling, tidy,
};
use crate::{Digest, Timestamp, scrub};

fn is_sampled(span: &Span) -> bool {
    let of_ids = [span.trace_id.0.as_slice(), &span.span_id.0.to_be_bytes()].concat();
    Digest::of_bytes(&of_ids).short().is_multiple_of(SAMPLED_ONE_IN.into())
}

/// Finds failures and requests in spans. Secrets are removed from all that is kept.
#[must_use]
pub fn find_in_spans(groups: Vec<ScopeRecords<Span>>, limits: Limits<'_>) -> Found {
    let mut senders = Senders::default();
    let clocks = clocks_of(&groups, &mut senders, limits, |span| span.end.or(span.start));
    let mut finder = SpanFinder::new(&groups, limits);
    for group in groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        let scope = clean_scope(&group.scope, limits.scrubbing.of(&sender.identity.service));
        let from = SentBy {
            sender: &sender,
            scope: &scope,
            clock: clocks.of(sender.instance),
        };
        for span in group.records {
            finder.take(span, from);
        }
    }
    Found {
        clocks_ahead: senders.ahead(&clocks),
        ..finder.finish()
    }
}

/// The clocks of all instances that records are of, by the times of these.
fn clocks_of<T>(
    groups: &[ScopeRecords<T>],
    senders: &mut Senders,
    limits: Limits<'_>,
    time: impl Fn(&T) -> Option<Timestamp>,
) -> Clocks {
    let mut clocks = Clocks::new(limits);
    for group in groups {
        let sender = senders.of(&group.resource, limits.scrubbing);
        clocks.see(sender.instance, group.records.iter().filter_map(&time));
    }
    clocks
}

/// Takes the spans of a request one by one.
struct SpanFinder<'l> {
    limits: Limits<'l>,
    /// What entry spans say of requests whose inner spans may fail.
    entries: RequestAttributes,
    touched: HashMap<(TraceId, SpanId), &'static str>,
    chunks: Chunks,
    compact: Compact,
    calls: Calls,
    instances: Instances,
    found: Found,
}

impl<'l> SpanFinder<'l> {
    fn new(groups: &[ScopeRecords<Span>], limits: Limits<'l>) -> Self {
        Self {
            limits,
            entries: entry_attributes(groups, limits.scrubbing),
            touched: touched(groups),
            chunks: Chunks::default(),
            compact: Compact::default(),
            calls: Calls::default(),
            instances: Instances::default(),
            found: Found::default(),
        }
    }

    fn take(&mut self, mut span: Span, from: SentBy<'_>) {
        let SentBy { sender, clock, .. } = from;
        let start = clock.time(span.start.or(span.end));
        if start < self.limits.oldest {
            self.found
                .refused
                .add(1, || "spans older than the retention are not taken".to_owned());
            return;
        }
        let bounds = (start, clock.time(span.end.or(span.start)).max(start));
        let user = self
            .limits
            .scrubbing
            .addresses
            .user_hash(names::user(&span.attributes).as_deref());
        if tidy::span(&mut span) {
            self.found.refused.warn(tidy::CUT_SPAN);
        }
        self.limits.scrubbing.of(&sender.identity.service).span(&mut span);
        let surplus = surplus_exceptions(&mut span);
        let entry = names::is_entry(&span).then(|| entry_span(&span, bounds, sender, self.limits.groups));
        let facts = SpanFacts {
            id: span.span_id,
            parent: span.parent_id,
            start,
            is_error: span.is_error || entry.as_ref().is_some_and(|entry| entry.failed),
            is_call: matches!(span.kind, SpanKind::Client | SpanKind::Producer),
            user,
            endpoint: None,
        };
        self.calls.add(&sender.identity, &span, bounds, facts.is_error);
        self.instances
            .add(&sender.identity, &sender.resource, start, entry.as_ref());
        self.found.spans.push(SeenSpan {
            identity: sender.identity.clone(),
            trace_id: span.trace_id,
            facts: facts.clone(),
            entry: entry.clone(),
        });
        if !tells_of_failure(&span) {
            self.chunks.add(from, span, &facts, entry.as_ref(), bounds);
            return;
        }
        self.chunks.add(from, span.clone(), &facts, entry.as_ref(), bounds);
        let place = (span.trace_id, span.span_id);
        let failing = Failing {
            request: span.parent_id.and_then(|_| self.entries.get(&place)),
            touches: self.touched.get(&place).copied(),
            span: &Arc::new(span),
            from,
            user,
            addresses: &self.limits.scrubbing.addresses,
            bounds,
            is_crowded: !surplus.is_empty(),
        };
        failing.report(surplus, &mut self.compact, &mut self.found);
    }

    fn finish(self) -> Found {
        Found {
            counted_only: self.compact.finish(),
            chunks: self.chunks.finish(),
            calls: self.calls.finish(),
            instances: self.instances.finish(),
            ..self.found
        }
    }
}

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

/// Finds failures in log records, and takes down every record. Secrets are removed from all that is kept.
#[must_use]
pub fn find_in_logs(groups: Vec<ScopeRecords<LogRecord>>, limits: Limits<'_>) -> Found {
    let mut found = Found::default();
    let mut senders = Senders::default();
    let clocks = clocks_of(&groups, &mut senders, limits, |record| record.time.or(record.observed));
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
            let event = platform::event(&record, &sender.resource, at);
            found
                .platform_events
                .extend(event.map(|event| (sender.identity.clone(), event)));
            found
                .lines
                .push(FoundLine::new(&record, &sender.identity, &sender.resource, scope, at));
            found.reports.extend(failure_in(
                record,
                SentBy {
                    sender: &sender,
                    scope,
                    clock,
                },
                user,
            ));
        }
        if traced > 0 {
            found.traced_lines.push((sender.identity.clone(), traced, unsampled));
        }
    }
    found.clocks_ahead = senders.ahead(&clocks);
    found.instances = instances.finish();
    found
}

/// The failure that a log record tells of: an exception it carries or holds in its text, or a line logged as an error.
fn failure_in(record: LogRecord, from: SentBy<'_>, user: u64) -> Option<Report> {
    let carries = carries_exception(&record.attributes);
    if !carries && (record.severity < ERROR || record.body == Value::Empty) {
        return None;
    }
    let record = Arc::new(record);
    let body = record.body.to_text();
    let (parts, source) = if carries {
        (Parts::of(&record.attributes), Source::LogRecord)
    } else if let Some(exception) = in_body(&record.body, &body) {
        (Parts::in_text(exception), Source::LogRecord)
    } else if body.trim().is_empty() {
        return None;
    } else {
        (Parts::message(&body), Source::LogMessage)
    };
    let mut report = log_report(&record, &parts, from, user);
    report.facts.source = source;
    Some(report)
}

/// Takes the points of metrics, and the load of instances out of them.
#[must_use]
pub fn find_in_metrics(groups: Vec<ScopeRecords<Reading>>, limits: Limits<'_>) -> Found {
    let mut senders = Senders::default();
    let of = |resource: &Arc<Resource>| {
        let sender = senders.of(resource, limits.scrubbing);
        (sender.identity.clone(), sender.resource.clone())
    };
    let (instances, points) = uses::readings(groups, of, limits);
    Found {
        instances,
        points,
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
        // Whatever a sender says of it by this name, it is what was found.
        attributes.0.retain(|(name, _)| name != facts::FAILED);
        attributes.0.push((facts::FAILED.to_owned(), Value::Bool(failed)));
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

type RequestAttributes = HashMap<(TraceId, SpanId), Arc<Attributes>>;

/// For each span with an exception, what its request's entry span says, where both came in one batch.
fn entry_attributes(groups: &[ScopeRecords<Span>], scrubbing: &scrub::Scrubbing) -> RequestAttributes {
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
fn touched(groups: &[ScopeRecords<Span>]) -> HashMap<(TraceId, SpanId), &'static str> {
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
