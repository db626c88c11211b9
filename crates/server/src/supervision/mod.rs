//! Work that nobody asks for, the writers and the jobs, under supervision. [`Supervisor`] runs it, [`Health`] knows how it
//! is.

mod health;
mod supervise;

pub(crate) use health::{Health, JobStanding, Kind, Trouble, cause};
pub(crate) use supervise::{Supervisor, Waiting};
