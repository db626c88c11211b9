//! Application logs: events out of lines, and the exceptions in them.
//!
//! A [`Finder`] takes a log line by line. Lines of several processes may stand between each other, in the wrapping of a
//! container runtime, a process manager or syslog. An event begins with a line that has a time or a
//! level in front, or that is data (JSON, `key=value`); all other lines go on with the event of
//! their process. An exception is found where lines stand that only stand in stack traces.

mod dying;
mod event;
mod fields;
mod finder;
mod header;
mod structured;
mod trace;
mod wrap;

pub use finder::{Finder, exception_in};

pub use dying::died_of;
pub use event::{Event, Exception};

pub use fields::{Fields, MAX_FIELDS};
