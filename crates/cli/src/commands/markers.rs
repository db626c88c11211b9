//! Change markers.

use chrono::Utc;
use outcrop_api::{MarkerItem, MarkerList, NewMarker};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::args::{ListMarkers, MarkerCommand, RecordMarker};
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, json, line, table};

pub async fn run(command: MarkerCommand) -> Result<(), Fault> {
    match command {
        MarkerCommand::Record(arguments) => record(arguments).await,
        MarkerCommand::List(arguments) => list(arguments).await,
        MarkerCommand::Remove { id, client } => {
            Api::new(&client)?
                .send(Method::DELETE, &format!("/markers/{id}"), None::<&()>)
                .await?;
            line("Removed.")
        }
    }
}

async fn record(arguments: RecordMarker) -> Result<(), Fault> {
    let marker = NewMarker {
        title: arguments.title,
        kind: arguments.kind.name().to_owned(),
        at: arguments.at,
        ended_at: arguments.ended_at,
        service: arguments.service,
        environment: arguments.environment,
        link: arguments.link.unwrap_or_default(),
    };
    let made: MarkerItem = Api::new(&arguments.client)?.post("/markers", &[], &marker).await?;
    if arguments.client.json {
        return json(&made);
    }
    line(printable(&format!(
        "Marked as number {}: {}. What happens after it: outcrop marker list",
        made.id, made.title
    )))
}

async fn list(arguments: ListMarkers) -> Result<(), Fault> {
    let query = [
        ("since", Some(arguments.since.clone())),
        ("service", arguments.service),
        ("environment", arguments.environment),
    ];
    let list: MarkerList = Api::new(&arguments.client)?.get("/markers", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(format!(
            "No change was marked in the last {}. Mark one: outcrop marker record 'database upgraded' --kind database",
            arguments.since
        ));
    }
    let flagged = list.items.iter().filter(|item| item.check.outcome == "flagged").count();
    line(format!(
        "{flagged} of {} marked changes of the last {} were followed by a surge.\n",
        list.items.len(),
        arguments.since
    ))?;
    let now = Utc::now();
    let columns = [
        Column("n", Fit::Number),
        Column("when", Fit::Whole),
        Column("change", Fit::Text(24)),
        Column("may touch", Fit::Text(12)),
        Column("answer", Fit::Whole),
        Column("why", Fit::Text(24)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let touched = [item.service, item.environment]
                .into_iter()
                .flatten()
                .collect::<Vec<_>>()
                .join(" in ");
            let touched = if touched.is_empty() {
                "everything".to_owned()
            } else {
                touched
            };
            vec![
                item.id.to_string(),
                ago(item.at, now),
                format!("{} ({})", item.title, item.kind),
                touched,
                item.check.outcome,
                item.check.sentence,
            ]
        }),
    )
}
