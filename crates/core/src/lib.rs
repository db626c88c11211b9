//! Outcrop's computation: telemetry in, errors out, with no I/O, no async, no clock and no global state.
//!
//! The way of one request's data through this crate:
//! [`telemetry`] holds what was sent, [`scrub`] removes secrets from it, [`failure`] finds the reports of failures,
//! [`stack`] turns their stack texts into frames, [`grouping`] gives each a key, and [`failure::TraceState`] decides
//! which reports are one and the same failure.

#![warn(missing_docs)]

mod digest;
mod distinct;
mod failure_kind;
mod least;
mod time;

pub mod app_log;
pub mod attention;
pub mod close_up;
pub mod completeness;
pub mod deploy;
pub mod failure;
mod fitted;
pub mod grouping;
pub mod installation;
pub mod latency;
pub mod metric;
pub mod notice;
pub mod ownership;
pub mod query;
pub mod question;
pub mod reference;
pub mod scrub;
pub mod severity;
pub mod source_link;
pub mod stack;
pub mod stands_out;
pub mod telemetry;
pub mod template;
pub mod text;
pub mod touching;
pub mod trace;
pub mod unwell;

pub use digest::{Digest, Hasher};
pub use distinct::Distinct;
pub use failure_kind::{failure_kind, failure_kinds};
pub use fitted::fitted;
pub use reference::Reference;
pub use time::{Timestamp, WEEKDAYS};
