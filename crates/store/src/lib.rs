//! Outcrop's storage: PostgreSQL through SQLx. SQL stands here and nowhere else.
//!
//! [`Database`] opens and migrates; [`intake::Writer`] commits batches of requests; [`errors`] and [`occurrences`] read
//! them back; [`people`] holds members, their tokens and sessions, [`keys`] the sender keys;
//! [`upkeep`] removes what is past its time.

#![warn(missing_docs)]

pub mod attributes;
mod causes;
pub mod comparison;
mod copy;
mod database;
pub mod deploy_changes;
pub mod deploy_facts;
pub mod deploys;
pub mod disturbed;
pub mod drops;
pub mod errors;
mod fault;
pub mod find;
pub mod groups;
pub mod handling;
pub mod installation;
pub mod intake;
mod interned;
pub mod keys;
pub mod limits;
pub mod live;
pub mod logs;
pub mod markers;
pub mod moved;
mod names;
pub mod now;
pub mod occurrences;
mod partitions;
pub mod parts;
pub mod people;
mod predicate;
mod promptly;
pub mod reach;
pub mod regrouping;
pub mod sampling;
pub mod scrub_rules;
pub mod service_names;
pub mod settings;
pub mod stands_out;
mod steps;
#[cfg(test)]
mod testing;
pub mod timeline;
pub mod traces;
pub mod traffic;
pub mod upkeep;
pub mod uses;
pub mod weights;

pub use database::{Database, OpenError};
pub use fault::StoreError;
pub use sqlx::Error as DriverError;
pub use uuid::Uuid as TraceNumber;

use chrono::{DateTime, Utc};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::{Digest, Timestamp};
use uuid::Uuid;

pub(crate) const fn uuid(digest: Digest) -> Uuid {
    Uuid::from_bytes(digest.0)
}

pub(crate) const fn id_uuid(id: OccurrenceId) -> Uuid {
    Uuid::from_bytes(id.0)
}

/// A time as the database's library has it, to the microsecond.
#[must_use]
pub fn to_utc(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.micros()).unwrap_or_default()
}

/// A time as the core has it.
#[must_use]
pub fn from_utc(at: DateTime<Utc>) -> Timestamp {
    Timestamp(at.timestamp_micros().saturating_mul(1_000))
}

/// A 64-bit hash in the form PostgreSQL has: signed. 0 means none.
pub(crate) fn signed(hash: u64) -> Option<i64> {
    (hash != 0).then(|| i64::from_ne_bytes(hash.to_ne_bytes()))
}
