//! Events of a log, and the exceptions they carry.

use crate::Timestamp;
use crate::app_log::Fields;

/// An event of a log.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Event {
    /// Its first line, counted from 1.
    pub first_line: u64,
    /// Its last line; lines of other processes may stand between.
    pub last_line: u64,
    /// The process that wrote it, as the wrapping names it; empty where it does not.
    pub process: String,
    /// The service, where the event names it; empty otherwise.
    pub service: String,
    /// When, where the log says so.
    pub time: Option<Timestamp>,
    /// OTLP severity number; 0 where the log does not say.
    pub severity: u8,
    /// What was logged, less time and level.
    pub message: String,
    /// The exception it carries.
    pub exception: Option<Exception>,
    /// The trace it belongs to and the span, in hex, where it names them; the span may be empty.
    pub trace: Option<(String, String)>,
    /// What it says beside.
    pub fields: Fields,
}

/// An exception found in a log.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Exception {
    /// Its type; empty where the log does not say.
    pub type_name: String,
    /// Its message.
    pub message: String,
    /// The text of its stack.
    pub stacktrace: String,
}
