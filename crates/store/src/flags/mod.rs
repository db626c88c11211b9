//! Flags: what is new, surging or returned, as `outcrop_core::deploy` decides.

pub mod disturbed;
mod events;
mod read;
mod watch;
mod write;

pub(crate) use read::{FLAG_COLUMNS, FLAG_TABLES};
pub use read::{Flag, Said, explain, flags, of_error, said, said_around, standing, unexplained, withdrawn};
pub use watch::Watch;

#[cfg(test)]
mod tests;
