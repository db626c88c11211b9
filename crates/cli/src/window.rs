//! The window and the predicate that commands ask with.

use clap::Args;

#[derive(Args)]
pub struct Window {
    /// How far back from now to count: 30m, 24h, 7d.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    /// Only this service.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only this version.
    #[arg(long = "in-version", value_name = "V")]
    pub in_version: Option<String>,
    /// Only occurrences that match a predicate, such as 'service = fares and version >= 2.4.0 and uncaught';
    /// docs/reference/language.md describes the language.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
}

/// Which traffic is looked at.
#[derive(Args)]
pub struct TrafficWindow {
    /// How far back from now: 30m, 24h, 7d.
    #[arg(long, value_name = "TIME", default_value = "24h")]
    pub since: String,
    /// Only services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only this version.
    #[arg(long = "in-version", value_name = "V")]
    pub in_version: Option<String>,
}
