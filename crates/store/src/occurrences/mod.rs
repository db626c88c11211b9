//! Occurrences: those of one error, one in full, and what stands out of them.

mod read;
pub mod stands_out;

pub use read::*;
