use std::collections::BTreeMap;
use std::path::PathBuf;

/// What the service is told from outside. Defaults are those of the command line.
#[derive(Clone, Debug)]
pub struct Settings {
    /// Where the database is.
    pub database_url: String,
    /// Largest body taken as sent, in bytes.
    pub max_body_bytes: usize,
    /// Largest body taken after inflating, in bytes.
    pub max_inflated_bytes: usize,
    /// Bytes of requests held at once, from reading to commit; more are answered 503.
    pub budget_bytes: usize,
    /// Room for spans of the last 45 minutes, in bytes of the database; past it the oldest go first.
    pub hot_bytes: i64,
    /// Days for which log lines are kept, 1 to 30.
    pub log_days: i64,
    /// Occurrences of one error and version in a minute whose exact data is kept before it is sampled, 1 to 10,000.
    pub bodies_per_minute: u32,
    /// Local Git checkouts by service, to show lines of source from.
    pub checkouts: BTreeMap<String, PathBuf>,
}

impl Settings {
    /// Settings for a database, all else at its default.
    #[must_use]
    pub fn new(database_url: impl Into<String>) -> Self {
        Self {
            database_url: database_url.into(),
            // Collectors batch some thousand records; the largest seen from an SDK was 2 MiB.
            max_body_bytes: 16 << 20,
            // OTLP deflates to a fifth; four times the body leaves room without inviting bombs.
            max_inflated_bytes: 64 << 20,
            budget_bytes: 256 << 20,
            // 45 minutes of 3,000 spans a second, at the 1 kB a span that small chunks take.
            hot_bytes: 8 << 30,
            log_days: outcrop_store::upkeep::LOG_DAYS,
            bodies_per_minute: outcrop_store::intake::BODIES_PER_MINUTE,
            checkouts: BTreeMap::new(),
        }
    }
}
