//! `outcrop admin key`: sender keys, on the database directly.

use outcrop_api::KeyList;
use outcrop_server::Secret;
use outcrop_store::people::keys::Bounds;
use outcrop_store::people::{AccessError, keys};

use super::{away, note, open, refused};
use crate::commands::key::KeyCommand;
use crate::fault::Fault;
use crate::output::line;
use crate::settings::{DatabaseArgs, bytes};

pub async fn run(database: DatabaseArgs, command: KeyCommand, as_json: bool) -> Result<(), Fault> {
    match command {
        KeyCommand::Create {
            name,
            services,
            environments,
            per_minute,
        } => create(database, &name, services, environments, per_minute).await,
        KeyCommand::Rotate { name, overlap_hours } => rotate(database, &name, overlap_hours).await,
        KeyCommand::List => list(database, as_json).await,
        KeyCommand::Revoke { name } => revoke(database, &name).await,
    }
}

async fn create(
    database: DatabaseArgs,
    name: &str,
    services: Vec<String>,
    environments: Vec<String>,
    per_minute: Option<String>,
) -> Result<(), Fault> {
    if name.trim().is_empty() {
        return Err(Fault::Usage(
            "a key needs a name, such as the service or host it is for".to_owned(),
        ));
    }
    let per_minute = per_minute.map(|text| bytes("per-minute", &text)).transpose()?;
    let bytes_per_minute = per_minute.map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX));
    let database = open(database).await?;
    let secret = Secret::random("outcrop-key");
    let bounds = Bounds {
        services,
        environments,
        bytes_per_minute,
    };
    keys::add(&database, name, &bounds, secret.digest())
        .await
        .map_err(|error| refused(&error))?;
    note(&database, "made sender key", name).await?;
    line(secret.expose())
}

async fn rotate(database: DatabaseArgs, name: &str, overlap_hours: u32) -> Result<(), Fault> {
    let database = open(database).await?;
    let secret = Secret::random("outcrop-key");
    keys::rotate(&database, name, secret.digest(), i64::from(overlap_hours) * 3_600)
        .await
        .map_err(|error| not_in_use(name, &error))?;
    note(&database, "rotated sender key", name).await?;
    line(secret.expose())
}

async fn revoke(database: DatabaseArgs, name: &str) -> Result<(), Fault> {
    let database = open(database).await?;
    keys::revoke(&database, name)
        .await
        .map_err(|error| not_in_use(name, &error))?;
    note(&database, "revoked sender key", name).await?;
    line(format!("{name} is revoked; what it sent stays"))
}

fn not_in_use(name: &str, error: &AccessError) -> Fault {
    match error {
        AccessError::Missing(_) => Fault::Usage(format!(
            "there is no key `{name}` in use; `outcrop admin key list` lists them"
        )),
        other => refused(other),
    }
}

async fn list(database: DatabaseArgs, as_json: bool) -> Result<(), Fault> {
    let database = open(database).await?;
    let keys = keys::list(&database).await.map_err(|error| away(&error))?;
    let items = keys.into_iter().map(outcrop_server::key_item).collect();
    crate::commands::key::show(KeyList { items }, as_json)
}
