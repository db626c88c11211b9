//! `outcrop grouping`: changes what is one error.

use chrono::Utc;
use clap::{Args, Subcommand};
use outcrop_api::{CauseList, GroupingChange, GroupingChanges, GroupingOutcome, Undone};
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table};

#[derive(Subcommand)]
#[command(
    after_help = "Every change can be tried with --dry-run, is kept in the history, and is undone by its number."
)]
pub enum Grouping {
    /// Join errors of one service by hand.
    #[command(after_help = "Example:\n  outcrop grouping join kobal-tirun dasup-nivel")]
    Join {
        /// The error that stays.
        #[arg(value_name = "REF")]
        error: String,
        /// Those that become part of it.
        #[arg(value_name = "REF", required = true)]
        with: Vec<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Make whatever a predicate matches one error, what is known and what comes.
    #[command(
        after_help = "Example:\n  outcrop grouping join-where gangway 'type = ConnectTimeout and function like \
            \"*dial\"' --dry-run"
    )]
    JoinWhere {
        /// The service.
        service: String,
        /// What must hold of a single occurrence; docs/reference/language.md has the language.
        predicate: String,
        /// The service's namespace, where several have one of this name.
        #[arg(long, value_name = "NS")]
        namespace: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Split an error, by the values of an attribute or by its causes.
    #[command(
        after_help = "Examples:\n  outcrop grouping split kobal-tirun --by season --dry-run --days 14\n  outcrop \
            grouping split kobal-tirun --cause 12 --cause 15"
    )]
    Split {
        /// The error; its largest part keeps the reference.
        #[arg(value_name = "REF")]
        error: String,
        /// Tell it apart by the value of this attribute, from now on.
        #[arg(
            long,
            value_name = "ATTRIBUTE",
            required_unless_present = "causes",
            conflicts_with = "causes"
        )]
        by: Option<String>,
        /// Make this cause of it an error of its own; `outcrop grouping causes REF` lists them.
        #[arg(long = "cause", value_name = "N")]
        causes: Vec<i64>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Set which code is a service's own and which belongs to libraries, by prefixes of paths, modules or functions.
    #[command(
        after_help = "Example:\n  outcrop grouping own-code fares --own vendor/skerry_tariffs --library \
            fares.generated --dry-run\n\n\
        The longest prefix that fits a frame decides; of one prefix, the last setting holds."
    )]
    OwnCode {
        /// The service.
        service: String,
        /// Frames of files, modules or functions that begin so are own code.
        #[arg(long, value_name = "PREFIX", required_unless_present = "library")]
        own: Vec<String>,
        /// Frames that begin so belong to a library.
        #[arg(long, value_name = "PREFIX")]
        library: Vec<String>,
        /// The service's namespace, where several have one of this name.
        #[arg(long, value_name = "NS")]
        namespace: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// List the causes an error was put together from.
    Causes {
        /// The error.
        #[arg(value_name = "REF")]
        error: String,
        #[command(flatten)]
        client: Client,
    },
    /// List what was changed, the newest first.
    #[command(after_help = "Examples:\n  outcrop grouping changes\n  outcrop grouping changes kobal-tirun")]
    Changes {
        /// Only what concerns this error.
        #[arg(value_name = "REF")]
        error: Option<String>,
        #[command(flatten)]
        client: Client,
    },
    /// Undo a change: causes go back to their errors, a rule ends.
    Undo {
        /// The change's number.
        #[arg(value_name = "N")]
        id: i64,
        #[command(flatten)]
        client: Client,
    },
}

#[derive(Args)]
pub struct ChangeArgs {
    /// Show what the change would do, without making it.
    #[arg(long)]
    pub dry_run: bool,
    /// Days of occurrences to work it out on, 1 to 30.
    #[arg(long, value_name = "N", default_value_t = 7)]
    pub days: u32,
    #[command(flatten)]
    pub client: Client,
}

/// Parts of a split error shown at once.
const PARTS: usize = 10;

