//! Outcrop's storage: PostgreSQL through SQLx. SQL stands here and nowhere else.
//!
//! [`Database`] opens and migrates; [`writing::Writer`] commits batches of requests. [`errors`] holds what is counted
//! of each error, [`board`] keeps what lists show of them; [`asking`] finds what predicates hold for, [`questions`] counts it; [`occurrences`], [`traffic`], [`traces`]
//! and [`logs`] read what was written; [`deploys`] and [`flags`] say what came with which version; [`notices`] holds what people are told; [`grouping`] changes
//! which causes are one error. [`close_ups`] take the next occurrences in full. [`people`] holds members, keys and what they say; [`upkeep`] removes what is past its
//! time. At the foot stand [`ids`], [`Scope`] and [`retention`].

#![warn(missing_docs)]
#![expect(
    clippy::must_use_candidate,
    reason = "boxed functions return futures, which must be used anyhow"
)]

pub mod asking;
pub mod board;
pub mod close_ups;
pub mod database;
mod deployed;
pub mod deploys;
pub mod errors;
pub mod exporting;
pub mod find;
pub mod flags;
pub mod grouping;
pub mod ids;
pub mod logs;
pub mod metrics;
pub mod notices;
pub mod occurrences;
pub mod people;
pub mod questions;
mod remembered;
pub mod retention;
pub mod sampling;
mod stacks;
#[cfg(test)]
mod testing;
mod times;
pub mod traces;
pub mod traffic;
pub mod upkeep;
mod window;
pub mod writing;

/// Boxes the future of an asynchronous function.
///
/// The compiler generates the code of an `async fn` in the crate that polls it. Without the box, nearly
/// all code of this crate would be compiled with the server, again after each change there.
use async_recursion::async_recursion as boxed;
pub use database::{Database, OpenError, StoreError};
pub use remembered::Remembered;
pub use sqlx::Error as DriverError;
pub use times::{from_utc, hour, to_utc};
pub use uuid::Uuid as TraceNumber;
pub use window::Scope;
