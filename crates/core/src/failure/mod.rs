//! One failure, one occurrence: finding reports of failures and deciding which of them are the same.
//!
//! An SDK reports one exception up to four times as a span event, and once more as a log record; the reports arrive in
//! separate requests, in any order. [`find`] takes them out of a request, [`TraceState`] decides over all that is known
//! of one service's part of a trace, [`PairingState`] pairs log records without a trace with traced failures.
//!
//! Both states are pure functions of the *set* of what they were given: any order and any batching of the same reports
//! ends in the same failures.

mod chunks;
mod clock;
mod compact;
mod decide;
mod find;
mod found;
mod groups;
mod lines;
mod pairing;
mod platform;
mod refused;
mod report;
mod senders;
mod state;
mod uses;

pub use compact::{CountedOnly, MAX_EXCEPTIONS, MAX_REPORT_BYTES};
pub use decide::{Failure, decide};
pub use find::{Limits, ONE_IN, find_in_logs, find_in_metrics, find_in_spans};
pub use found::{EntrySpan, Found, FoundChunk, SAMPLED_ONE_IN, Sampled, SeenSpan};
pub use groups::{InstanceGroups, NO_GROUPS};
pub use lines::FoundLine;
pub use pairing::{PairingChanges, PairingEntry, PairingState};
pub use platform::PlatformEvent;
pub use refused::Refused;
pub use report::{OccurrenceId, Report, ReportFacts, Sent, Source};
pub use state::{BrokenState, Changes, SpanFacts, TraceNews, TraceState};
pub use uses::{FoundCalls, FoundInstance, READINGS};
