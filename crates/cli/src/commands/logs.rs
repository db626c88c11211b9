//! Log lines and what they have in common.

use clap::{Args, ValueEnum};
use outcrop_api::{LogItem, LogPage, LogTemplates, Severity};
use outcrop_core::text::printable;

use super::traffic::query;
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};
use crate::window::TrafficWindow;

/// Severities, the least first.
#[derive(Clone, Copy, ValueEnum)]
pub enum Least {
    Trace,
    Debug,
    Info,
    Warn,
    Error,
    Fatal,
}

impl Least {
    /// As the API calls it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Trace => "trace",
            Self::Debug => "debug",
            Self::Info => "info",
            Self::Warn => "warn",
            Self::Error => "error",
            Self::Fatal => "fatal",
        }
    }
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop logs --service fares --severity warn --since 1h\n  outcrop logs --trace \
        4bf92f3577b34da6a3ce929d0e0e4736\n  \
    outcrop logs --error kobal-tirun --text timeout\n  outcrop logs --where 'berth = 7 and severity >= info'\n  \
    outcrop logs --templates --service fares      what lines have in common, and how often each came\n  \
    outcrop logs --like 0f3a…                     lines of one template, by the hash that --templates and --json show"
)]
pub struct Logs {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Only lines that match a predicate over sender, severity, message, trace, user and attributes.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// Only lines that hold this text, in any case.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Only lines of this severity or above.
    #[arg(long, value_enum)]
    pub severity: Option<Least>,
    /// Only lines of this trace.
    #[arg(long, value_name = "TRACE_ID")]
    pub trace: Option<String>,
    /// Only lines of traces in which this error occurred.
    #[arg(long, value_name = "REF")]
    pub error: Option<String>,
    /// Only lines of this template.
    #[arg(long, value_name = "TEMPLATE")]
    pub like: Option<String>,
    /// Count the templates of lines instead of listing lines.
    #[arg(long, conflicts_with_all = ["predicate", "trace", "error", "cursor"])]
    pub templates: bool,
    /// Compare with another period: `before` (just before the window, the default), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD", requires = "templates")]
    pub against: Option<String>,
    /// Lines per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

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
