//! Notices: rules, ways, what happened, and the outbox of what is sent to whom.

pub mod counts;
pub mod episodes;
pub mod events;
pub mod outbox;
pub mod plan;
pub mod rules;
pub mod silence;
pub mod sources;
pub mod ways;
pub mod wishes;

#[cfg(test)]
mod testing;
