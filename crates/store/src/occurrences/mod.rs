//! Occurrences: those of one error, one in full, and what stands out of them.

mod list;
mod read;
pub mod stands_out;

pub use list::{COUNTED, Wanted, count, is_column, of_error};
pub use read::{AlsoReported, Choice, Chosen, Full, OccurrenceRow, Position, choose, latest_stack, one, place};
