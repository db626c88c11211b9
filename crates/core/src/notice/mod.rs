//! Notices: what somebody is told of, when, and in which words.
//!
//! An [`Event`] is something that happened: an error became new, a deploy was flagged. A [`Rule`] says
//! of which events whom to tell by which way. [`Plan`] goes through the events and makes [`Notice`]s:
//! it is the same code for what is sent and for what a rule would have sent over the past week.

mod directory;
mod event;
mod expected;
mod hours;
mod letter;
mod plan;
mod rule;
mod silence;
mod threshold;
mod words;

pub use directory::{Directory, Member, Pace, Wishes};
pub use event::{Event, EventCase, EventKind};
pub use expected::Expected;
pub use hours::{Hours, Spell, Zone};
pub use letter::{headline, one_line, subject, title};
pub use plan::{LISTED, Notice, Plan, Reason, Stream};
pub use rule::{Measure, Measured, MoreThanAService, PassOn, Quiet, Rule, Target};
pub use silence::{LEAST_MINUTES, Overdue, Silence, UNLIKELY, overdue_since, silence_since};
pub use threshold::{Counted, Passed, passed, passes};
