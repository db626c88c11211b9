//! The question language: `count, users of occurrences by type where service = fares over 7d top 10`.
//!
//! [`read`] turns text into a checked [`Question`], whose `Display` writes the text again. The predicate within a
//! question is one of [`crate::query`]. How a question is answered is not this module's business.

mod asked;
mod complete;
mod counted;
mod lines;
pub mod made;
mod read;
#[cfg(test)]
mod tests;
mod words;
mod written;

pub use asked::{
    Against, Column, Group, MAX_GROUPS, MAX_MEASURES, MAX_POINTS, MAX_STEPS, MAX_TOP, Matching, Measure, Order,
    Question, Source, TOP, WINDOW_MS, Window,
};
pub use complete::next_words;
pub use counted::{COUNTED_STEP_MS, Counted, MAX_SPLITS};
pub use lines::{is_template, template_of};
pub use read::read;
pub use words::Place;
pub use written::Parts;
