//! One report of a failure: an exception event, a log record, a span in error.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::grouping::Grouping;
use crate::stack::Stack;
use crate::telemetry::names::Identity;
use crate::telemetry::{SpanId, TraceId};
use crate::{Digest, Timestamp};

/// An occurrence's id: 48 bits of event time in milliseconds, then 80 bits of a hash of the report's content. It sorts
/// by time, tells its partition, and is the same whenever the same report is sent again.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct OccurrenceId(pub [u8; 16]);

impl OccurrenceId {
    /// Makes the id of a report's content at a time.
    #[must_use]
    pub fn new(at: Timestamp, content: Digest) -> Self {
        let mut id = content.0;
        id[..6].copy_from_slice(&millis_48(at));
        Self(id)
    }

    /// The smallest id of a time: where a range of ids begins.
    #[must_use]
    pub fn first_at(at: Timestamp) -> Self {
        let mut id = [0; 16];
        id[..6].copy_from_slice(&millis_48(at));
        Self(id)
    }

    /// The event time, in whole milliseconds.
    #[must_use]
    pub fn at(self) -> Timestamp {
        let millis = self.0[..6].iter().fold(0, |sum: i64, byte| sum << 8 | i64::from(*byte));
        Timestamp::from_millis(millis)
    }
}

fn millis_48(at: Timestamp) -> [u8; 6] {
    let bytes = at.millis().clamp(0, (1 << 48) - 1).to_be_bytes();
    [bytes[2], bytes[3], bytes[4], bytes[5], bytes[6], bytes[7]]
}

impl fmt::Debug for OccurrenceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        Digest(self.0).fmt(f)
    }
}

impl fmt::Display for OccurrenceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        Digest(self.0).fmt(f)
    }
}

/// Where a report came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Source {
    /// An `exception` event of a span.
    SpanEvent,
    /// A log record with `exception.*` attributes, or with a stack in its body.
    LogRecord,
    /// A log record at ERROR or above with neither: its message is all that is known.
    LogMessage,
    /// A span that ended in error and tells of no exception.
    SpanStatus,
}

impl Source {
    /// Whether it only says that something failed, not what was thrown.
    #[must_use]
    pub const fn is_bare(self) -> bool {
        matches!(self, Self::LogMessage | Self::SpanStatus)
    }
}

/// What is remembered of a report to decide which failure it belongs to: no text, some 60 bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportFacts {
    /// The report's id; the occurrence's, where this report stands for the failure.
    pub id: OccurrenceId,
    /// The span it was reported on.
    pub span: Option<SpanId>,
    /// Event time.
    pub at: Timestamp,
    /// Where it came from.
    pub source: Source,
    /// The place that wrote it: hash of the logger, code location and body template. Reports of one place on one span
    /// are as many failures.
    pub place: u64,
    /// The exception itself: hash of its innermost frame and message.
    pub exception: u64,
    /// The key under which failures of this instance and exception are paired.
    pub pairing: Digest,
    /// Hash of the message alone.
    pub message: u64,
    /// Hashes of what it holds: its causes, and the messages wrapped in its message.
    pub holds: Vec<u64>,
    /// How many frames its stack has.
    pub frames: u16,
    /// Whether an own frame is among them.
    pub has_own_frame: bool,
    /// Whether it was recorded as its span ended, as instrumentation does for what escapes.
    pub at_span_end: bool,
    /// Whether its trace is not sampled, so that no span will ever tell how it hangs together.
    pub is_unsampled: bool,
    /// Whether the report itself says that the exception ended something.
    pub says_uncaught: bool,
    /// OTLP severity number.
    pub severity: i16,
    /// Hash of the user; 0 where none is given.
    pub user: u64,
}

/// The record a report was found in, for showing exactly what was sent.
#[derive(Clone, Debug)]
pub enum Sent {
    /// A span, whole.
    Span(Arc<crate::telemetry::Span>),
    /// A log record, whole.
    Log(Arc<crate::telemetry::LogRecord>),
}

/// A report of a failure with all that becomes an occurrence.
#[derive(Clone, Debug)]
pub struct Report {
    /// What decides which failure it belongs to.
    pub facts: ReportFacts,
    /// Who sent it.
    pub identity: Arc<Identity>,
    /// The trace, where there is one.
    pub trace_id: Option<TraceId>,
    /// The exception's type.
    pub type_name: String,
    /// The exception's message.
    pub message: String,
    /// Key, title and own frame.
    pub grouping: Grouping,
    /// Frames, where the runtime is known.
    pub stack: Option<Arc<Stack<'static>>>,
    /// The stack text, scrubbed; empty where none was sent.
    pub stacktrace: String,
    /// What varies from case to case: the record's attributes, scrubbed.
    pub attributes: serde_json::Map<String, serde_json::Value>,
    /// The resource, scrubbed.
    pub resource: Arc<crate::telemetry::Resource>,
    /// The scope, scrubbed.
    pub scope: Arc<crate::telemetry::Scope>,
    /// The record it was found in, scrubbed.
    pub sent: Sent,
    /// How far its sender's clock was ahead, in milliseconds; its time was moved back by so much.
    pub clock_ahead_ms: i64,
    /// The rule that drops it, where people's rules do: a failure that it stands for is not counted.
    pub dropped_by: Option<i64>,
}

impl Report {
    /// How much it tells, to compare reports of one error: attributes and frames, a stack and a user above all.
    #[must_use]
    pub fn fullness(&self) -> u32 {
        let of_stack = self.stack.as_ref().map_or(0, |stack| {
            100 + u32::try_from(stack.frame_count()).unwrap_or(u32::MAX / 2)
        });
        let attributes = u32::try_from(self.attributes.len()).unwrap_or(u32::MAX / 2);
        of_stack
            .saturating_add(attributes)
            .saturating_add(if self.facts.user == 0 { 0 } else { 10 })
    }
}
