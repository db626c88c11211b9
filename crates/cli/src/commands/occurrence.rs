//! `outcrop occurrence`: one occurrence in full.

use clap::Args;
use outcrop_api::OccurrenceDetail;
use outcrop_core::text::printable;
use serde_json::Value;

use super::stack;
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line, time};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop occurrence 0199aa2e5a02b8d1c4f04f6e1c0b7a55\n  outcrop occurrence \
        0199aa2e5a02b8d1c4f04f6e1c0b7a55 --json | jq .sent"
)]
pub struct Occurrence {
    /// The occurrence's id, 32 hex digits.
    pub id: String,
    #[command(flatten)]
    pub client: Client,
    /// Show library frames too.
    #[arg(long)]
    pub all_frames: bool,
}

pub async fn run(arguments: Occurrence) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let detail: OccurrenceDetail = api.get(&format!("/occurrences/{}", arguments.id), &[]).await?;
    if arguments.client.json {
        return json(&detail);
    }
    let item = &detail.occurrence;
    let uncaught = if item.uncaught { "uncaught" } else { "caught" };
    let endpoint = item
        .endpoint
        .as_deref()
        .map(|endpoint| format!(" at {endpoint}"))
        .unwrap_or_default();
    line(printable(&format!(
        "{} in {} {}{endpoint}, {}, {uncaught}.",
        named(&item.type_name),
        item.service,
        item.version,
        time(item.at)
    )))?;
    line(printable(&format!(
        "{} · {} · {} · {}",
        detail.error,
        item.id,
        item.environment,
        item.severity.word()
    )))?;
    line("")?;
    stack::print(
        &detail,
        if arguments.all_frames {
            stack::Frames::All
        } else {
            stack::Frames::OwnFirst
        },
    )?;
    line("")?;
    let parts = [
        ("host", &item.host),
        ("user", &item.user),
        ("trace", &item.trace_id),
        ("span", &item.span_id),
    ];
    for (name, part) in parts {
        if let Some(part) = part {
            line(format!("{name:<8}{}", printable(part)))?;
        }
    }
    for report in &detail.also_reported {
        let span = report
            .span_id
            .as_deref()
            .map_or_else(|| "without a trace".to_owned(), |span| format!("on span {span}"));
        line(printable(&format!(
            "also reported {} {span}: {} {}",
            time(report.at),
            report.type_name,
            report.message
        )))?;
    }
    for part in &detail.request {
        line(format!("\n{}", part.title))?;
        for row in &part.rows {
            line(printable(&format!("  {:<24}{}", row.label, short(&row.value))))?;
        }
    }
    attributes("Attributes", &detail.attributes)?;
    attributes("Resource", &detail.resource)?;
    let kept = if detail.sent.is_some() {
        format!("outcrop occurrence {} --json", item.id)
    } else {
        "not kept for this one (sampled)".to_owned()
    };
    line(format!("\nAs sent: {kept}"))
}

fn named(type_name: &str) -> &str {
    if type_name.is_empty() { "A failure" } else { type_name }
}

/// Longest value shown in the terminal, in characters; `--json` has it whole.
const MAX_SHOWN: usize = 300;

fn short(text: &str) -> String {
    let shown: String = text.chars().take(MAX_SHOWN).collect();
    if shown.len() < text.len() {
        format!("{shown} …")
    } else {
        shown
    }
}

fn attributes(title: &str, attributes: &Value) -> Result<(), Fault> {
    let Some(object) = attributes.as_object().filter(|object| !object.is_empty()) else {
        return Ok(());
    };
    line(format!("\n{title}"))?;
    let mut entries: Vec<(&String, &Value)> = object.iter().collect();
    entries.sort_by_key(|(name, _)| *name);
    for (name, value) in entries {
        let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        line(format!("  {} = {}", printable(name), printable(&short(&text))))?;
    }
    Ok(())
}
