//! Deleting what belongs to a service, an environment, an error or a user.

use std::io::{BufRead, IsTerminal};

use clap::{Args, ValueEnum};
use outcrop_api::{CleaningItem, CleaningKind, CleaningList, CleaningTrial, NewCleaning};
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, grouped, json, line, table, time};

/// What is deleted, as it is written.
#[derive(Clone, Copy, ValueEnum)]
pub enum What {
    /// All that a service sent; its name and settings stay.
    Service,
    /// All that came from an environment.
    Environment,
    /// An error's occurrences, counters, flags and handling.
    Error,
    /// What tells of one user; counts stay.
    User,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop clean-up                          what was deleted, and how far it is\n  outcrop \
        clean-up environment trials       counts what there is, and asks for its name\n  outcrop clean-up user u-7 \
        --confirm u-7     for scripts"
)]
pub struct CleanUp {
    /// What it is; without it, what was deleted is listed.
    #[arg(value_enum, requires = "name")]
    pub what: Option<What>,
    /// Its name: a service's, an environment's, an error's reference, a user as occurrences have them.
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// The name once more: it is deleted without asking.
    #[arg(long, value_name = "NAME", requires = "name")]
    pub confirm: Option<String>,
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: CleanUp) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let (Some(what), Some(name)) = (arguments.what, arguments.name) else {
        let list: CleaningList = api.get("/clean-up", &[]).await?;
        return if arguments.client.json { json(&list) } else { show(list) };
    };
    let kind = match what {
        What::Service => CleaningKind::Service,
        What::Environment => CleaningKind::Environment,
        What::Error => CleaningKind::Error,
        What::User => CleaningKind::User,
    };
    let mut asked = NewCleaning {
        kind,
        name,
        confirm: String::new(),
    };
    let tried: CleaningTrial = api.post("/clean-up/try", &[], &asked).await?;
    asked.confirm = match arguments.confirm {
        Some(confirm) => confirm,
        None if arguments.client.json => return json(&tried),
        None => {
            line(printable(&told(&tried)))?;
            if !std::io::stdin().is_terminal() {
                return Err(Fault::Refused(format!(
                    "nothing was deleted: --confirm '{}' does it",
                    tried.name
                )));
            }
            line("It cannot be undone. Type the name to delete it, or nothing to leave it:")?;
            let mut typed = String::new();
            std::io::stdin().lock().read_line(&mut typed)?;
            typed.trim_end().to_owned()
        }
    };
    if asked.confirm.is_empty() {
        return line("nothing was deleted");
    }
    let begun: CleaningTrial = api.post("/clean-up", &[], &asked).await?;
    if arguments.client.json {
        return json(&begun);
    }
    line(printable(&format!(
        "{} is being deleted; `outcrop clean-up` says how far it is",
        begun.name
    )))
}

fn told(tried: &CleaningTrial) -> String {
    let counts: Vec<String> = tried
        .counts
        .iter()
        .map(|count| format!("{} {}", grouped(count.count), count.what))
        .collect();
    format!("{}: {}.", tried.name, counts.join(", "))
}

fn show(list: CleaningList) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("Nothing was deleted by anybody.");
    }
    let columns = [
        Column("what", Fit::Whole),
        Column("name", Fit::Text(12)),
        Column("asked by", Fit::Text(12)),
        Column("when", Fit::Whole),
        Column("rows", Fit::Number),
        Column("state", Fit::Whole),
    ];
    table(&columns, list.items.into_iter().map(row))
}

fn row(item: CleaningItem) -> Vec<String> {
    vec![
        item.kind,
        item.name,
        item.by,
        time(item.at),
        grouped(item.removed),
        item.done_at
            .map_or_else(|| "going on".to_owned(), |at| format!("done {}", time(at))),
    ]
}

#[cfg(test)]
mod tests {
    use outcrop_api::CleaningCount;

    use super::*;

    #[test]
    fn what_would_go_is_counted() {
        let count = |what: &str, count| CleaningCount {
            what: what.to_owned(),
            count,
        };
        let tried = CleaningTrial {
            kind: CleaningKind::Service,
            name: "fares".to_owned(),
            counts: vec![count("occurrences", 1_204), count("requests", 0)],
        };
        assert_eq!(told(&tried), "fares: 1,204 occurrences, 0 requests.");
    }
}
