//! What the stories share.

use outcrop_testkit::{Postgres, Service};
use serde_json::Value;

/// The service on a fresh database of the shared PostgreSQL.
pub fn service() -> Service {
    Service::new(env!("CARGO_BIN_EXE_outcrop"), Postgres::shared().database())
}

/// What a list of errors says, less what differs from run to run: one line per error, sorted.
pub fn outline(errors: &[Value]) -> Vec<String> {
    let mut lines: Vec<String> = errors
        .iter()
        .map(|error| {
            let uncaught = if error["uncaught"] == true { "uncaught" } else { "caught" };
            let text = |name: &str| error[name].as_str().unwrap_or("—").to_owned();
            let versions =
                error["versions"].as_array().map(|versions| versions.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(","));
            format!(
                "{} {} | {} | {} | {uncaught} {} | {}x {} users {}",
                text("service"),
                text("type"),
                text("title"),
                text("own_frame"),
                text("severity"),
                error["count"],
                error["users"],
                versions.unwrap_or_default()
            )
        })
        .collect();
    lines.sort();
    lines
}
