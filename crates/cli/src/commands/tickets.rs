//! Tickets of errors in another program.

use std::path::PathBuf;

use clap::Subcommand;
use outcrop_api::{HandlingState, TicketItem, TicketLink, Tracker, TrackerSetting, TrackerTrial, TriedRequest};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line, time};

#[derive(Subcommand)]
pub enum TicketCommand {
    /// Show an error's ticket.
    Show {
        /// The error's reference.
        #[arg(value_name = "REF")]
        reference: String,
    },
    /// Make a ticket for an error, as an admin set it up.
    #[command(after_help = "Example:\n  outcrop ticket make kobal-tirun")]
    Make {
        /// The error's reference.
        #[arg(value_name = "REF")]
        reference: String,
    },
    /// Link a ticket that is there already, by its address.
    #[command(after_help = "Example:\n  outcrop ticket link kobal-tirun https://tracker.skerry.example/tickets/71")]
    Link {
        /// The error's reference.
        #[arg(value_name = "REF")]
        reference: String,
        /// The ticket's address.
        #[arg(value_name = "URL")]
        link: String,
    },
    /// Leave an error's ticket; what is there in the other program stays.
    Leave {
        /// The error's reference.
        #[arg(value_name = "REF")]
        reference: String,
    },
    /// Set how tickets are made, from a JSON file; `try` says what would be sent. By an admin's token.
    #[command(
        after_help = "Example:\n  outcrop ticket set tracker.json\n\ntracker.json:\n  {\"address\": \
            \"https://tracker.skerry.example/tickets\",\n   \"headers\": [{\"name\": \"authorization\", \"value\": \"Bearer \
            {secret}\"}],\n   \"secret\": \"tracker\",\n   \"body\": {\"title\": \"{title} in {service}\", \"text\": \
            \"{sentence}\\n{frames}\\n{link}\"},\n   \"id\": \"/id\", \"link\": \"/url\",\n   \"state_address\": \
            \"https://tracker.skerry.example/tickets/{id}\", \"state\": \"/state\"}"
    )]
    Set {
        /// The file.
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Say what would be sent to make the ticket of an error; send nothing. By an admin's token.
    #[command(after_help = "Example:\n  outcrop ticket try kobal-tirun tracker.json")]
    Try {
        /// The error's reference.
        #[arg(value_name = "REF")]
        reference: String,
        /// The file.
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Show how tickets are made.
    Setting,
    /// Make no tickets any more. By an admin's token.
    End,
}

pub async fn run(command: TicketCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    let path = |reference: &str| format!("/errors/{reference}/ticket");
    match command {
        TicketCommand::Show { reference } => {
            let handling: HandlingState = api.get(&format!("/errors/{reference}/handling"), &[]).await?;
            if client.json {
                return json(&handling.ticket);
            }
            match handling.ticket {
                Some(ticket) => line(printable(&said(&ticket))),
                None => line(printable(&format!(
                    "{} has no ticket. Make one: outcrop ticket make {}",
                    handling.reference, handling.reference
                ))),
            }
        }
        TicketCommand::Make { reference } => {
            let ticket: TicketItem = api.post(&path(&reference), &[], &serde_json::json!({})).await?;
            if client.json {
                json(&ticket)
            } else {
                line(printable(&said(&ticket)))
            }
        }
        TicketCommand::Link { reference, link } => {
            let ticket: TicketItem = api.put(&path(&reference), &TicketLink { link }).await?;
            if client.json {
                json(&ticket)
            } else {
                line(printable(&said(&ticket)))
            }
        }
        TicketCommand::Leave { reference } => {
            api.send(Method::DELETE, &path(&reference), None::<&()>).await?;
            line("left; what is there in the other program stays")
        }
        TicketCommand::Set { file } => {
            api.send(Method::PUT, "/tracker", Some(&read(&file)?)).await?;
            line("tickets are made so from now on")
        }
        TicketCommand::Try { reference, file } => {
            let tracker = read(&file)?;
            let tried: TriedRequest = api
                .post("/tracker/try", &[], &TrackerTrial { tracker, reference })
                .await?;
            if client.json { json(&tried) } else { tried_out(&tried) }
        }
        TicketCommand::Setting => {
            let setting: TrackerSetting = api.get("/tracker", &[]).await?;
            if client.json || setting.tracker.is_some() {
                return json(&setting);
            }
            let is_set = if setting.is_set {
                "is set; admins are shown it"
            } else {
                "is not set"
            };
            line(format!("How tickets are made {is_set}."))
        }
        TicketCommand::End => {
            api.send(Method::DELETE, "/tracker", None::<&()>).await?;
            line("no tickets are made any more; those that are there stay")
        }
    }
}

fn read(file: &std::path::Path) -> Result<Tracker, Fault> {
    let wrong = |why: String| Fault::Usage(format!("{}: {why}", file.display()));
    let text = std::fs::read_to_string(file).map_err(|error| wrong(error.to_string()))?;
    serde_json::from_str(&text).map_err(|error| wrong(error.to_string()))
}

fn tried_out(tried: &TriedRequest) -> Result<(), Fault> {
    line(printable(&format!("{} {}", tried.method, tried.address)))?;
    for header in &tried.headers {
        line(printable(&format!("{}: {}", header.name, header.value)))?;
    }
    line("")?;
    json(&tried.body)
}

fn said(ticket: &TicketItem) -> String {
    let id = if ticket.id.is_empty() {
        String::new()
    } else {
        format!("{} ", ticket.id)
    };
    let state = ticket
        .state
        .as_ref()
        .map(|state| format!(", {state} as of {}", time(ticket.looked_at)))
        .unwrap_or_default();
    format!(
        "Ticket {id}{}{state}; by {}, {}",
        ticket.link,
        ticket.by,
        time(ticket.at)
    )
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;

    use super::*;

    #[test]
    fn a_ticket_is_said_with_its_state_where_that_is_known() {
        let mut ticket = TicketItem {
            id: "71".to_owned(),
            link: "https://tracker.skerry.example/71".to_owned(),
            state: Some("waiting".to_owned()),
            by: "purser".to_owned(),
            at: DateTime::UNIX_EPOCH,
            looked_at: DateTime::UNIX_EPOCH,
        };
        assert_eq!(
            said(&ticket),
            "Ticket 71 https://tracker.skerry.example/71, waiting as of 1970-01-01 00:00:00Z; by purser, 1970-01-01 \
             00:00:00Z"
        );
        (ticket.id, ticket.state) = (String::new(), None);
        assert!(said(&ticket).starts_with("Ticket https://tracker.skerry.example/71; by purser"));
    }
}
