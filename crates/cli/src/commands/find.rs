//! `outcrop find`: finds whatever was pasted.

use std::io::Read;

use outcrop_api::FoundPage;
use outcrop_core::text::printable;

use crate::args::Find;
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{json, line};

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
