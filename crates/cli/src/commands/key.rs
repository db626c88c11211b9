//! Sender keys over the API, by an admin's token.

use chrono::Utc;
use clap::Subcommand;
use outcrop_api::{KeyList, MadeKey, NewKey, Rotation};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, grouped, json, line, table, time};
use crate::settings::bytes;

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Make a sender key; prints only the key.
    #[command(
        after_help = "Examples:\n  outcrop key create pier-3\n  outcrop key create fares --service fares --service \
            ledger\n  outcrop key create trials --environment staging --per-minute 20MiB"
    )]
    Create {
        /// What the key is called.
        name: String,
        /// Let it write only for this service; may be given several times.
        #[arg(long = "service", value_name = "S")]
        services: Vec<String>,
        /// Let it write only for this environment; may be given several times.
        #[arg(long = "environment", value_name = "E")]
        environments: Vec<String>,
        /// Let it send so much a minute, inflated, over all instances; past it senders are told to wait.
        #[arg(long, value_name = "SIZE")]
        per_minute: Option<String>,
    },
    /// Give a key another secret; prints only the secret. The one before is taken for a while yet.
    #[command(after_help = "Example:\n  outcrop key rotate fares --overlap-hours 48")]
    Rotate {
        /// The key's name.
        name: String,
        /// How long the secret before is taken too; 0 ends it at once.
        #[arg(long, value_name = "N", default_value_t = 24, value_parser = clap::value_parser!(u32).range(0..=720))]
        overlap_hours: u32,
    },
    /// List the keys.
    List,
    /// Revoke a key: it is refused everywhere within two seconds.
    Revoke {
        /// The key's name.
        name: String,
    },
}

pub async fn run(command: KeyCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        KeyCommand::Create {
            name,
            services,
            environments,
            per_minute,
        } => {
            let per_minute = per_minute.map(|text| bytes("per-minute", &text)).transpose()?;
            let bytes_per_minute = per_minute.map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX));
            let made: MadeKey = api
                .post(
                    "/keys",
                    &[],
                    &NewKey {
                        name,
                        services,
                        environments,
                        bytes_per_minute,
                    },
                )
                .await?;
            if client.json { json(&made) } else { line(&made.key) }
        }
        KeyCommand::Rotate { name, overlap_hours } => {
            let path = format!("/keys/{}/rotate", segment(&name));
            let made: MadeKey = api
                .post(
                    &path,
                    &[],
                    &Rotation {
                        overlap_hours: Some(overlap_hours),
                    },
                )
                .await?;
            if client.json { json(&made) } else { line(&made.key) }
        }
        KeyCommand::Revoke { name } => {
            api.send(Method::DELETE, &format!("/keys/{}", segment(&name)), None::<&()>)
                .await?;
            line(printable(&format!("{name} is revoked; what it sent stays")))
        }
        KeyCommand::List => show(api.get("/keys", &[]).await?, client.json),
    }
}

/// Shows keys as a table or one JSON document.
pub fn show(list: KeyList, as_json: bool) -> Result<(), Fault> {
    if as_json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line("There is no sender key yet. Make one: outcrop key create NAME");
    }
    let now = Utc::now();
    let columns = [
        Column("key", Fit::Whole),
        Column("writes for", Fit::Text(8)),
        Column("made", Fit::Whole),
        Column("last used", Fit::Whole),
        Column("requests, 24 h", Fit::Number),
        Column("kB", Fit::Number),
        Column("refused", Fit::Number),
        Column("state", Fit::Text(12)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|key| {
            let all = |names: Vec<String>, all: &str| {
                if names.is_empty() {
                    all.to_owned()
                } else {
                    names.join(", ")
                }
            };
            let bounds = format!("{} in {}", all(key.services, "all"), all(key.environments, "all"));
            let used = key.last_used_at.map_or_else(|| "never".to_owned(), |at| ago(at, now));
            let state = match (key.revoked_at, key.previous_until) {
                (Some(at), _) => format!("revoked {}", time(at)),
                (None, Some(until)) => format!("in use, the secret before until {}", time(until)),
                (None, None) => "in use".to_owned(),
            };
            let numbers = [key.requests_24h, key.bytes_24h / 1_000, key.refused_24h].map(grouped);
            [
                vec![key.name, bounds, time(key.created_at), used],
                numbers.to_vec(),
                vec![state],
            ]
            .concat()
        }),
    )
}
