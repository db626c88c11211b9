//! Deploys: as they were announced and seen, what they brought, and what speaks for and against them.

pub mod answers;
pub mod changes;
pub mod comparison;
pub mod facts;
pub mod markers;
pub(super) mod records;

pub use records::{CHARGED, Deploy, NewDeploy, list, of_version, record};
