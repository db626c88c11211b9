//! `outcrop admin session`: who is signed in.

use chrono::Utc;
use clap::Subcommand;
use outcrop_store::people::sessions;

use super::{away, note, open};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, json, line, table, time};
use crate::settings::DatabaseArgs;

#[derive(Subcommand)]
pub enum SessionCommand {
    /// List open sessions.
    List {
        /// Only this member's.
        email: Option<String>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// End a member's sessions: they have to sign in again.
    #[command(
        after_help = "Examples:\n  outcrop admin session end purser@skerry.example\n  outcrop admin session end \
            purser@skerry.example --id 7"
    )]
    End {
        /// The member's address.
        email: String,
        /// Only the session of this number.
        #[arg(long, value_name = "N")]
        id: Option<i32>,
    },
}

pub async fn run(database: DatabaseArgs, command: SessionCommand) -> Result<(), Fault> {
    let database = open(database).await?;
    match command {
        SessionCommand::End { email, id } => {
            let ended = sessions::end_of(&database, &email, id)
                .await
                .map_err(|error| away(&error))?;
            if ended == 0 {
                return Err(Fault::Usage(format!(
                    "`{email}` has no such session; `outcrop admin session list` lists them"
                )));
            }
            note(&database, "ended sessions", &email).await?;
            line(format!(
                "{} of {email} ended",
                counted(i64::try_from(ended).unwrap_or(i64::MAX), "session", "sessions")
            ))
        }
        SessionCommand::List { email, json: as_json } => {
            let rows = sessions::list(&database, email.as_deref(), None)
                .await
                .map_err(|error| away(&error))?;
            if as_json {
                let items: Vec<_> = rows
                    .into_iter()
                    .map(|row| {
                        serde_json::json!({"id": row.id, "email": row.email, "agent": row.agent,
                            "created_at": row.created_at,
                            "last_used_at": row.last_used_at, "expires_at": row.expires_at})
                    })
                    .collect();
                return json(&serde_json::json!({"items": items}));
            }
            if rows.is_empty() {
                return line("Nobody is signed in.");
            }
            let now = Utc::now();
            let columns = [
                Column("id", Fit::Number),
                Column("member", Fit::Whole),
                Column("began", Fit::Whole),
                Column("last used", Fit::Whole),
                Column("browser", Fit::Text(20)),
            ];
            table(
                &columns,
                rows.into_iter().map(|row| {
                    vec![
                        row.id.to_string(),
                        row.email,
                        time(row.created_at),
                        ago(row.last_used_at, now),
                        row.agent,
                    ]
                }),
            )
        }
    }
}
