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
pub mod endpoint;
mod entry;
mod find;
mod found;
mod limits;
mod lines;
mod one;
mod pairing;
mod platform;
mod points;
mod refused;
mod report;
mod reports;
mod ruled;
mod senders;
mod span_facts;
mod state;
mod uses;

pub use crate::failure::reports::ONE_IN;
pub use compact::{CountedOnly, MAX_EXCEPTIONS, MAX_REPORT_BYTES};
pub use decide::decide;
pub use entry::{EntrySpan, Sampled};
pub use find::{find_in_logs, find_in_metrics, find_in_spans};
pub use found::{Found, FoundChunk, SAMPLED_ONE_IN, SeenSpan};
pub use limits::Limits;
pub use lines::FoundLine;
pub use one::Failure;
pub use pairing::{PairingChanges, PairingEntry, PairingState};
pub use platform::PlatformEvent;
pub use points::{FoundPoint, Series};
pub use refused::Refused;
pub use report::{OccurrenceId, Report, ReportFacts, Sent, Source};
pub use span_facts::SpanFacts;
pub use state::{BrokenState, Changes, TraceNews, TraceState};
pub use uses::{FoundCalls, FoundInstance, READINGS};
