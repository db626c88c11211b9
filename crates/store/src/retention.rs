//! How long each kind of data is kept, and how much room it may take.

/// The longest that occurrences, payloads and minute counts are kept, in days; telemetry of older events is not taken.
pub const RETENTION_DAYS: i64 = 30;

/// How long log lines are kept where nothing else is said, in days: long enough for a weekend and
/// the look back from Monday.
pub const LOG_DAYS: i64 = 7;

/// How long counts by hour and day are kept, in days: the longest window that is asked for, and the look back from it.
pub const COUNT_DAYS: i64 = 400;

/// How long each kind of data is kept, and how much room it may take. All instances on one database
/// must be told the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Policy {
    /// Days for occurrences, their bodies and counts by the minute, 1 to [`RETENTION_DAYS`].
    pub occurrence_days: i64,
    /// Days for log lines, 1 to [`RETENTION_DAYS`].
    pub log_days: i64,
    /// Days for traces that are kept, 1 to [`RETENTION_DAYS`].
    pub trace_days: i64,
    /// Days for counts by hour and day, [`RETENTION_DAYS`] to [`COUNT_DAYS`].
    pub count_days: i64,
    /// Days for metrics, 1 to [`RETENTION_DAYS`].
    pub metric_days: i64,
    /// Bytes for spans of the last 45 minutes; past them the oldest quarters of an hour go.
    pub hot_bytes: i64,
    /// Bytes for traces that are kept; past them the oldest days go, then nothing more is kept.
    pub trace_bytes: Option<i64>,
    /// Bytes for log lines, likewise.
    pub log_bytes: Option<i64>,
    /// Bytes for bodies of occurrences, likewise.
    pub body_bytes: Option<i64>,
    /// Bytes for the database as a whole; past them nothing is taken.
    pub database_bytes: Option<i64>,
    /// Bytes that must stay free on the database's disk, where it is on this host; below them nothing is taken.
    pub min_free_bytes: i64,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            occurrence_days: RETENTION_DAYS,
            log_days: LOG_DAYS,
            trace_days: RETENTION_DAYS,
            count_days: COUNT_DAYS,
            metric_days: RETENTION_DAYS,
            // 45 minutes of 3,000 spans a second, at the 1 kB a span that small chunks take.
            hot_bytes: 8 << 30,
            trace_bytes: None,
            log_bytes: None,
            body_bytes: None,
            database_bytes: None,
            // What PostgreSQL writes ahead by default before it tidies up (`max_wal_size`).
            min_free_bytes: 1 << 30,
        }
    }
}

/// Days after its last use when a name makes room: as long as anything is kept that refers to it,
/// and two days of slack, since a writer notes the use of a name once a day.
pub(crate) const KEPT_DAYS: i64 = RETENTION_DAYS + 2;
