//! `outcrop close-up`: the next occurrences of an error, or that a predicate holds for, kept in full.

use chrono::{TimeDelta, Utc};
use clap::{Args, Subcommand};
use outcrop_api::{CloseUp, CloseUpItem, CloseUpList, NewCloseUp};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, since, table, time};

#[derive(Subcommand)]
pub enum CloseUpCommand {
    /// Begin one: the next occurrences are kept in full, with nothing sampled.
    Begin(Begin),
    /// List those under way and the newest of those that ended.
    #[command(after_help = "Examples:\n  outcrop close-up list\n  outcrop close-up list --error kobal-tirun")]
    List {
        /// Only those of this error.
        #[arg(long, value_name = "REF")]
        error: Option<String>,
    },
    /// Show what one has come to, and the occurrences that it took.
    #[command(after_help = "Examples:\n  outcrop close-up show 7\n  outcrop close-up show 7 --json")]
    Show {
        /// Its number.
        number: i32,
    },
    /// End one that is under way; what it took stays.
    #[command(after_help = "Example:\n  outcrop close-up end 7")]
    End {
        /// Its number.
        number: i32,
    },
}

#[derive(Args)]
#[command(after_help = "Examples:\n  outcrop close-up begin kobal-tirun\n  \
        outcrop close-up begin kobal-tirun --count 10 --for 2h --tell\n  \
        outcrop close-up begin --where 'service = fares and user = 4711' --count 5\n\n\
        The service that fails is neither stopped nor deployed again.")]
pub struct Begin {
    /// The error's reference.
    #[arg(
        value_name = "REF",
        required_unless_present = "predicate",
        conflicts_with = "predicate"
    )]
    pub reference: Option<String>,
    /// Of whatever this predicate holds for, in place of one error.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// How many occurrences, 1 to 100.
    #[arg(long, value_name = "N", default_value_t = 3, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub count: u32,
    /// For how long at most, up to 7d.
    #[arg(long = "for", value_name = "TIME", default_value = "24h")]
    pub time: humantime::Duration,
    /// Tell me once it ends: by mail, and on the pages that I have open.
    #[arg(long)]
    pub tell: bool,
}

pub async fn close_up(command: CloseUpCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        CloseUpCommand::Begin(begin) => {
            let length = TimeDelta::from_std(begin.time.into()).ok();
            let until = length.and_then(|length| Utc::now().checked_add_signed(length));
            let until = until.ok_or_else(|| Fault::Usage("--for: 7 days at most".to_owned()))?;
            let new = NewCloseUp {
                error: begin.reference,
                predicate: begin.predicate,
                count: Some(begin.count),
                until: Some(until),
                tell: begin.tell,
            };
            let item: CloseUpItem = api.post("/close-ups", &[], &new).await?;
            if client.json {
                return json(&item);
            }
            line(printable(&format!(
                "The close-up {} of {} is under way.",
                item.id,
                of(&item)
            )))?;
            line(format!("{}.", item.said))?;
            line(format!("Look at it: outcrop close-up show {}", item.id))
        }
        CloseUpCommand::List { error } => list(&api, error, client.json).await,
        CloseUpCommand::Show { number } => show(&api, number, client.json).await,
        CloseUpCommand::End { number } => {
            let path = format!("/close-ups/{number}");
            api.send(Method::DELETE, &path, None::<&()>).await?;
            line(format!("The close-up {number} has ended; what it took stays."))
        }
    }
}

/// What a close-up is of.
fn of(item: &CloseUpItem) -> String {
    match (&item.error, &item.predicate) {
        (Some(error), _) => error.clone(),
        (None, Some(predicate)) => format!("`{predicate}`"),
        (None, None) => "an error".to_owned(),
    }
}

async fn list(api: &Api, error: Option<String>, as_json: bool) -> Result<(), Fault> {
    let list: CloseUpList = api.get("/close-ups", &[("error", error)]).await?;
    if as_json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(
            "There is no close-up. outcrop close-up begin REF keeps the next occurrences of an error in full.",
        );
    }
    let open = list.items.iter().filter(|item| item.state == "open").count();
    let count = i64::try_from(open).unwrap_or_default();
    line(format!("{} under way", counted(count, "close-up", "close-ups")))?;
    let columns = [
        Column("no", Fit::Number),
        Column("of", Fit::Text(20)),
        Column("what it has come to", Fit::Text(30)),
        Column("by", Fit::Text(12)),
        Column("asked", Fit::Whole),
    ];
    let row = |item: CloseUpItem| {
        let of = of(&item);
        let asked = since(item.asked_at, Utc::now());
        vec![item.id.to_string(), of, item.said, item.asked_by, asked]
    };
    table(&columns, list.items.into_iter().map(row))
}

async fn show(api: &Api, number: i32, as_json: bool) -> Result<(), Fault> {
    let found: CloseUp = api.get(&format!("/close-ups/{number}"), &[]).await?;
    if as_json {
        return json(&found);
    }
    let item = &found.item;
    line(printable(&format!("{}: {}", of(item), item.said)))?;
    let title = item.title.as_deref().unwrap_or_default();
    let service = item.service.as_deref().unwrap_or_default();
    if !title.is_empty() {
        line(printable(&format!("  {title} in {service}")))?;
    }
    line(printable(&format!(
        "  asked for by {}, {}",
        item.asked_by,
        time(item.asked_at)
    )))?;
    if found.occurrences.is_empty() {
        return line("Nothing is kept yet: it takes what happens from now on, some seconds after it came.");
    }
    let columns = [
        Column("at", Fit::Whole),
        Column("occurrence", Fit::Whole),
        Column("version", Fit::Text(8)),
        Column("endpoint", Fit::Text(16)),
        Column("message", Fit::Text(20)),
    ];
    let row = |one: outcrop_api::TakenOccurrence| {
        let it = one.occurrence;
        vec![
            time(it.at),
            it.id,
            it.version,
            it.endpoint.unwrap_or_default(),
            it.message,
        ]
    };
    table(&columns, found.occurrences.into_iter().map(row))?;
    line("One in full: outcrop occurrence ID")
}
