//! What happened to an error, in one course.

use chrono::Utc;
use clap::Args;
use outcrop_api::HistoryEntry;
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line, since, time};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop history kobal-tirun\n  outcrop history kobal-tirun --before \
        2026-11-20T00:00:00Z"
)]
pub struct History {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// Only what happened before this time, RFC 3339.
    #[arg(long, value_name = "T")]
    pub before: Option<chrono::DateTime<Utc>>,
    /// Entries at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    #[command(flatten)]
    pub client: Client,
}

/// Prints what people did and wrote, what was said of the error and the deploys around it, the newest first.
pub async fn run(arguments: History) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let query = [
        ("before", arguments.before.map(|at| at.to_rfc3339())),
        ("limit", Some(arguments.limit.to_string())),
    ];
    let history: outcrop_api::History = api
        .get(&format!("/errors/{}/history", arguments.reference), &query)
        .await?;
    if arguments.client.json {
        return json(&history);
    }
    if history.items.is_empty() {
        return line("Nothing happened to it that is kept.");
    }
    let now = Utc::now();
    for entry in &history.items {
        let head = format!("{}  {:>9}  ", time(entry.at), since(entry.at, now));
        let mut lines = said(entry).into_iter();
        line(printable(&format!("{head}{}", lines.next().unwrap_or_default())))?;
        lines.try_for_each(|more| line(printable(&format!("{}{more}", " ".repeat(head.chars().count())))))?;
    }
    match history.next {
        Some(next) => line(format!(
            "Older: outcrop history {} --before {}",
            arguments.reference,
            next.to_rfc3339_opts(chrono::SecondsFormat::AutoSi, true)
        )),
        None => Ok(()),
    }
}

/// An entry's lines: who, and what; a note of several lines keeps them.
fn said(entry: &HistoryEntry) -> Vec<String> {
    let text = match &entry.by {
        Some(by) => format!("{by} {}", entry.text),
        None => entry.text.clone(),
    };
    text.lines().map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use outcrop_api::HistoryKind;

    use super::*;

    #[test]
    fn a_note_keeps_its_lines_and_what_outcrop_says_has_no_name() {
        let entry = |by: Option<&str>, text: &str| HistoryEntry {
            at: Utc::now(),
            kind: HistoryKind::Note,
            by: by.map(str::to_owned),
            text: text.to_owned(),
        };
        assert_eq!(
            said(&entry(Some("purser"), "asked:\n- the tariff desk\n- the mate")),
            ["purser asked:", "- the tariff desk", "- the mate"]
        );
        assert_eq!(
            said(&entry(None, "fares 2.4.1 went into production")),
            ["fares 2.4.1 went into production"]
        );
    }
}
