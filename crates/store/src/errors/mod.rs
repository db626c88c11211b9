//! Errors: what is counted of each, who has it, whom it reaches, and how much it weighs.
//!
//! Nothing here knows of predicates: [`crate::asking`] narrows what is read here.

mod acting;
mod commits;
pub mod handling;
mod kept;
pub(crate) mod labels;
mod latest;
pub mod reach;
pub(crate) mod read;
pub mod since_settled;
mod summary;
pub mod tickets;
pub mod weights;

pub use latest::{Latest, Sighting, latest, sightings};
pub use read::traffic_of;
pub use summary::Summary;
