//! Change markers.

use chrono::{DateTime, Utc};
use clap::{Args, Subcommand, ValueEnum};
use outcrop_api::{MarkerItem, MarkerList, NewMarker};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, json, line, table};

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
    /// How far back from now: 30m, 24h, 7d.
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

pub async fn run(command: MarkerCommand) -> Result<(), Fault> {
    match command {
        MarkerCommand::Record(arguments) => record(arguments).await,
        MarkerCommand::List(arguments) => list(arguments).await,
        MarkerCommand::Remove { id, client } => {
            Api::new(&client)?
                .send(Method::DELETE, &format!("/markers/{id}"), None::<&()>)
                .await?;
            line("Removed.")
        }
    }
}

async fn record(arguments: RecordMarker) -> Result<(), Fault> {
    let marker = NewMarker {
        title: arguments.title,
        kind: arguments.kind.name().to_owned(),
        at: arguments.at,
        ended_at: arguments.ended_at,
        service: arguments.service,
        environment: arguments.environment,
        link: arguments.link.unwrap_or_default(),
    };
    let made: MarkerItem = Api::new(&arguments.client)?.post("/markers", &[], &marker).await?;
    if arguments.client.json {
        return json(&made);
    }
    line(printable(&format!(
        "Marked as number {}: {}. What happens after it: outcrop marker list",
        made.id, made.title
    )))
}

async fn list(arguments: ListMarkers) -> Result<(), Fault> {
    let query = [
        ("since", Some(arguments.since.clone())),
        ("service", arguments.service),
        ("environment", arguments.environment),
    ];
    let list: MarkerList = Api::new(&arguments.client)?.get("/markers", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(format!(
            "No change was marked in the last {}. Mark one: outcrop marker record 'database upgraded' --kind database",
            arguments.since
        ));
    }
    let flagged = list.items.iter().filter(|item| item.check.outcome == "flagged").count();
    line(format!(
        "{flagged} of {} marked changes of the last {} were followed by a surge.\n",
        list.items.len(),
        arguments.since
    ))?;
    let now = Utc::now();
    let columns = [
        Column("n", Fit::Number),
        Column("when", Fit::Whole),
        Column("change", Fit::Text(24)),
        Column("may touch", Fit::Text(12)),
        Column("answer", Fit::Whole),
        Column("why", Fit::Text(24)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let touched = [item.service, item.environment]
                .into_iter()
                .flatten()
                .collect::<Vec<_>>()
                .join(" in ");
            let touched = if touched.is_empty() {
                "everything".to_owned()
            } else {
                touched
            };
            vec![
                item.id.to_string(),
                ago(item.at, now),
                format!("{} ({})", item.title, item.kind),
                touched,
                item.check.outcome,
                item.check.sentence,
            ]
        }),
    )
}
