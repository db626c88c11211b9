//! Traces: read whole, kept or let go, and where their failures began.

mod chunks;
mod drain;
mod hot;
mod origins;
mod read;

pub(crate) use chunks::pack;
pub use drain::{drain, drop_past_cap};
pub use hot::Marks;
pub(crate) use hot::{SLOT, hot_name, slot};
pub use origins::{Tie, find_origins, main_origins, origins, ties};
pub use read::{InTrace, MAX_SPANS, StoredTrace, occurrences, read, read_all};

#[cfg(test)]
mod tests;
