//! Work that nobody asks for: the writers and the jobs, each under a supervisor. [`Supervisor`]
//! runs them, [`Health`] knows how they are.

mod health;
pub(crate) mod rounds;
mod supervise;

pub(crate) use health::{Health, Kind, Trouble, cause};
pub(crate) use supervise::{Supervisor, Waiting};
