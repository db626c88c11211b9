//! The database itself: opened and migrated, rows copied in, partitions, locks, and telling other instances.

pub(super) mod copy;
mod fault;
pub mod live;
pub(crate) mod locks;
mod make;
pub(crate) mod named;
mod open;
pub(super) mod partitions;
mod pools;
mod promptly;
pub mod readers;
mod visible;

pub use fault::StoreError;
pub use make::{MakeError, make_database, unmake_database};
pub use open::{Database, OpenError};
pub(crate) use visible::tables;
