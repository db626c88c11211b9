//! Skerry Line, a made-up ferry operator: a simulated fleet of eight services that speaks OTLP like any other sender.
//!
//! [`Fleet::history`] sends a week of it, [`Fleet::live`] goes on in the present. The same seed and
//! the same present make the same telemetry. There is no special way into the service: everything
//! goes through its intake with a sender key.

mod case;
mod faults;
mod fleet;
mod inside;
mod lines;
mod metrics;
mod page;
mod post;
mod send;
mod stacks;
mod telemetry;
mod told;
mod tracker;
mod world;

pub use fleet::{Fleet, Progress};
pub use post::{Letter, Post};
pub use send::SendError;
pub use tracker::{TRACKER_SECRET, tracker};
pub use world::{BAD_DEPLOY, CANARY, RELAY_MOVED, ROLLBACK, SETTLED};
