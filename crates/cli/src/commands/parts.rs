//! `outcrop parts` and `outcrop users`: what occurrences fall into.

use chrono::Utc;
use clap::{Args, Subcommand};
use outcrop_api::{NewSlice, PartList, SliceList, UserPage};
use outcrop_core::text::printable;
use reqwest::Method;

use super::errors::window_query;
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table};
use crate::window::Window;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop parts kind --since 7d\n  outcrop parts touches --service fares\n  outcrop \
        parts cloud.region --where 'slice = edge'"
)]
pub struct Parts {
    /// The field or attribute.
    #[arg(value_name = "FIELD")]
    pub by: String,
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: Window,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop users kobal-tirun --since 7d\n\nAll errors of one user: outcrop errors --where \
        'user = u-7'"
)]
pub struct Users {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
    /// How far back from now: 30m, 24h, 7d.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only occurrences that match this predicate.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

#[derive(Subcommand)]
pub enum Slices {
    /// Save a predicate under a name.
    #[command(
        after_help = "Example:\n  outcrop slices save edge 'service in (gangway, boarding) and environment = \
            production'"
    )]
    Save {
        /// The name.
        name: String,
        /// The predicate.
        predicate: String,
    },
    /// Remove a slice.
    Remove {
        /// The name.
        name: String,
    },
}

pub async fn parts(arguments: Parts) -> Result<(), Fault> {
    let mut query = window_query(&arguments.window);
    query.push(("by", Some(arguments.by.clone())));
    let list: PartList = Api::new(&arguments.client)?.get("/parts", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    if let Some(note) = list.note.as_ref().filter(|_| list.items.is_empty()) {
        return line(printable(&format!(
            "No occurrence of the last {} has {}: {note}",
            arguments.window.since, list.by
        )));
    }
    if list.items.is_empty() {
        return line(printable(&format!(
            "No occurrence of the last {} has {}.",
            arguments.window.since, list.by
        )));
    }
    let columns = [
        Column("value", Fit::Text(16)),
        Column("errors", Fit::Number),
        Column("occurrences", Fit::Number),
        Column("users", Fit::Number),
    ];
    table(
        &columns,
        list.items.iter().map(|item| {
            vec![
                item.value.clone(),
                grouped(item.errors),
                grouped(item.occurrences),
                grouped(item.users),
            ]
        }),
    )?;
    if let Some(note) = &list.note {
        line(printable(&format!("\nThese are {note}.")))?;
    }
    let first = list
        .items
        .first()
        .map(|item| item.predicate.replace('\'', "'\\''"))
        .unwrap_or_default();
    line(format!(
        "\n{}",
        printable(&format!(
            "Narrow to one: outcrop errors --since {} --where '{first}'",
            arguments.window.since
        ))
    ))
}

pub async fn users(arguments: Users) -> Result<(), Fault> {
    let query = [
        ("since", Some(arguments.since.clone())),
        ("environment", arguments.environment),
        ("where", arguments.predicate),
        ("limit", Some(arguments.limit.to_string())),
        ("cursor", arguments.cursor),
    ];
    let page: UserPage = Api::new(&arguments.client)?
        .get(&format!("/errors/{}/users", arguments.reference), &query)
        .await?;
    if arguments.client.json {
        return json(&page);
    }
    if page.items.is_empty() {
        return line(format!(
            "No user of {} is named in the last {}: send user.id.",
            arguments.reference, arguments.since
        ));
    }
    let now = Utc::now();
    let columns = [
        Column("user", Fit::Text(16)),
        Column("occurrences", Fit::Number),
        Column("errors in all", Fit::Number),
        Column("first", Fit::Whole),
        Column("last", Fit::Whole),
    ];
    table(
        &columns,
        page.items.iter().map(|item| {
            vec![
                item.user.clone(),
                grouped(item.occurrences),
                grouped(item.errors),
                ago(item.first_seen, now),
                ago(item.last_seen, now),
            ]
        }),
    )?;
    match page.next {
        Some(next) => line(format!("\nMore: --cursor {next}")),
        None => Ok(()),
    }
}

pub async fn slices(command: Option<Slices>, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        Some(Slices::Save { name, predicate }) => {
            api.send(Method::PUT, &path(&name), Some(&NewSlice { predicate }))
                .await?;
            line(printable(&format!(
                "Saved. Ask with: outcrop errors --where 'slice = \"{name}\"'"
            )))
        }
        Some(Slices::Remove { name }) => {
            api.send(Method::DELETE, &path(&name), None::<&()>).await?;
            line(printable(&format!("The slice {name} is gone.")))
        }
        None => {
            let list: SliceList = api.get("/slices", &[]).await?;
            if client.json {
                return json(&list);
            }
            if list.items.is_empty() {
                return line("No slice is saved. outcrop slices save NAME PREDICATE");
            }
            line(counted(
                i64::try_from(list.items.len()).unwrap_or_default(),
                "slice",
                "slices",
            ))?;
            let columns = [
                Column("slice", Fit::Whole),
                Column("where", Fit::Text(30)),
                Column("by", Fit::Text(12)),
            ];
            table(
                &columns,
                list.items
                    .into_iter()
                    .map(|item| vec![item.name, item.predicate, item.by]),
            )
        }
    }
}

fn path(name: &str) -> String {
    format!("/slices/{}", crate::client::segment(name))
}
