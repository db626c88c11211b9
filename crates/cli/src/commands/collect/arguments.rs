//! Arguments of `outcrop collect`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop collect /var/log/fares/*.log --service fares --follow\n  outcrop collect \
        app.log --dry-run\n  \
    journalctl -u fares -o export -f | outcrop collect - --service fares\n\n\
    Plain lines of any logger, JSON lines, key=value pairs, container runtimes' files, the lines of several processes \
    in one file, the\n\
    journal's export. A file is read on from where it was left, also after it was rotated; positions advance once \
    what was found is\n\
    stored. Without --service: what a line names, else its process, else the file's name. The sender key is read from \
    OUTCROP_KEY."
)]
pub struct Collect {
    /// Files; - reads standard input.
    #[arg(value_name = "FILE", required = true)]
    pub files: Vec<PathBuf>,
    /// Where the service takes OTLP/HTTP.
    #[arg(
        long,
        env = "OUTCROP_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:8471"
    )]
    pub url: String,
    /// Sender key; set the variable instead, so that other users of the machine cannot read it.
    #[arg(long, env = "OUTCROP_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// The service that wrote the logs.
    #[arg(long, env = "OUTCROP_SERVICE", value_name = "S")]
    pub service: Option<String>,
    /// The environment it ran in.
    #[arg(long, env = "OUTCROP_ENVIRONMENT", value_name = "E")]
    pub environment: Option<String>,
    /// The version that ran.
    #[arg(long = "in-version", env = "OUTCROP_VERSION", value_name = "V")]
    pub in_version: Option<String>,
    /// Follow the files as they are written, until stopped.
    #[arg(long)]
    pub follow: bool,
    /// Which lines are sent.
    #[arg(long, value_enum, default_value = "failures")]
    pub lines: LinesArg,
    /// Where positions are kept [default: `$XDG_STATE_HOME/outcrop/collect.json`].
    #[arg(long, env = "OUTCROP_COLLECT_STATE", value_name = "FILE")]
    pub state: Option<PathBuf>,
    /// Show what would be found, without sending or remembering anything.
    #[arg(long)]
    pub dry_run: bool,
    /// Print one JSON document, with --dry-run.
    #[arg(long, requires = "dry_run")]
    pub json: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LinesArg {
    /// Failures alone.
    Failures,
    /// Failures and up to twenty events before each.
    Around,
    /// All.
    All,
}