pub async fn run(command: Grouping) -> Result<(), Fault> {
    match command {
        Grouping::Join { error, with, how } => change(GroupingChange::JoinErrors { error, with }, how).await,
        Grouping::JoinWhere {
            service,
            predicate,
            namespace,
            how,
        } => {
            change(
                GroupingChange::JoinWhere {
                    service,
                    namespace,
                    predicate,
                },
                how,
            )
            .await
        }
        Grouping::Split {
            error,
            by: Some(attribute),
            how,
            ..
        } => change(GroupingChange::SplitBy { error, attribute }, how).await,
        Grouping::Split {
            error,
            by: None,
            causes,
            how,
        } => change(GroupingChange::SplitOff { error, causes }, how).await,
        Grouping::OwnCode {
            service,
            own,
            library,
            namespace,
            how,
        } => {
            change(
                GroupingChange::OwnCode {
                    service,
                    namespace,
                    own,
                    library,
                },
                how,
            )
            .await
        }
        Grouping::Causes { error, client } => {
            let list: CauseList = Api::new(&client)?.get(&format!("/errors/{error}/causes"), &[]).await?;
            if client.json { json(&list) } else { causes(&list) }
        }
        Grouping::Changes { error, client } => {
            let list: GroupingChanges = Api::new(&client)?.get("/grouping/changes", &[("error", error)]).await?;
            if client.json { json(&list) } else { changes(&list) }
        }
        Grouping::Undo { id, client } => {
            let undone: Undone = Api::new(&client)?
                .post(&format!("/grouping/changes/{id}/undo"), &[], &())
                .await?;
            if client.json {
                json(&undone)
            } else {
                line(printable(&undone.sentence))
            }
        }
    }
}

async fn change(change: GroupingChange, how: ChangeArgs) -> Result<(), Fault> {
    let query = [
        ("dry_run", how.dry_run.then(|| "true".to_owned())),
        ("days", Some(how.days.to_string())),
    ];
    let outcome: GroupingOutcome = Api::new(&how.client)?
        .post("/grouping/changes", &query, &change)
        .await?;
    if how.client.json {
        return json(&outcome);
    }
    let looked_at = if outcome.occurrences > 0 {
        let days = counted(outcome.days.into(), "day", "days");
        format!(
            " ({} of the last {days} looked at)",
            counted(outcome.occurrences, "occurrence", "occurrences")
        )
    } else {
        String::new()
    };
    line(match outcome.id {
        Some(id) => format!(
            "Change {id}: {}{looked_at}. Undo it with `outcrop grouping undo {id}`.",
            outcome.sentence
        ),
        None => format!("This {}{looked_at}. Nothing was changed.", outcome.sentence),
    })?;
    for joined in &outcome.joined {
        line(format!("  {} {}", joined.into.reference, printable(&joined.into.title)))?;
        for error in &joined.errors {
            line(format!("    + {} {}", error.reference, printable(&error.title)))?;
        }
    }
    for split in &outcome.split {
        line(format!("  {} {}", split.error.reference, printable(&split.error.title)))?;
        for part in split.parts.iter().take(PARTS) {
            line(format!("    - {} {}", grouped(part.count), printable(&part.title)))?;
        }
        if split.parts.len() > PARTS {
            line(format!("    - {} more parts", split.parts.len() - PARTS))?;
        }
        if split.leaving > 0 {
            line(format!("    - {} to another known error", grouped(split.leaving)))?;
        }
    }
    Ok(())
}

fn causes(list: &CauseList) -> Result<(), Fault> {
    let now = Utc::now();
    let columns = [
        Column("cause", Fit::Number),
        Column("count", Fit::Number),
        Column("last seen", Fit::Whole),
        Column("latest", Fit::Text(20)),
    ];
    table(
        &columns,
        list.items.iter().map(|cause| {
            let message = cause.message.clone().unwrap_or_else(|| "(none kept)".to_owned());
            vec![
                cause.id.to_string(),
                grouped(cause.count),
                ago(cause.last_seen, now),
                message,
            ]
        }),
    )
}

fn changes(list: &GroupingChanges) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("Nothing was changed: all errors are grouped as the built-in rules say.");
    }
    let columns = [
        Column("change", Fit::Number),
        Column("when", Fit::Whole),
        Column("by", Fit::Text(12)),
        Column("service", Fit::Whole),
        Column("asked", Fit::Text(20)),
        Column("outcome", Fit::Text(20)),
    ];
    let now = Utc::now();
    table(
        &columns,
        list.items.iter().map(|item| {
            let outcome = match &item.undone_by {
                Some(by) => format!("{}; undone by {by}", item.sentence),
                None if item.is_rule => format!("{}; in force", item.sentence),
                None => item.sentence.clone(),
            };
            vec![
                item.id.to_string(),
                ago(item.at, now),
                item.by.clone(),
                item.service.clone(),
                item.change.clone(),
                outcome,
            ]
        }),
    )
}
