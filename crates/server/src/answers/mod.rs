//! Answers: each reads what it needs, decides, and makes the wire type that routes and jobs send.

pub mod deploy_check;
pub mod endpoint_changes;
pub(crate) mod settled;
