//! Writing what came in: [`Writer`] commits batches of [`Submission`]s, each in one transaction.
//!
//! `batch` resolves names, `states` decides what is one failure, `apply` stores rows, `counters` count them, `spans` and
//! `lines` store traces and log lines. `dictionary` interns what repeats, before the batch's own transaction.

mod apply;
mod batch;
mod bodies;
mod counters;
pub(crate) mod dictionary;
pub mod limits;
mod lines;
pub(crate) mod points;
mod receipts;
mod spans;
mod states;
mod submission;
#[cfg(test)]
mod tests;
mod work;
mod writer;

pub use bodies::BODIES_PER_MINUTE;
pub use submission::{Outcome, Renderer, Submission};
pub use writer::Writer;
