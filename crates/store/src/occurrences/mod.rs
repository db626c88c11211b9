//! Occurrences: those of one error, one in full, and what stands out of them.

mod read;
pub mod stands_out;

pub use read::{
    AlsoReported, Choice, Chosen, Full, OccurrenceRow, Position, choose, latest_stack, matching, of_error, one, place,
};
