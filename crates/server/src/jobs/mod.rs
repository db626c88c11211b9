//! The jobs: upkeep, flags, folding, learning, rules.

mod rounds;

pub(crate) use rounds::{Service, listen, start, tell};
