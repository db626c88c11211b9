//! `outcrop admin token`: tokens of members.

use chrono::{TimeDelta, Utc};
use clap::Subcommand;
use outcrop_server::Secret;
use outcrop_store::people::{AccessError, tokens};

use super::{away, note, open, refused};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, json, line, table, time};
use crate::settings::DatabaseArgs;

#[derive(Subcommand)]
pub enum TokenCommand {
    /// Make a token for a member; prints only the token.
    #[command(
        after_help = "Examples:\n  export OUTCROP_TOKEN=$(outcrop admin token create purser@skerry.example)\n  \
            outcrop admin token create purser@skerry.example --pipeline"
    )]
    Create {
        /// The member's address.
        email: String,
        /// For a pipeline: it records and checks deploys and marks changes, and does nothing else.
        #[arg(long)]
        pipeline: bool,
        /// What the token is for.
        #[arg(long, value_name = "TEXT", default_value = "")]
        name: String,
        /// After how many days it ends; never where not given.
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=3_650))]
        days: Option<u32>,
    },
    /// List tokens, without their secrets.
    List {
        /// Only this member's.
        email: Option<String>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Revoke a token: its next request is refused, on all instances.
    #[command(after_help = "Example:\n  outcrop admin token revoke 12")]
    Revoke {
        /// The token's number, as listed.
        id: i32,
    },
}

pub async fn run(database: DatabaseArgs, command: TokenCommand) -> Result<(), Fault> {
    let database = open(database).await?;
    match command {
        TokenCommand::Create {
            email,
            pipeline,
            name,
            days,
        } => {
            let secret = Secret::random("outcrop-token");
            let expires_at = days.map(|days| Utc::now() + TimeDelta::days(days.into()));
            let token = tokens::NewToken {
                name: name.trim().to_owned(),
                is_pipeline: pipeline,
                expires_at,
            };
            tokens::add(&database, &email, secret.digest(), &token)
                .await
                .map_err(|error| match error {
                    AccessError::Missing(_) => Fault::Usage(format!(
                        "there is no member `{email}`; `outcrop admin member add` makes one"
                    )),
                    other => refused(&other),
                })?;
            note(&database, "made token", &format!("of {email} {}", token.name)).await?;
            line(secret.expose())
        }
        TokenCommand::Revoke { id } => {
            let revoked = tokens::revoke(&database, id, None)
                .await
                .map_err(|error| away(&error))?;
            let Some((email, name)) = revoked else {
                return Err(Fault::Usage(format!(
                    "there is no token {id} in use; `outcrop admin token list` lists them"
                )));
            };
            note(&database, "revoked token", &format!("{id} of {email} {name}")).await?;
            line(format!(
                "Token {id} of {email} is revoked; its next request is refused."
            ))
        }
        TokenCommand::List { email, json: as_json } => {
            let rows = tokens::list(&database, email.as_deref())
                .await
                .map_err(|error| away(&error))?;
            if as_json { as_document(rows) } else { as_table(rows) }
        }
    }
}

fn as_document(rows: Vec<tokens::Token>) -> Result<(), Fault> {
    let items: Vec<_> = rows
        .into_iter()
        .map(|row| {
            serde_json::json!({"id": row.id, "email": row.email, "name": row.name, "pipeline": row.is_pipeline,
                "created_at": row.created_at,
                "expires_at": row.expires_at, "last_used_at": row.last_used_at, "revoked_at": row.revoked_at})
        })
        .collect();
    json(&serde_json::json!({"items": items}))
}

fn as_table(rows: Vec<tokens::Token>) -> Result<(), Fault> {
    if rows.is_empty() {
        return line("There is no token yet. Make one: outcrop admin token create EMAIL");
    }
    let now = Utc::now();
    let columns = [
        Column("id", Fit::Number),
        Column("member", Fit::Whole),
        Column("for", Fit::Text(10)),
        Column("may", Fit::Whole),
        Column("made", Fit::Whole),
        Column("last used", Fit::Whole),
        Column("state", Fit::Whole),
    ];
    table(
        &columns,
        rows.into_iter().map(|row| {
            let state = match (row.revoked_at, row.expires_at) {
                (Some(at), _) => format!("revoked {}", time(at)),
                (None, Some(at)) if at <= now => format!("expired {}", time(at)),
                (None, Some(at)) => format!("in use until {}", time(at)),
                (None, None) => "in use".to_owned(),
            };
            let used = row.last_used_at.map_or_else(|| "never".to_owned(), |at| ago(at, now));
            let may = if row.is_pipeline {
                "deploys"
            } else {
                "all its member may"
            };
            vec![
                row.id.to_string(),
                row.email,
                row.name,
                may.to_owned(),
                time(row.created_at),
                used,
                state,
            ]
        }),
    )
}
