//! Arguments of change markers.

use chrono::{DateTime, Utc};
use clap::{Args, Subcommand, ValueEnum};

use super::Client;

#[derive(Subcommand)]
pub enum MarkerCommand {
    /// Mark a change that is no deploy.
    #[command(
        after_help = "Examples:\n  outcrop marker record 'database upgraded to 17' --kind database --environment \
            production\n  outcrop marker record 'season switched to winter' --kind configuration --service fares"
    )]
    Record(RecordMarker),
    /// List marked changes, each with what happened after it.
    List(ListMarkers),
    /// Take a marker away.
    Remove {
        /// Its number, as `outcrop marker list` shows it.
        #[arg(value_name = "N")]
        id: i32,
        #[command(flatten)]
        client: Client,
    },
}

/// What changed.
#[derive(Clone, Copy, ValueEnum)]
pub enum MarkerKind {
    Database,
    Configuration,
    Provisioning,
    Other,
}

impl MarkerKind {
    /// As the API calls it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Database => "database",
            Self::Configuration => "configuration",
            Self::Provisioning => "provisioning",
            Self::Other => "other",
        }
    }
}

#[derive(Args)]
pub struct RecordMarker {
    /// What changed, in a few words.
    #[arg(value_name = "TITLE")]
    pub title: String,
    /// What kind of change.
    #[arg(long, value_enum, default_value = "other")]
    pub kind: MarkerKind,
    /// When it began; now where not given.
    #[arg(long, value_name = "TIME")]
    pub at: Option<DateTime<Utc>>,
    /// When it was over.
    #[arg(long, value_name = "TIME")]
    pub ended_at: Option<DateTime<Utc>>,
    /// The service it may touch; all where not given.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// The environment it may touch; all where not given.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Where more is said.
    #[arg(long, value_name = "URL")]
    pub link: Option<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
pub struct ListMarkers {
    /// The window, back from now.
    #[arg(long, value_name = "TIME", default_value = "7d")]
    pub since: String,
    /// Only changes that may touch this service.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only changes that may touch this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    #[command(flatten)]
    pub client: Client,
}
