//! For tests and benchmarks only: a private PostgreSQL on loopback, the service's real binary, a client for it, and
//! request bodies that real SDKs sent.

mod browser;
pub mod fleet;
pub mod pairs;
mod planting;
mod postgres;
pub mod proxy;
mod recorded;
pub mod refactoring;
mod service;
pub mod survival;

pub use browser::Browser;
pub use planting::{Planted, planted};
pub use postgres::{Durability, Postgres};
pub use recorded::{
    Body, hostile, hostile_cases, labelled_logs, labelled_stacks, labelled_versions, newest, recorded, restamped,
};
pub use service::{PASSWORD, Running, Service};
