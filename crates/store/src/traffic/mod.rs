//! Traffic: requests, failures and latency by endpoint, and the requests that are kept by themselves.

mod endpoints;
pub mod fleet;
mod fold;
pub mod groups;
pub mod now;
mod requests;
mod thresholds;
pub mod timeline;
pub mod uses;

pub use endpoints::{Endpoint, Step, course, endpoints};
pub use fold::fold;
pub use requests::{Request, Wanted, requests};
pub use thresholds::{DEFAULT_SLOW_US, SlowBy, set_slow, set_thresholds};
pub(crate) use thresholds::{Thresholds, thresholds};

#[cfg(test)]
mod tests;
