//! `outcrop admin audit`: what people changed in the set-up.

use clap::Args;
use outcrop_store::people::audit;

use super::{away, open};
use crate::fault::Fault;
use crate::output::{Column, Fit, json, line, table, time};
use crate::settings::DatabaseArgs;

#[derive(Args)]
pub struct AuditList {
    /// Changes at most, the newest first, 1 to 1000.
    #[arg(long, value_name = "N", default_value_t = 50, value_parser = clap::value_parser!(i64).range(1..=1_000))]
    pub limit: i64,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

pub async fn run(database: DatabaseArgs, arguments: AuditList) -> Result<(), Fault> {
    let database = open(database).await?;
    let entries = audit::list(&database, None, arguments.limit)
        .await
        .map_err(|error| away(&error))?;
    if arguments.json {
        let items: Vec<_> = entries
            .into_iter()
            .map(
                |entry| serde_json::json!({"at": entry.at, "by": entry.by, "did": entry.did, "subject": entry.subject}),
            )
            .collect();
        return json(&serde_json::json!({"items": items}));
    }
    if entries.is_empty() {
        return line("Nobody has changed anything in the set-up yet.");
    }
    let columns = [
        Column("when", Fit::Whole),
        Column("who", Fit::Text(16)),
        Column("did", Fit::Whole),
        Column("what", Fit::Text(20)),
    ];
    table(
        &columns,
        entries
            .into_iter()
            .map(|entry| vec![time(entry.at), entry.by, entry.did, entry.subject]),
    )
}
