use chrono::{DateTime, Utc};
use outcrop_server::Secret;
use outcrop_store::access;
use serde::Serialize;

use super::{away, open, refused};
use crate::args::DatabaseArgs;
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, json, line, table, time};

pub async fn create(database: DatabaseArgs, name: &str, services: &[String]) -> Result<(), Fault> {
    if name.trim().is_empty() {
        return Err(Fault::Usage("a key needs a name, such as the service or host it is for".to_owned()));
    }
    let database = open(database).await?;
    let secret = Secret::random("outcrop-key");
    access::add_key(&database, name, services, secret.digest()).await.map_err(|error| refused(&error))?;
    line(secret.expose())
}

pub async fn revoke(database: DatabaseArgs, name: &str) -> Result<(), Fault> {
    let database = open(database).await?;
    access::revoke_key(&database, name).await.map_err(|error| match error {
        access::AccessError::Missing(_) => Fault::Usage(format!("there is no key `{name}` in use; `outcrop admin key list` lists them")),
        other => refused(&other),
    })?;
    line(format!("{name} is revoked; what it sent stays"))
}

/// A key in the JSON of `key list`.
#[derive(Serialize)]
struct Key {
    name: String,
    services: Vec<String>,
    created_at: DateTime<Utc>,
    last_used_at: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
}

pub async fn list(database: DatabaseArgs, as_json: bool) -> Result<(), Fault> {
    let database = open(database).await?;
    let keys = access::keys(&database).await.map_err(|error| away(&error))?;
    if as_json {
        let items: Vec<Key> = keys
            .into_iter()
            .map(|key| Key {
                name: key.name,
                services: key.services,
                created_at: key.created_at,
                last_used_at: key.last_used_at,
                revoked_at: key.revoked_at,
            })
            .collect();
        return json(&serde_json::json!({"items": items}));
    }
    if keys.is_empty() {
        return line("There is no sender key yet. Make one: outcrop admin key create NAME");
    }
    let now = Utc::now();
    let columns = [
        Column("key", Fit::Whole),
        Column("services", Fit::Text(8)),
        Column("made", Fit::Whole),
        Column("last used", Fit::Whole),
        Column("state", Fit::Whole),
    ];
    table(
        &columns,
        keys.into_iter().map(|key| {
            let services = if key.services.is_empty() { "all".to_owned() } else { key.services.join(", ") };
            let used = key.last_used_at.map_or_else(|| "never".to_owned(), |at| ago(at, now));
            let state = key.revoked_at.map_or_else(|| "in use".to_owned(), |at| format!("revoked {}", time(at)));
            vec![key.name, services, time(key.created_at), used, state]
        }),
    )
}
