//! What a batch adds to counters, in the transaction of what they count.

pub(crate) mod sample;
pub(crate) mod sampling;
pub(crate) mod tallies;
pub(crate) mod uses;
