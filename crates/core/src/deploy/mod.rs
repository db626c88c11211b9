//! What changed after a deploy: errors that are new, surging or back again.
//!
//! [`Detector`] takes what happened minute by minute, in order of time, and says each flag once,
//! from the minute whose data was needed to say it. Requests are the exposure: an error surges when
//! there are more of it than its own past and the requests explain. `docs/explanation/flags.md` has the model,
//! the formulas and what is guaranteed.

mod asked;
mod cdevents;
mod clumps;
mod compare;
mod course;
mod detector;
mod disturbed;
mod doubt;
mod event;
mod group;
mod habits;
mod learning;
mod level;
mod measure;
mod nature;
mod order;
mod place;
mod replay;
mod rise;
mod series;
mod settled;
mod surge;
mod traffic;
mod verdict;
mod versions;

pub use asked::Asked;
pub use cdevents::{Announced, BadCdEvent, announced};
pub use compare::{Change, Scatter, Side, changes};
pub use detector::{Detector, Ended};
pub use disturbed::{Disturbed, Measured};
pub use event::{BadEvent, Event, FlagKind, FlagLine, Minute, UnknownFlag, parse_minute};
pub use order::VersionOrder;
pub use replay::{Corrected, Said, corrected};
pub use rise::{Usual, rise_evidence};
pub use settled::{Exposed, Settled, settled};
pub use verdict::{Harm, Judged, KNOWN_MINUTES, Outcome, VersionFacts, Watched, judge, judge_endpoint, missing};
