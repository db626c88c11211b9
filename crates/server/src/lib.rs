//! Outcrop's service: intake, API and background work over one database.
//!
//! [`serve`] runs everything on listeners that are given to it, until a token is cancelled; then it drains.

mod access;
mod answers;
mod api_error;
mod clock;
mod docs;
mod grpc;
mod html;
pub mod intake;
mod jobs;
mod meters;
mod notices;
mod outbound;
mod proxies;
mod receive;
mod routes;
mod serve;
mod settings;
mod source;
mod state;
mod supervision;
mod tls;

pub use access::{MIN_PASSWORD, Secret, hash_password};
pub use answers::key_item;
pub use outbound::Allowed;
pub use routes::openapi;
pub use serve::{Listeners, ServeError, serve};
pub use settings::{Mail, MetricsKey, Settings};
pub use tls::Certificate;
