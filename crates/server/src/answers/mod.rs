//! Answers: each reads what it needs, decides, and makes the wire type that routes and jobs send.

mod against;
pub(crate) mod asked;
pub(crate) mod close_ups;
pub(crate) mod deploy_answers;
pub mod deploy_check;
pub mod endpoint_changes;
pub(crate) mod error_list;
pub(crate) mod error_order;
pub(crate) mod errors;
pub(super) mod flag_items;
pub(crate) mod headline;
pub(crate) mod history;
pub(crate) mod installation;
mod keys;
mod load;
pub(crate) mod next_steps;
pub(crate) mod now;
pub(crate) mod owners;
pub(super) mod sentences;
pub(crate) mod settled;
pub(crate) mod sheets;
pub(crate) mod slow;
pub(crate) mod tickets;
pub(crate) mod timelines;
pub(crate) mod touches;
pub(crate) mod unknown;
mod watched;
pub(crate) mod why;

pub use keys::key_item;
