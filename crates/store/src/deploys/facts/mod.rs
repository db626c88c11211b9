//! What speaks for and against deploys, read for many at once: a list of deploys costs a constant number of statements.

mod asked;
mod counts;
mod read;

pub use asked::Asked;
pub(crate) use read::FlagRow;
pub use read::{Facts, FirstSeen, known_since, read, runs_beside};

#[cfg(test)]
mod tests;
