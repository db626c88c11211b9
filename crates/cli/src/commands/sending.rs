//! What was refused, and what is dropped as it comes in.

use chrono::Utc;
use clap::{Args, Subcommand};
use outcrop_api::{DropList, MadeDrop, NewDrop, RefusedList};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table};

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop refused --minutes 60")]
pub struct Refused {
    /// How many minutes back, 1 to 1440 [default: 15].
    #[arg(long, value_name = "N")]
    pub minutes: Option<u32>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Subcommand)]
pub enum Drops {
    /// Discard what a predicate matches, or a whole error, from now on.
    #[command(
        after_help = "Examples:\n  outcrop drops add --where 'type = ClientGone and service = gangway' --note \
            'passengers close the tab'\n  outcrop drops add --error kobal-tirun"
    )]
    Add {
        /// Predicate over single occurrences; try it first with `outcrop errors --where`.
        #[arg(
            long = "where",
            value_name = "PREDICATE",
            required_unless_present = "error",
            conflicts_with = "error"
        )]
        predicate: Option<String>,
        /// The error's reference.
        #[arg(long, value_name = "REF")]
        error: Option<String>,
        /// Why.
        #[arg(long, default_value = "")]
        note: String,
    },
    /// End a rule: what it dropped counts again.
    End {
        /// The rule's number.
        id: i64,
    },
}

pub async fn refused(refused: Refused) -> Result<(), Fault> {
    let list: RefusedList = Api::new(&refused.client)?
        .get("/refused", &[("minutes", refused.minutes.map(|n| n.to_string()))])
        .await?;
    if refused.client.json {
        return json(&list);
    }
    let window = counted(list.minutes.into(), "minute", "minutes");
    if list.items.is_empty() {
        return line(format!("No sender was refused in the last {window}."));
    }
    let all: i64 = list.items.iter().map(|item| item.count).sum();
    line(format!(
        "{} refused in the last {window}.",
        counted(all, "request was", "requests were")
    ))?;
    let now = Utc::now();
    let columns = [
        Column("last", Fit::Whole),
        Column("requests", Fit::Number),
        Column("key", Fit::Whole),
        Column("path", Fit::Text(12)),
        Column("sender", Fit::Text(16)),
        Column("why", Fit::Text(30)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let key = if item.key.is_empty() {
                "none known".to_owned()
            } else {
                item.key
            };
            vec![
                ago(item.last_at, now),
                grouped(item.count),
                key,
                item.path,
                item.sender,
                item.reason,
            ]
        }),
    )
}

pub async fn drops(command: Option<Drops>, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        Some(Drops::Add { predicate, error, note }) => {
            let made: MadeDrop = api.post("/drops", &[], &NewDrop { predicate, error, note }).await?;
            if client.json {
                return json(&made);
            }
            line(format!(
                "Rule {0} drops it from now on; what came before stays. End it with `outcrop drops end {0}`.",
                made.id
            ))
        }
        Some(Drops::End { id }) => {
            api.send(Method::DELETE, &format!("/drops/{id}"), None::<&()>).await?;
            line(format!("Rule {id} has ended: what it dropped counts again."))
        }
        None => {
            let list: DropList = api.get("/drops", &[]).await?;
            if client.json { json(&list) } else { show(list) }
        }
    }
}

fn show(list: DropList) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("Nothing is dropped. outcrop drops add --where PREDICATE");
    }
    let in_force = list.items.iter().filter(|item| item.ended_at.is_none()).count();
    line(format!(
        "{} in force.",
        counted(i64::try_from(in_force).unwrap_or_default(), "rule is", "rules are")
    ))?;
    let columns = [
        Column("rule", Fit::Number),
        Column("drops", Fit::Text(30)),
        Column("24 h", Fit::Number),
        Column("30 d", Fit::Number),
        Column("why", Fit::Text(12)),
        Column("by", Fit::Text(10)),
        Column("state", Fit::Whole),
    ];
    let now = Utc::now();
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let error = item
                .error
                .map(|error| format!("{error} {}", item.title.unwrap_or_default()));
            let state = item
                .ended_at
                .map_or_else(|| "in force".to_owned(), |at| format!("ended {}", ago(at, now)));
            vec![
                item.id.to_string(),
                printable(&item.predicate.or(error).unwrap_or_default()),
                grouped(item.dropped_24h),
                grouped(item.dropped),
                item.note,
                item.made_by,
                state,
            ]
        }),
    )
}
