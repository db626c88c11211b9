//! The identity of a failure: over recorded reports, over made-up ones, in any order.

mod failures;
mod ledger;
mod order;
