//! `outcrop admin member`: members and their roles.

use std::io::Read;

use chrono::Utc;
use clap::{Args, Subcommand, ValueEnum};
use outcrop_server::MIN_PASSWORD;
use outcrop_store::people;
use outcrop_store::people::Tokens;

use super::{away, note, open, refused};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, grouped, json, line, table, time};
use crate::settings::DatabaseArgs;

#[derive(Subcommand)]
pub enum MemberCommand {
    /// Add a member; the password is read from standard input.
    #[command(
        after_help = "Example:\n  outcrop admin member add purser@skerry.example --role engineer --password-stdin < \
            password.txt"
    )]
    Add(MemberAdd),
    /// List members, with what they use.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Give a member another role.
    #[command(after_help = "Example:\n  outcrop admin member role purser@skerry.example admin")]
    Role {
        /// The member's address.
        email: String,
        /// What they may do from now on.
        #[arg(value_enum)]
        role: Role,
    },
    /// Remove a member with their tokens and sessions; what they did stays under their address.
    #[command(after_help = "Example:\n  outcrop admin member remove purser@skerry.example")]
    Remove {
        /// The member's address.
        email: String,
    },
    /// Set a member's password, read from standard input; their sessions end.
    #[command(
        after_help = "Example:\n  outcrop admin member password purser@skerry.example --password-stdin \
            --revoke-tokens < password.txt"
    )]
    Password {
        /// The member's address.
        email: String,
        /// Read the password from standard input.
        #[arg(long, required = true)]
        password_stdin: bool,
        /// Revoke their tokens too.
        #[arg(long)]
        revoke_tokens: bool,
    },
}

#[derive(Args)]
pub struct MemberAdd {
    /// The address they sign in with.
    pub email: String,
    /// What they may do.
    #[arg(long, value_enum)]
    pub role: Role,
    /// Read the password from standard input.
    #[arg(long, required = true)]
    pub password_stdin: bool,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Role {
    /// Reads.
    Viewer,
    /// Reads and acts on errors.
    Engineer,
    /// Also manages members and keys.
    Admin,
}

/// Longest password taken, in bytes, as where people sign in.
const LONGEST_PASSWORD: usize = 1_000;

pub async fn run(database: DatabaseArgs, command: MemberCommand) -> Result<(), Fault> {
    match command {
        MemberCommand::Add(arguments) => add(database, arguments).await,
        MemberCommand::List { json } => list(database, json).await,
        MemberCommand::Role { email, role } => {
            let database = open(database).await?;
            people::set_role(&database, &email, word(role))
                .await
                .map_err(|error| refused(&error))?;
            note(&database, "changed role", &format!("{email}: {}", word(role))).await?;
            line(format!("{email} is {} {} now", article(role), word(role)))
        }
        MemberCommand::Remove { email } => {
            let database = open(database).await?;
            people::remove(&database, &email)
                .await
                .map_err(|error| refused(&error))?;
            note(&database, "removed member", &email).await?;
            line(format!(
                "{email} is no member any more; their tokens and sessions have ended"
            ))
        }
        MemberCommand::Password {
            email,
            password_stdin: _,
            revoke_tokens,
        } => {
            let hash = hash(&password()?)?;
            let database = open(database).await?;
            let tokens = if revoke_tokens { Tokens::End } else { Tokens::Stay };
            people::set_password(&database, &email, &hash, None, tokens)
                .await
                .map_err(|error| refused(&error))?;
            note(&database, "set password", &email).await?;
            line(format!("{email} has a new password; their sessions have ended"))
        }
    }
}

async fn add(database: DatabaseArgs, arguments: MemberAdd) -> Result<(), Fault> {
    let email = arguments.email.trim();
    if email.len() > 320
        || !email
            .split_once('@')
            .is_some_and(|(name, host)| !name.is_empty() && !host.is_empty())
    {
        return Err(Fault::Usage(format!("`{email}` is no e-mail address")));
    }
    let hash = hash(&password()?)?;
    let role = word(arguments.role);
    let database = open(database).await?;
    people::add_member(&database, email, role, &hash)
        .await
        .map_err(|error| refused(&error))?;
    note(&database, "added member", &format!("{email}: {role}")).await?;
    line(format!("{email} is a member now ({role})"))
}

const fn word(role: Role) -> &'static str {
    match role {
        Role::Viewer => "viewer",
        Role::Engineer => "engineer",
        Role::Admin => "admin",
    }
}

const fn article(role: Role) -> &'static str {
    match role {
        Role::Viewer => "a",
        Role::Engineer | Role::Admin => "an",
    }
}

/// The password on standard input.
fn password() -> Result<String, Fault> {
    let mut password = String::new();
    std::io::stdin()
        .read_to_string(&mut password)
        .map_err(|error| Fault::Usage(format!("the password cannot be read: {error}")))?;
    let password = password.trim_end_matches(['\n', '\r']);
    if password.chars().count() < MIN_PASSWORD || password.len() > LONGEST_PASSWORD {
        return Err(Fault::Usage(format!(
            "the password must have at least {MIN_PASSWORD} characters and at most {LONGEST_PASSWORD} bytes"
        )));
    }
    Ok(password.to_owned())
}

fn hash(password: &str) -> Result<String, Fault> {
    outcrop_server::hash_password(password)
        .map_err(|error| Fault::Usage(format!("the password cannot be used: {error}")))
}

async fn list(database: DatabaseArgs, as_json: bool) -> Result<(), Fault> {
    let database = open(database).await?;
    let members = people::members(&database).await.map_err(|error| away(&error))?;
    if as_json {
        let items: Vec<_> = members
            .into_iter()
            .map(|row| {
                serde_json::json!({"email": row.email, "role": row.role, "created_at": row.created_at,
                    "tokens": row.tokens,
                    "sessions": row.sessions, "last_used_at": row.last_used_at})
            })
            .collect();
        return json(&serde_json::json!({"items": items}));
    }
    if members.is_empty() {
        return line("There is no member yet. Add one: outcrop admin member add EMAIL --role admin --password-stdin");
    }
    let now = Utc::now();
    let columns = [
        Column("member", Fit::Whole),
        Column("role", Fit::Whole),
        Column("added", Fit::Whole),
        Column("tokens", Fit::Number),
        Column("sessions", Fit::Number),
        Column("last seen", Fit::Whole),
    ];
    table(
        &columns,
        members.into_iter().map(|row| {
            let seen = row.last_used_at.map_or_else(|| "never".to_owned(), |at| ago(at, now));
            vec![
                row.email,
                row.role,
                time(row.created_at),
                grouped(row.tokens),
                grouped(row.sessions),
                seen,
            ]
        }),
    )
}
