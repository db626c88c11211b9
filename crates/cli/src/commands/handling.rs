//! Taking, settling, quieting, reopening errors, and notes on them.

use chrono::{TimeDelta, Utc};
use outcrop_api::{HandlingAction, HandlingState};
use outcrop_core::text::printable;

use crate::args::{Client, Note, Quiet, Reopen, Settle, Take};
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{json, line};

pub async fn take(arguments: Take) -> Result<(), Fault> {
    let action = if arguments.back {
        HandlingAction::HandBack
    } else {
        HandlingAction::Take { by: arguments.who }
    };
    act(&arguments.client, &arguments.reference, &action).await
}

pub async fn settle(arguments: Settle) -> Result<(), Fault> {
    act(
        &arguments.client,
        &arguments.reference,
        &HandlingAction::Settle {
            version: arguments.version,
        },
    )
    .await
}

pub async fn quiet(arguments: Quiet) -> Result<(), Fault> {
    let until = arguments
        .time
        .map(|text| {
            let time = humantime::parse_duration(&text)
                .map_err(|error| Fault::Usage(format!("--for {text}: {error}; write it like 2d")))?;
            Ok::<_, Fault>(
                Utc::now()
                    + TimeDelta::from_std(time).map_err(|error| Fault::Usage(format!("--for {text}: {error}")))?,
            )
        })
        .transpose()?;
    act(
        &arguments.client,
        &arguments.reference,
        &HandlingAction::Quiet {
            until,
            predicate: arguments.predicate,
        },
    )
    .await
}

pub async fn reopen(arguments: Reopen) -> Result<(), Fault> {
    act(&arguments.client, &arguments.reference, &HandlingAction::Reopen).await
}

pub async fn note(arguments: Note) -> Result<(), Fault> {
    act(
        &arguments.client,
        &arguments.reference,
        &HandlingAction::Note { text: arguments.text },
    )
    .await
}

async fn act(client: &Client, reference: &str, action: &HandlingAction) -> Result<(), Fault> {
    let state: HandlingState = Api::new(client)?
        .post(&format!("/errors/{reference}/handling"), &[], action)
        .await?;
    if client.json {
        return json(&state);
    }
    let facts: Vec<String> = [
        state.taken_by.as_ref().map(|who| format!("taken by {who}")),
        state.settled_in.as_ref().map(|version| format!("settled in {version}")),
        state.quiet_until.as_ref().map(|until| format!("quiet until {until}")),
        state.open.then(|| "open".to_owned()),
    ]
    .into_iter()
    .flatten()
    .collect();
    line(printable(&format!("{}: {}.", state.reference, facts.join(", "))))?;
    state
        .verdict
        .map_or(Ok(()), |verdict| line(printable(&verdict.sentence)))
}
