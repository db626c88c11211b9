//! What a batch adds to counters, in the transaction of what they count.

pub(crate) mod sample;
pub(crate) mod sampling;
pub(crate) mod tallies;
mod traffic;
pub(crate) mod uses;
