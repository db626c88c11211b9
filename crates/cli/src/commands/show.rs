use chrono::Utc;
use outcrop_core::attention::percent;
use outcrop_core::text::printable;
use outcrop_server::wire::{ErrorDetail, OccurrenceDetail};

use super::errors::window_query;
use super::stack;
use crate::args::Show;
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table, time};

pub async fn run(arguments: Show) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let detail: ErrorDetail = api.get(&format!("/errors/{}", arguments.reference), &window_query(&arguments.window)).await?;
    if arguments.client.json {
        return json(&detail);
    }
    let error = &detail.error;
    let now = Utc::now();
    line(printable(&error.title))?;
    line(printable(&sentence(&detail, &arguments.window.since)))?;
    line(format!(
        "First seen {} in {} {}, last {} ({}).",
        time(error.first_seen),
        printable(&error.service),
        printable(&error.first_version),
        time(error.last_seen),
        if error.last_seen > now - chrono::TimeDelta::minutes(1) { "now".to_owned() } else { format!("{} ago", ago(error.last_seen, now)) },
    ))?;
    line(format!("Attention {}: {}.", error.attention.score, printable(&error.attention.reasons.join(", "))))?;
    line("")?;
    let columns = [
        Column("version", Fit::Whole),
        Column("environment", Fit::Whole),
        Column("occurrences", Fit::Number),
        Column("uncaught", Fit::Number),
        Column("first", Fit::Whole),
        Column("last", Fit::Whole),
    ];
    table(
        &columns,
        detail.sightings.iter().map(|row| {
            vec![
                row.version.clone(),
                row.environment.clone(),
                grouped(row.count),
                grouped(row.uncaught),
                time(row.first_seen),
                time(row.last_seen),
            ]
        }),
    )?;
    if let Some(latest) = &detail.latest_occurrence {
        let occurrence: OccurrenceDetail = api.get(&format!("/occurrences/{latest}"), &[]).await?;
        line("")?;
        line(format!("Latest occurrence {latest}, {}:", time(occurrence.occurrence.at)))?;
        stack::print(&occurrence, stack::Frames::OwnFirst)?;
    }
    line("")?;
    line(format!("More: outcrop occurrences {0} · outcrop show {0} --json", error.reference))
}

fn sentence(detail: &ErrorDetail, since: &str) -> String {
    let error = &detail.error;
    let place = error.own_frame.as_deref().map(|frame| format!(" in {frame}")).unwrap_or_default();
    let uncaught = if error.uncaught { "uncaught" } else { "caught" };
    let share =
        error.request_share.filter(|_| error.count > 0).map(|share| format!(", {} of its requests", percent(share))).unwrap_or_default();
    let what = if error.count == 0 {
        format!("none in the last {since}")
    } else {
        let users = if error.users == 0 { ", no user named".to_owned() } else { format!(" of {}", counted(error.users, "user", "users")) };
        format!("{}{users} in the last {since}{share}", counted(error.count, "occurrence", "occurrences"))
    };
    format!("{} · {}{place} · {uncaught}, {} · {what}", error.reference, error.service, error.severity.word())
}
