//! Log lines and what they have in common.

use outcrop_api::{LogItem, LogPage, LogTemplates, Severity};
use outcrop_core::text::printable;

use super::traffic::query;
use crate::args::Logs;
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};

pub async fn run(arguments: Logs) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.extend([
        ("where", arguments.predicate),
        ("text", arguments.text),
        (
            "severity",
            arguments.severity.map(|severity| severity.name().to_owned()),
        ),
        ("trace", arguments.trace),
        ("error", arguments.error),
        ("template", arguments.like),
        ("against", arguments.against.clone()),
        ("limit", Some(arguments.limit.to_string())),
        ("cursor", arguments.cursor),
    ]);
    let api = Api::new(&arguments.client)?;
    if arguments.templates {
        let list: LogTemplates = api.get("/logs/templates", &query).await?;
        return if arguments.client.json {
            json(&list)
        } else {
            templates(list, &arguments.window.since, arguments.against.as_deref())
        };
    }
    let page: LogPage = api.get("/logs", &query).await?;
    if arguments.client.json {
        return json(&page);
    }
    if let Some(note) = &page.note {
        return line(printable(&format!(
            "No such line came in the last {}: {note}",
            arguments.window.since
        )));
    }
    if page.items.is_empty() {
        return line(format!(
            "No such line came in the last {}. Lines are kept for a week unless set otherwise.",
            arguments.window.since
        ));
    }
    let columns = [
        Column("at", Fit::Whole),
        Column("severity", Fit::Whole),
        Column("service", Fit::Whole),
        Column("line", Fit::Text(40)),
        Column("trace", Fit::Whole),
    ];
    table(&columns, page.items.into_iter().map(row))?;
    match page.next {
        Some(next) => line(format!("\nOlder lines: --cursor {next}")),
        None => Ok(()),
    }
}

fn word(severity: Option<Severity>) -> String {
    severity.map_or("—", Severity::word).to_owned()
}

fn row(item: LogItem) -> Vec<String> {
    vec![
        time(item.at),
        word(item.severity),
        item.service,
        item.message,
        item.trace_id.unwrap_or_default(),
    ]
}

fn templates(list: LogTemplates, since: &str, against: Option<&str>) -> Result<(), Fault> {
    let Some(first) = list.items.first() else {
        return line(format!("No such line came in the last {since}."));
    };
    line(format!(
        "The most frequent line of the last {since} came {}: {}\n",
        counted(first.count, "time", "times"),
        printable(&first.text)
    ))?;
    let columns = [
        Column("lines", Fit::Number),
        Column(
            if against.is_none_or(|period| period == "before") {
                "before"
            } else {
                "then"
            },
            Fit::Number,
        ),
        Column("severity", Fit::Whole),
        Column("service", Fit::Whole),
        Column("what they say", Fit::Text(30)),
        Column("template", Fit::Whole),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            vec![
                grouped(item.count),
                grouped(item.before),
                word(item.severity),
                item.service,
                item.text,
                item.template,
            ]
        }),
    )
}
