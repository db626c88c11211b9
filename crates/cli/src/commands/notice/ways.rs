//! `outcrop notice way`: chats and webhooks.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use outcrop_api::{NoticeList, NoticeWay, NoticeWayList};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, json, line, table};

#[derive(Subcommand)]
pub enum WayCommand {
    /// List the ways.
    List,
    /// Make or change a way. By an admin's token.
    #[command(
        after_help = "Examples:\n  outcrop notice way set ops-room --chat 'https://chat.skerry.example/rooms/{secret}' \
            --secret ops_room\n  outcrop notice way set pager --webhook https://pager.skerry.example/in --secret \
            pager\n\nThe service knows a secret by the variable OUTCROP_SECRET_NAME, or as a credential of the \
            service\nmanager. It sends to the hosts that `outcrop serve --outbound-host` names."
    )]
    Set(Set),
    /// Send a test by a way. By an admin's token.
    Test {
        /// Its name.
        name: String,
    },
    /// Remove a way. By an admin's token.
    Remove {
        /// Its name.
        name: String,
    },
}

#[derive(Args)]
#[group(skip)]
pub struct Set {
    /// Its name, by which rules name it.
    name: String,
    /// A chat's incoming webhook: gets a text.
    #[arg(
        long,
        value_name = "URL",
        conflicts_with = "webhook",
        required_unless_present = "webhook"
    )]
    chat: Option<String>,
    /// A webhook: gets CloudEvents, signed as RFC 9421 has it.
    #[arg(long, value_name = "URL")]
    webhook: Option<String>,
    /// The name of the secret: of a webhook the key of its signature, of a chat what stands for {secret} in the address.
    #[arg(long, value_name = "NAME")]
    secret: Option<String>,
    /// Of a chat: a file with the JSON that is sent, with places for {text}, {subject} and {link}.
    #[arg(long, value_name = "FILE", conflicts_with = "webhook")]
    body: Option<PathBuf>,
}

impl Set {
    fn way(self) -> Result<NoticeWay, Fault> {
        let body = self.body.map(|file| {
            let text = std::fs::read_to_string(&file);
            let text = text.map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?;
            serde_json::from_str(&text).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
        });
        let kind = if self.chat.is_some() { "chat" } else { "webhook" };
        Ok(NoticeWay {
            kind: kind.to_owned(),
            address: self.chat.or(self.webhook).unwrap_or_default(),
            secret: self.secret,
            body: body.transpose()?,
        })
    }
}

pub(super) async fn run(api: &Api, command: WayCommand, as_json: bool) -> Result<(), Fault> {
    match command {
        WayCommand::List => {
            let list: NoticeWayList = api.get("/notice-ways", &[]).await?;
            if as_json {
                return json(&list);
            }
            if list.items.is_empty() {
                return line("There are none beside mail, browser and ticket. Make one: outcrop notice way set --help");
            }
            let columns = [
                Column("name", Fit::Whole),
                Column("kind", Fit::Whole),
                Column("address", Fit::Text(30)),
                Column("secret", Fit::Whole),
            ];
            let row = |item: outcrop_api::NoticeWayItem| {
                vec![
                    item.name,
                    item.way.kind,
                    item.way.address,
                    item.way.secret.unwrap_or_default(),
                ]
            };
            table(&columns, list.items.into_iter().map(row))
        }
        WayCommand::Set(set) => {
            let path = path(&set.name);
            let said = format!("{} is set; outcrop notice way test {} sends a test", set.name, set.name);
            api.send(Method::PUT, &path, Some(&set.way()?)).await?;
            line(printable(&said))
        }
        WayCommand::Test { name } => {
            let sent: NoticeList = api
                .post(&format!("{}/test", path(&name)), &[], &serde_json::json!({}))
                .await?;
            if as_json {
                return json(&sent);
            }
            line("A test is on its way; what is answered is listed by: outcrop notice sent")
        }
        WayCommand::Remove { name } => {
            api.send(Method::DELETE, &path(&name), None::<&()>).await?;
            line(printable(&format!("{name} is removed")))
        }
    }
}

fn path(name: &str) -> String {
    let name = percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC);
    format!("/notice-ways/{name}")
}
