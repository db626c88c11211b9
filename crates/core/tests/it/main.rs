//! The identity of a failure: over recorded reports, over made-up ones, in any order.

#![expect(clippy::unwrap_used, reason = "helpers of tests fail loudly")]

mod app_logs;
mod bounds;
mod deploys;
mod dice;
mod failures;
mod grouping;
mod kinds;
mod ledger;
mod lines;
mod measured;
mod moved;
mod order;
mod ready;
mod traces;
mod uncounted;
mod verdicts;
