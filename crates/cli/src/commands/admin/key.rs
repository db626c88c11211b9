use chrono::{DateTime, Utc};
use outcrop_server::Secret;
use outcrop_store::access::AccessError;
use outcrop_store::keys::{self, Bounds};
use serde::Serialize;

use super::{away, open, refused};
use crate::args::DatabaseArgs;
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, grouped, json, line, table, time};
use crate::settings::bytes;

pub async fn create(
    database: DatabaseArgs,
    name: &str,
    services: Vec<String>,
    environments: Vec<String>,
    per_minute: Option<String>,
) -> Result<(), Fault> {
    if name.trim().is_empty() {
        return Err(Fault::Usage("a key needs a name, such as the service or host it is for".to_owned()));
    }
    let per_minute = per_minute.map(|text| bytes("per-minute", &text)).transpose()?;
    let bytes_per_minute = per_minute.map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX));
    let database = open(database).await?;
    let secret = Secret::random("outcrop-key");
    let bounds = Bounds { services, environments, bytes_per_minute };
    keys::add(&database, name, &bounds, secret.digest()).await.map_err(|error| refused(&error))?;
    line(secret.expose())
}

pub async fn rotate(database: DatabaseArgs, name: &str, overlap_hours: u32) -> Result<(), Fault> {
    let database = open(database).await?;
    let secret = Secret::random("outcrop-key");
    keys::rotate(&database, name, secret.digest(), i64::from(overlap_hours) * 3_600).await.map_err(|error| not_in_use(name, &error))?;
    line(secret.expose())
}

pub async fn revoke(database: DatabaseArgs, name: &str) -> Result<(), Fault> {
    let database = open(database).await?;
    keys::revoke(&database, name).await.map_err(|error| not_in_use(name, &error))?;
    line(format!("{name} is revoked; what it sent stays"))
}

fn not_in_use(name: &str, error: &AccessError) -> Fault {
    match error {
        AccessError::Missing(_) => Fault::Usage(format!("there is no key `{name}` in use; `outcrop admin key list` lists them")),
        other => refused(other),
    }
}

/// A key in the JSON of `key list`.
#[derive(Serialize)]
struct Key {
    name: String,
    services: Vec<String>,
    environments: Vec<String>,
    bytes_per_minute: Option<i64>,
    created_at: DateTime<Utc>,
    last_used_at: Option<DateTime<Utc>>,
    previous_until: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
    requests_24h: i64,
    bytes_24h: i64,
    refused_24h: i64,
}

pub async fn list(database: DatabaseArgs, as_json: bool) -> Result<(), Fault> {
    let database = open(database).await?;
    let keys = keys::list(&database).await.map_err(|error| away(&error))?;
    if as_json {
        let items: Vec<Key> = keys
            .into_iter()
            .map(|row| Key {
                name: row.key.name,
                services: row.key.bounds.services,
                environments: row.key.bounds.environments,
                bytes_per_minute: row.key.bounds.bytes_per_minute,
                created_at: row.key.created_at,
                last_used_at: row.key.last_used_at,
                previous_until: row.key.previous_until,
                revoked_at: row.key.revoked_at,
                requests_24h: row.requests,
                bytes_24h: row.bytes,
                refused_24h: row.refused,
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
        keys.into_iter().map(|row| {
            let key = row.key;
            let all = |names: Vec<String>, all: &str| if names.is_empty() { all.to_owned() } else { names.join(", ") };
            let bounds = format!("{} in {}", all(key.bounds.services, "all"), all(key.bounds.environments, "all"));
            let used = key.last_used_at.map_or_else(|| "never".to_owned(), |at| ago(at, now));
            let state = match (key.revoked_at, key.previous_until) {
                (Some(at), _) => format!("revoked {}", time(at)),
                (None, Some(until)) => format!("in use, the secret before until {}", time(until)),
                (None, None) => "in use".to_owned(),
            };
            let numbers = [row.requests, row.bytes / 1_000, row.refused].map(grouped);
            [vec![key.name, bounds, time(key.created_at), used], numbers.to_vec(), vec![state]].concat()
        }),
    )
}
