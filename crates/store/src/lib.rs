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
pub mod ids;
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
pub mod retention;
pub mod sampling;
pub mod scrub_rules;
pub mod service_names;
pub mod settings;
pub mod stands_out;
#[cfg(test)]
mod testing;
pub mod timeline;
mod times;
pub mod traces;
pub mod traffic;
pub mod upkeep;
pub mod uses;
pub mod weights;
mod window;

pub use database::{Database, OpenError};
pub use fault::StoreError;
pub use sqlx::Error as DriverError;
pub use times::{from_utc, hour, to_utc};
pub use uuid::Uuid as TraceNumber;
pub use window::Scope;
