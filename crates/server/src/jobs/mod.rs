//! The jobs: upkeep, flags, folding, learning, rules.

mod between;
mod rounds;

pub(crate) use between::{listen, tell};
pub(crate) use rounds::{Service, start};
