//! Arguments of `outcrop logs`.

use clap::{Args, ValueEnum};

use super::{Client, TrafficWindow};

/// Severities, the least first.
#[derive(Clone, Copy, ValueEnum)]
pub enum Severity {
    Trace,
    Debug,
    Info,
    Warn,
    Error,
    Fatal,
}

impl Severity {
    /// As the API calls it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Trace => "trace",
            Self::Debug => "debug",
            Self::Info => "info",
            Self::Warn => "warn",
            Self::Error => "error",
            Self::Fatal => "fatal",
        }
    }
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop logs --service fares --severity warn --since 1h\n  outcrop logs --trace \
        4bf92f3577b34da6a3ce929d0e0e4736\n  \
    outcrop logs --error kobal-tirun --text timeout\n  outcrop logs --where 'berth = 7 and severity >= info'\n  \
    outcrop logs --templates --service fares      what lines have in common, and how often each came\n  \
    outcrop logs --like 0f3a…                     lines of one template, by the hash that --templates and --json show"
)]
pub struct Logs {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Only lines for which a predicate holds: over sender, severity, message, trace, user and attributes.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// Only lines that hold this text, in any case.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Only lines of this severity or above.
    #[arg(long, value_enum)]
    pub severity: Option<Severity>,
    /// Only lines of this trace.
    #[arg(long, value_name = "TRACE_ID")]
    pub trace: Option<String>,
    /// Only lines of traces in which this error occurred.
    #[arg(long, value_name = "REF")]
    pub error: Option<String>,
    /// Only lines of this template.
    #[arg(long, value_name = "TEMPLATE")]
    pub like: Option<String>,
    /// Say what lines have in common and how often each came, rather than each line.
    #[arg(long, conflicts_with_all = ["predicate", "trace", "error", "cursor"])]
    pub templates: bool,
    /// Hold the window against another period: `before` it (where nothing is said), so much earlier
    /// (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD", requires = "templates")]
    pub against: Option<String>,
    /// Lines per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// The page that begins here: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop calls --service gangway --since 3h")]
pub struct Calls {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Hold the window against another period: `before` it (where nothing is said), so much earlier
    /// (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Calls at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop statements --service stowage --since 7d")]
pub struct Statements {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Hold the window against another period: `before` it (where nothing is said), so much earlier
    /// (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Statements at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop instances --service fares --since 1h")]
pub struct Instances {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Hold the window against another period: `before` it, so much earlier (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Instances at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop now --environment production")]
pub struct Now {
    #[command(flatten)]
    pub client: Client,
    /// Only services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
}
