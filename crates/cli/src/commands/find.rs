//! `outcrop find`: finds whatever was pasted.

use std::io::Read;

use clap::Args;
use outcrop_api::FoundPage;
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop find kobal-tirun\n  outcrop find 4bf92f3577b34da6a3ce929d0e0e4736\n  outcrop \
        find app/tariff.py:92\n  outcrop find 'fares answered 500'\n  journalctl -u fares -n 30 | outcrop find -"
)]
pub struct Find {
    /// What to find; - reads standard input.
    #[arg(value_name = "TEXT")]
    pub text: String,
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: Find) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let text = if arguments.text == "-" {
        let mut text = String::new();
        std::io::stdin()
            .read_to_string(&mut text)
            .map_err(|error| Fault::Usage(format!("standard input cannot be read: {error}")))?;
        text
    } else {
        arguments.text.clone()
    };
    let page: FoundPage = api.get("/find", &[("text", Some(text))]).await?;
    if arguments.client.json {
        return json(&page);
    }
    if page.items.is_empty() {
        return line(
            "Nothing known holds this: no reference, occurrence, trace, attribute, host, version, commit, route, \
             file, function, title or stack.",
        );
    }
    for item in &page.items {
        let next = match (&item.reference, &item.predicate) {
            (Some(reference), _) => format!("outcrop show {reference}"),
            (None, Some(predicate)) if item.by == "log lines" => {
                format!("outcrop logs --since 7d --where '{}'", predicate.replace('\'', "'\\''"))
            }
            (None, _) if item.by == "version" => {
                let (service, rest) = item.title.split_once(' ').unwrap_or((&item.title, ""));
                let (version, environment) = rest.split_once(" in ").unwrap_or((rest, ""));
                format!("outcrop deploy show {service}@{version} --environment {environment}")
            }
            (None, Some(predicate)) => format!(
                "outcrop errors --since 30d --where '{}'",
                predicate.replace('\'', "'\\''")
            ),
            (None, None) => String::new(),
        };
        line(format!("{} (by {})", printable(&item.title), item.by))?;
        line(format!("  {}", printable(&next)))?;
    }
    Ok(())
}
